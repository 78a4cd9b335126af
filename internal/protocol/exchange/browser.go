package exchange

import (
	"net/http"

	"urbankeep/internal/keep"
)

// awayCookie is by what a browser is known that signs in elsewhere and comes back from there: awayFor seconds at the most.
const awayCookie, awayFor = "urbankeep-away", 600

func awayName(encrypted bool) string {
	if encrypted {
		return "__Host-" + awayCookie
	}
	return awayCookie
}

// Browser is what only a browser has that was sent elsewhere to sign in; "" for none.
func Browser(r *http.Request, encrypted bool) keep.Secret {
	cookie, err := r.Cookie(awayName(encrypted))
	if err != nil || len(cookie.Value) > 100 {
		return ""
	}
	return keep.Secret(cookie.Value)
}

// SendAway gives a browser what it is known by when it is back. It shows that also when another site sends it here (RFC 6265bis,
// section 5.5.7.1).
func SendAway(w http.ResponseWriter, encrypted bool, browser keep.Secret) {
	http.SetCookie(w, &http.Cookie{Name: awayName(encrypted), Value: browser.Reveal(), Path: "/", MaxAge: awayFor, HttpOnly: true, Secure: encrypted, SameSite: http.SameSiteLaxMode})
}
