package portal

import (
	"errors"
	"net"
	"net/http"
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/exchange"
)

// hostOf is the name by which a browser reached the portal, without the port.
func hostOf(r *http.Request) string {
	if host, _, err := net.SplitHostPort(r.Host); err == nil {
		return host
	}
	return r.Host
}

// door tells whose portal it is.
func (s *Server) door(w http.ResponseWriter, r *http.Request) error {
	said := s.Door(r)
	_, err := r.Cookie(s.cookie(r))
	said.Known = err == nil
	return exchange.Write(w, said)
}

func (s *Server) signIn(w http.ResponseWriter, r *http.Request) error {
	var ask api.PortalSignIn
	if err := exchange.ReadFirst(w, r, &ask); err != nil {
		return err
	}
	return s.enter(w, r, func(visit Visit) (*tree.Tree, []keep.Secret, error) {
		return visit.SignIn(r.Context(), SignIn{ask.Account, keep.Secret(ask.Password), ask.Code, keep.Secret(ask.Secret)})
	})
}

// site is where the browser has the portal.
func (s *Server) site(r *http.Request) Site {
	scheme := "http://"
	if s.Told(r) {
		scheme = "https://"
	}
	return Site{Origin: scheme + r.Host, Host: hostOf(r), Passes: s.ShowsPasses(r)}
}

// passing is somebody at the door, who does not come in by what is asked for.
func (s *Server) passing(r *http.Request) Visit {
	return s.Keeper.Arrive(exchange.AddressOf(r), s.Told(r), func(*keep.Fault) {})
}

// askPasskey begins a sign-in by passkey.
func (s *Server) askPasskey(w http.ResponseWriter, r *http.Request) error {
	visit := s.passing(r)
	defer visit.SignOut(nil)
	options, err := visit.AskPasskey(r.Context(), s.site(r))
	if err != nil {
		return err
	}
	return exchange.Write(w, options)
}

func (s *Server) signInByPasskey(w http.ResponseWriter, r *http.Request) error {
	var ask api.PasskeyAnswer
	if err := exchange.ReadFirst(w, r, &ask); err != nil {
		return err
	}
	return s.enter(w, r, func(visit Visit) (*tree.Tree, []keep.Secret, error) {
		opened, err := visit.ByPasskey(r.Context(), s.site(r), ask.ID, ask.Response, ask.Code)
		return opened, nil, err
	})
}

// enter lets a browser in whose holder is proved.
func (s *Server) enter(w http.ResponseWriter, r *http.Request, prove func(Visit) (*tree.Tree, []keep.Secret, error)) error {
	one, recovery, err := s.admit(w, r, prove)
	if err != nil {
		return err
	}
	return s.show(w, r, one, recovery)
}

// admit begins the stay of a holder who is proved; nil where nobody comes in by that.
func (s *Server) admit(w http.ResponseWriter, r *http.Request, prove func(Visit) (*tree.Tree, []keep.Secret, error)) (*stay, []keep.Secret, error) {
	one := &stay{Stay: exchange.Arrive(r), looks: make(chan struct{}, maxLooks)}
	one.visit = s.Keeper.Arrive(one.Address, s.Told(r), func(why *keep.Fault) { one.Cancel(why) })
	one.visit.Named(one.Client)
	opened, recovery, err := prove(one.visit)
	if err != nil || opened == nil {
		one.Cancel(nil)
		one.visit.SignOut(nil)
		return nil, nil, err
	}
	one.settle(opened, time.Now().Add(stayLife))
	secret := s.stays.Begin(one)
	s.setCookie(w, r, secret.Reveal(), int(stayLife.Seconds()))
	return one, recovery, nil
}

// byToken lets a script in, or finds what its last request opened.
func (s *Server) byToken(r *http.Request, token string) (*stay, func(), error) {
	address := exchange.AddressOf(r)
	secret := keep.Secret(token + "\x00" + address)
	for {
		if one, leave, in := s.stays.Enter(secret, address); in {
			return one, leave, nil
		}
		one := &stay{Stay: exchange.Arrive(r), script: true, looks: make(chan struct{}, maxLooks)}
		one.visit = s.Keeper.Arrive(one.Address, s.Told(r), func(why *keep.Fault) { one.Cancel(why) })
		one.visit.Named(one.Client)
		opened, until, err := one.visit.ByToken(r.Context(), keep.Secret(token))
		if err != nil {
			one.Cancel(nil)
			one.visit.SignOut(nil)
			return nil, nil, err
		}
		one.settle(opened, until)
		if s.stays.Keep(one, secret) != one { // another request of the script was quicker
			one.Cancel(exchange.Goodbye{})
			one.End()
		}
	}
}

// changePassword gives an account another password that must change it before it may sign in.
func (s *Server) changePassword(w http.ResponseWriter, r *http.Request) error {
	var ask api.PortalPassword
	if err := exchange.ReadFirst(w, r, &ask); err != nil {
		return err
	}
	visit := s.passing(r)
	defer visit.SignOut(nil)
	// Only who knows the password is told that it must be changed: the same tries, the same lockouts.
	if err := proved(r, visit, ask.Account, ask.Now, keep.MustChange, "the password need not be changed here: sign in"); err != nil {
		return err
	}
	if err := visit.ChangePassword(r.Context(), ask.Account, keep.Secret(ask.Now), keep.Secret(ask.Next), ask.Code); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// proved signs somebody in who is told for one reason that something must be done before; for that they are here.
func proved(r *http.Request, visit Visit, account, password string, because keep.Reason, otherwise string) error {
	opened, _, err := visit.SignIn(r.Context(), SignIn{Account: account, Password: keep.Secret(password)})
	if opened != nil {
		defer opened.Close()
	}
	var fault *keep.Fault
	switch {
	case err == nil:
		return keep.Refuse(keep.BadRequest, otherwise)
	case errors.As(err, &fault) && fault.Reason == because:
		return nil
	}
	return err
}

// firstCodes makes the secret of one-time codes for an account that must set them up before it may sign in.
func (s *Server) firstCodes(w http.ResponseWriter, r *http.Request) error {
	var ask api.PortalNew
	if err := exchange.ReadFirst(w, r, &ask); err != nil {
		return err
	}
	visit := s.passing(r)
	defer visit.SignOut(nil)
	if err := proved(r, visit, ask.Account, ask.Password, keep.CodeUnset, "one-time codes need not be set up here: sign in"); err != nil {
		return err
	}
	codes, err := s.Keeper.NewCodes(r.Context(), ask.Account)
	if err != nil {
		return err
	}
	return exchange.Write(w, codes)
}

func (s *Server) signOut(w http.ResponseWriter, r *http.Request, one *stay) error {
	one.Cancel(exchange.Goodbye{})
	s.setCookie(w, r, "", -1)
	w.WriteHeader(http.StatusNoContent)
	return nil
}

func (s *Server) me(w http.ResponseWriter, r *http.Request, one *stay) error {
	return s.show(w, r, one, nil)
}

func (s *Server) show(w http.ResponseWriter, r *http.Request, one *stay, recovery []keep.Secret) error {
	holder := api.PortalHolder{Account: one.account, Name: s.Door(r).Name, Passes: keep.NoPasses}
	if !one.script {
		kinds, longest := one.visit.MayPass()
		holder.Passes, holder.PassDays = kinds, longest.Hours()/24
	}
	if len(recovery) > 0 {
		holder.Recovery = reveal(recovery)
	}
	return exchange.Write(w, holder)
}
