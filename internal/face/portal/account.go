package portal

import (
	"context"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/exchange"
)

// Own is what holders see and change of their own account. Whatever stays after they have left
// takes the password once more, as now.
type Own interface {
	Facts(ctx context.Context) (api.PortalAccount, error)
	Strength(password keep.Secret) api.Strength
	SetPassword(ctx context.Context, now, next keep.Secret) error
	NewCodes(ctx context.Context) (api.Codes, error)
	UseCodes(ctx context.Context, now, secret keep.Secret, code string) (recovery []keep.Secret, err error)
	DropCodes(ctx context.Context, now keep.Secret) error
	AddKeys(ctx context.Context, now keep.Secret, text, label string) error
	RemoveKey(ctx context.Context, id int64) error
	AddToken(ctx context.Context, now keep.Secret, ask api.PortalTokenNew) (keep.Secret, error)
	DropToken(ctx context.Context, id string) error
	NewPasskey(ctx context.Context, now keep.Secret, at Site) (api.PasskeyAsk, error)
	AddPasskey(ctx context.Context, at Site, id, label string, response []byte) error
	DropPasskey(ctx context.Context, id string) error
	// MayPass says which passes the holder may make, and how long they may live.
	MayPass() (keep.PassKinds, time.Duration)
	// Passes are the holder's, those too that have ended lately.
	Passes(ctx context.Context) ([]api.Pass, error)
	AddPass(ctx context.Context, at Site, ask api.PassNew) (api.PassMade, error)
	EndPass(ctx context.Context, id string) error
	PassUses(ctx context.Context, id string) ([]api.PassUse, error)
	// Notices are what the holder is told by mail.
	Notices(ctx context.Context) (api.OwnNotices, error)
	AddNotice(ctx context.Context, ask api.OwnNoticeNew) error
	RemoveNotice(ctx context.Context, id string) error
	// Records are the newest of the account.
	Records(ctx context.Context) ([]api.AuditRecord, error)
	// Sheet says how the account is used with other programs, on a host.
	Sheet(ctx context.Context, host string) (any, error)
}

func (s *Server) accountRoutes() map[string]func(http.ResponseWriter, *http.Request, *stay) error {
	at := apiPrefix + "/account"
	return map[string]func(http.ResponseWriter, *http.Request, *stay) error{
		"GET " + at:                              s.account,
		"POST " + at + "/strength":               s.strength,
		"POST " + at + "/password":               s.setPassword,
		"POST " + at + "/codes/new":              s.newCodes,
		"POST " + at + "/codes":                  s.useCodes,
		"POST " + at + "/codes/off":              s.dropCodes,
		"POST " + at + "/keys":                   s.addKeys,
		"DELETE " + at + "/keys/{id}":            s.removeKey,
		"POST " + at + "/passkeys/ask":           s.newPasskey,
		"POST " + at + "/passkeys":               s.addPasskey,
		"DELETE " + at + "/passkeys/{id}":        s.dropPasskey,
		"POST " + at + "/tokens":                 s.addToken,
		"DELETE " + at + "/tokens/{id}":          s.dropToken,
		"DELETE " + at + "/sessions/{id}":        s.endSession,
		"GET " + at + "/records":                 s.records,
		"GET " + at + "/sheet":                   s.sheet,
		"GET " + apiPrefix + "/passes":           s.passes,
		"POST " + apiPrefix + "/passes":          s.addPass,
		"DELETE " + apiPrefix + "/passes/{id}":   s.endPass,
		"GET " + apiPrefix + "/passes/{id}/uses": s.passUses,
		"GET " + apiPrefix + "/notices":          s.notices,
		"POST " + apiPrefix + "/notices":         s.addNotice,
		"DELETE " + apiPrefix + "/notices/{id}":  s.removeNotice,
	}
}

func (s *Server) account(w http.ResponseWriter, r *http.Request, one *stay) error {
	facts, err := one.visit.Facts(r.Context())
	if err != nil {
		return err
	}
	facts.Sessions = []api.PortalSession{}
	for id, other := range s.staysOf(one.account) {
		facts.Sessions = append(facts.Sessions, api.PortalSession{ID: id, Address: other.Address, Client: other.Client, Since: other.Since.UTC(), This: other == one})
	}
	slices.SortFunc(facts.Sessions, func(a, b api.PortalSession) int { return b.Since.Compare(a.Since) })
	return exchange.Write(w, facts)
}

func (s *Server) strength(w http.ResponseWriter, r *http.Request, one *stay) error {
	var ask api.PortalOwnPassword
	if err := exchange.Read(w, r, &ask); err != nil {
		return err
	}
	return exchange.Write(w, one.visit.Strength(keep.Secret(ask.Next)))
}

// setPassword ends the account's other sign-ins here.
func (s *Server) setPassword(w http.ResponseWriter, r *http.Request, one *stay) error {
	var ask api.PortalOwnPassword
	if err := exchange.Read(w, r, &ask); err != nil {
		return err
	}
	err := one.visit.SetPassword(r.Context(), keep.Secret(ask.Now), keep.Secret(ask.Next))
	if err == nil {
		for _, other := range s.staysOf(one.account) {
			if other != one {
				other.Cancel(keep.Refuse(keep.AccountChanged, "the password was changed"))
			}
		}
	}
	return exchange.DoneWith(w, err)
}

func (s *Server) newCodes(w http.ResponseWriter, r *http.Request, one *stay) error {
	codes, err := one.visit.NewCodes(r.Context())
	if err != nil {
		return err
	}
	return exchange.Write(w, codes)
}

func (s *Server) useCodes(w http.ResponseWriter, r *http.Request, one *stay) error {
	var ask api.PortalCodes
	if err := exchange.Read(w, r, &ask); err != nil {
		return err
	}
	recovery, err := one.visit.UseCodes(r.Context(), keep.Secret(ask.Now), keep.Secret(ask.Secret), ask.Code)
	if err != nil {
		return err
	}
	return exchange.Write(w, api.Recovery{Recovery: reveal(recovery)})
}

// reveal shows codes to who is to keep them.
func reveal(secrets []keep.Secret) []string {
	shown := []string{}
	for _, one := range secrets {
		shown = append(shown, one.Reveal())
	}
	return shown
}

func (s *Server) dropCodes(w http.ResponseWriter, r *http.Request, one *stay) error {
	var ask api.PortalNow
	if err := exchange.Read(w, r, &ask); err != nil {
		return err
	}
	return exchange.DoneWith(w, one.visit.DropCodes(r.Context(), keep.Secret(ask.Now)))
}

func (s *Server) addKeys(w http.ResponseWriter, r *http.Request, one *stay) error {
	var ask api.PortalKey
	if err := exchange.Read(w, r, &ask); err != nil {
		return err
	}
	return exchange.DoneWith(w, one.visit.AddKeys(r.Context(), keep.Secret(ask.Now), ask.Key, ask.Label))
}

func (s *Server) removeKey(w http.ResponseWriter, r *http.Request, one *stay) error {
	id, err := strconv.ParseInt(r.PathValue("id"), 10, 64)
	if err != nil {
		return errNoAddress
	}
	return exchange.DoneWith(w, one.visit.RemoveKey(r.Context(), id))
}

// endSession ends a sign-in of the holder's with a browser.
func (s *Server) endSession(w http.ResponseWriter, r *http.Request, one *stay) error {
	for id, other := range s.staysOf(one.account) {
		if id == r.PathValue("id") {
			other.Cancel(exchange.Goodbye{})
			return exchange.DoneWith(w, nil)
		}
	}
	return keep.Refuse(keep.NotFound, "that sign-in has ended")
}

func (s *Server) records(w http.ResponseWriter, r *http.Request, one *stay) error {
	found, err := one.visit.Records(r.Context())
	if err != nil {
		return err
	}
	return exchange.Write(w, api.Page[api.AuditRecord]{Items: found})
}

func (s *Server) sheet(w http.ResponseWriter, r *http.Request, one *stay) error {
	sheet, err := one.visit.Sheet(r.Context(), hostOf(r))
	if err != nil {
		return err
	}
	return exchange.Write(w, sheet)
}

// staysOf are the sign-ins of an account, by what names them to their holder.
func (s *Server) staysOf(account string) map[string]*stay {
	found := s.stays.All()
	maps.DeleteFunc(found, func(_ string, one *stay) bool { return one.account != account || time.Now().After(one.Until) })
	return found
}

func (s *Server) addToken(w http.ResponseWriter, r *http.Request, one *stay) error {
	var ask api.PortalTokenNew
	if err := exchange.Read(w, r, &ask); err != nil {
		return err
	}
	token, err := one.visit.AddToken(r.Context(), keep.Secret(ask.Now), ask)
	if err != nil {
		return err
	}
	return exchange.Write(w, api.PortalTokenMade{Token: token.Reveal()})
}

func (s *Server) dropToken(w http.ResponseWriter, r *http.Request, one *stay) error {
	return exchange.DoneWith(w, one.visit.DropToken(r.Context(), r.PathValue("id")))
}

func (s *Server) newPasskey(w http.ResponseWriter, r *http.Request, one *stay) error {
	var ask api.PortalNow
	if err := exchange.Read(w, r, &ask); err != nil {
		return err
	}
	options, err := one.visit.NewPasskey(r.Context(), keep.Secret(ask.Now), s.site(r))
	if err != nil {
		return err
	}
	return exchange.Write(w, options)
}

func (s *Server) addPasskey(w http.ResponseWriter, r *http.Request, one *stay) error {
	var ask api.PasskeyAnswer
	if err := exchange.Read(w, r, &ask); err != nil {
		return err
	}
	return exchange.DoneWith(w, one.visit.AddPasskey(r.Context(), s.site(r), ask.ID, ask.Label, ask.Response))
}

func (s *Server) dropPasskey(w http.ResponseWriter, r *http.Request, one *stay) error {
	return exchange.DoneWith(w, one.visit.DropPasskey(r.Context(), r.PathValue("id")))
}
