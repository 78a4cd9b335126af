package demo

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"errors"
	"html/template"
	"net"
	"net/http"
	"net/url"
	"slices"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"

	"urbankeep/internal/desk/office"
	"urbankeep/internal/keep"
	"urbankeep/internal/service"
)

// The harbour office's single sign-on, small: whoever is at its page says who they are.
const (
	harbourClient = "urban-keep-files"
	harbourSecret = "shared-with-the-harbour-6"
	harbourSuffix = "@harbour.portselwyn.example"
	// maxSigningIn bounds the sign-ins that are not at their end.
	maxSigningIn = 100
)

// harbourPerson is somebody of the harbour office.
type harbourPerson struct {
	Name, Does string
	groups     []string
}

var harbour = []harbourPerson{{"ada", "pilot", []string{"surveyors"}}, {"joost", "looks after the machines", []string{"surveyors", "it-desk"}}, {"piet", "cook; no group of his has anything to do here", []string{"kitchen"}}}

// harbourOffice is a provider of OpenID Connect: discovery, keys, the page and the tokens of the code flow, and nothing else.
type harbourOffice struct {
	issuer string
	key    *rsa.PrivateKey
	sign   jose.Signer

	mu    sync.Mutex
	codes map[string]harbourSignIn
}

// harbourSignIn is somebody who has said who they are.
type harbourSignIn struct {
	who                      harbourPerson
	redirect, nonce, promise string
}

var harbourPage = template.Must(template.New("").Parse(`<!DOCTYPE html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>Harbour office</title>
<style>body{font:18px/1.5 system-ui,sans-serif;max-width:30em;margin:12vh auto;padding:0 1em;color:#223}button{font:inherit;display:block;width:100%;margin:.5em 0;padding:.6em 1em;text-align:left}</style>
<h1>Harbour office of Port Selwyn</h1><p>A stand-in of the demo: nobody is asked for a password. Who are you?</p>
<form method="post">{{range .}}<button name="who" value="{{.Name}}"><b>{{.Name}}</b>, {{.Does}}</button>{{end}}</form></html>`))

// openHarbour starts the stand-in for the harbour office's single sign-on.
func openHarbour() (issuer string, stop func(), err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	h := &harbourOffice{issuer: "http://" + l.Addr().String(), codes: map[string]harbourSignIn{}}
	if h.key, err = rsa.GenerateKey(rand.Reader, 2048); err == nil {
		h.sign, err = jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: h.key, KeyID: "one"}}, nil)
	}
	if err != nil {
		return "", nil, errors.Join(err, l.Close())
	}
	server := &http.Server{Handler: h, ReadTimeout: 10 * time.Second, WriteTimeout: 10 * time.Second, MaxHeaderBytes: 64 << 10}
	var serving sync.WaitGroup
	serving.Go(func() { server.Serve(l) })
	return h.issuer, func() { server.Close(); serving.Wait() }, nil
}

func (h *harbourOffice) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 64<<10)
	switch r.URL.Path {
	case "/.well-known/openid-configuration":
		reply(w, map[string]any{"issuer": h.issuer, "authorization_endpoint": h.issuer + "/sign-in", "token_endpoint": h.issuer + "/tokens", "jwks_uri": h.issuer + "/keys", "response_types_supported": []string{"code"},
			"subject_types_supported": []string{"public"}, "id_token_signing_alg_values_supported": []string{"RS256"}, "code_challenge_methods_supported": []string{"S256"}, "authorization_response_iss_parameter_supported": true})
	case "/keys":
		reply(w, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: h.key.Public(), KeyID: "one", Algorithm: "RS256", Use: "sig"}}})
	case "/sign-in":
		h.signIn(w, r)
	case "/tokens":
		h.tokens(w, r)
	default:
		http.NotFound(w, r)
	}
}

func reply(w http.ResponseWriter, it any) {
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(it)
}

func (h *harbourOffice) signIn(w http.ResponseWriter, r *http.Request) {
	back, err := url.Parse(r.URL.Query().Get("redirect_uri"))
	if err != nil || back.Path != keep.SSOBack || r.URL.Query().Get("client_id") != harbourClient || r.URL.Query().Get("code_challenge_method") != "S256" {
		http.Error(w, "only the service of the demo is served here", http.StatusBadRequest)
		return
	}
	at := slices.IndexFunc(harbour, func(p harbourPerson) bool { return p.Name == r.PostFormValue("who") })
	if at < 0 {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		harbourPage.Execute(w, harbour)
		return
	}
	code := rand.Text()
	h.mu.Lock()
	if len(h.codes) >= maxSigningIn {
		h.codes = map[string]harbourSignIn{}
	}
	h.codes[code] = harbourSignIn{harbour[at], back.String(), r.URL.Query().Get("nonce"), r.URL.Query().Get("code_challenge")}
	h.mu.Unlock()
	back.RawQuery = url.Values{"code": {code}, "state": {r.URL.Query().Get("state")}, "iss": {h.issuer}}.Encode()
	http.Redirect(w, r, back.String(), http.StatusSeeOther)
}

func (h *harbourOffice) tokens(w http.ResponseWriter, r *http.Request) {
	client, secret, _ := r.BasicAuth()
	h.mu.Lock()
	one, ok := h.codes[r.PostFormValue("code")]
	delete(h.codes, r.PostFormValue("code"))
	h.mu.Unlock()
	kept := sha256.Sum256([]byte(r.PostFormValue("code_verifier")))
	if !ok || client != harbourClient || subtle.ConstantTimeCompare([]byte(secret), []byte(harbourSecret)) != 1 || r.PostFormValue("redirect_uri") != one.redirect || base64.RawURLEncoding.EncodeToString(kept[:]) != one.promise {
		w.WriteHeader(http.StatusBadRequest)
		reply(w, map[string]string{"error": "invalid_grant"})
		return
	}
	now := time.Now()
	claims, _ := json.Marshal(map[string]any{"iss": h.issuer, "sub": "person-" + one.who.Name, "aud": harbourClient, "nonce": one.nonce, "iat": now.Unix(), "exp": now.Add(time.Minute).Unix(),
		"preferred_username": one.who.Name, "email": one.who.Name + harbourSuffix, "email_verified": true, "groups": one.who.groups})
	var token string
	made, err := h.sign.Sign(claims)
	if err == nil {
		token, err = made.CompactSerialize()
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Cache-Control", "no-store")
	reply(w, map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "expires_in": 60, "id_token": token})
}

// askHarbour has the harbour office's people sign in there.
func (c *city) askHarbour(ctx context.Context, s *service.Service, issuer string) error {
	ilse := office.Actor{Operator: "ilse", Role: keep.Owner, Address: "127.0.0.1", Protocol: keep.Console}
	_, err := s.Office.SetSource(ctx, ilse, "harbour-office", true, func(now *keep.Source) error {
		*now = keep.Source{Name: "harbour-office", Kind: keep.SSOKind, Standard: keep.OpenID, Label: "the harbour office", Note: "who works at the harbour office (a stand-in)", Servers: []string{issuer}, KnownAs: harbourClient, Secret: harbourSecret,
			Suffix: harbourSuffix, Makes: true, Table: []keep.GroupRow{{Theirs: "surveyors", Ours: "surveyors"}}, Roles: []keep.RoleRow{{Theirs: "it-desk", Role: keep.Auditor}}}
		return nil
	})
	if err != nil {
		return err
	}
	_, err = s.Office.SetRoutes(ctx, ilse, func(now []keep.Route) ([]keep.Route, error) {
		return append(now, keep.Route{Pattern: "*" + harbourSuffix, Sources: []string{"harbour-office"}}), nil
	})
	return err
}
