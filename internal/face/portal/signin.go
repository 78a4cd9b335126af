package portal

import (
	"context"
	"errors"
	"net"
	"net/http"
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
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
	return write(w, s.Door(r))
}

func (s *Server) signIn(w http.ResponseWriter, r *http.Request) error {
	var ask api.PortalSignIn
	if err := read(w, r, &ask); err != nil {
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
	return Site{Origin: scheme + r.Host, Host: hostOf(r)}
}

// askPasskey begins a sign-in by passkey.
func (s *Server) askPasskey(w http.ResponseWriter, r *http.Request) error {
	visit := s.Keeper.Arrive(addressOf(r), s.Told(r), func(*keep.Fault) {})
	defer visit.SignOut(nil)
	options, err := visit.AskPasskey(r.Context(), s.site(r))
	if err != nil {
		return err
	}
	return write(w, options)
}

func (s *Server) signInByPasskey(w http.ResponseWriter, r *http.Request) error {
	var ask api.PasskeyAnswer
	if err := read(w, r, &ask); err != nil {
		return err
	}
	return s.enter(w, r, func(visit Visit) (*tree.Tree, []keep.Secret, error) {
		opened, err := visit.ByPasskey(r.Context(), s.site(r), ask.ID, ask.Response)
		return opened, nil, err
	})
}

// enter lets a browser in whose holder is proved.
func (s *Server) enter(w http.ResponseWriter, r *http.Request, prove func(Visit) (*tree.Tree, []keep.Secret, error)) error {
	one := &stay{address: addressOf(r), client: client(r), since: time.Now(), until: time.Now().Add(stayLife), looks: make(chan struct{}, maxLooks)}
	one.ctx, one.cancel = context.WithCancelCause(context.Background())
	one.visit = s.Keeper.Arrive(one.address, s.Told(r), func(why *keep.Fault) { one.cancel(why) })
	one.visit.Named(one.client)
	opened, recovery, err := prove(one.visit)
	if err != nil {
		one.cancel(nil)
		one.visit.SignOut(nil)
		return err
	}
	one.tree, one.account = opened, opened.Account()
	one.timer = time.AfterFunc(one.idle(), one.stalled)
	secret := s.stays.begin(one)
	s.setCookie(w, r, secret.Reveal(), int(stayLife.Seconds()))
	return s.show(w, r, one, recovery)
}

// stalled ends a sign-in with which nothing is done any more.
func (one *stay) stalled() {
	if one.script {
		one.cancel(goodbye{})
		return
	}
	one.cancel(keep.Refuse(keep.Stalled, "nothing was asked for too long"))
}

// byToken lets a script in, or finds what its last request opened.
func (s *Server) byToken(r *http.Request, token string) (*stay, func(), error) {
	address := addressOf(r)
	secret := keep.Secret(token + "\x00" + address)
	for {
		if one, leave := s.stays.enter(secret, address); one != nil {
			return one, leave, nil
		}
		one := &stay{address: address, client: client(r), since: time.Now(), script: true, looks: make(chan struct{}, maxLooks)}
		one.ctx, one.cancel = context.WithCancelCause(context.Background())
		one.visit = s.Keeper.Arrive(one.address, s.Told(r), func(why *keep.Fault) { one.cancel(why) })
		one.visit.Named(one.client)
		opened, until, err := one.visit.ByToken(r.Context(), keep.Secret(token))
		if err != nil {
			one.cancel(nil)
			one.visit.SignOut(nil)
			return nil, nil, err
		}
		one.tree, one.account, one.until = opened, opened.Account(), until
		one.timer = time.AfterFunc(one.idle(), one.stalled)
		if s.stays.keep(one, secret) != one { // another request of the script was quicker
			one.cancel(goodbye{})
			one.end()
		}
	}
}

// client is what the browser calls itself.
func client(r *http.Request) string {
	name := r.UserAgent()
	return name[:min(len(name), 200)]
}

// changePassword gives an account another password that must change it before it may sign in.
func (s *Server) changePassword(w http.ResponseWriter, r *http.Request) error {
	var ask api.PortalPassword
	if err := read(w, r, &ask); err != nil {
		return err
	}
	visit := s.Keeper.Arrive(addressOf(r), s.Told(r), func(*keep.Fault) {})
	defer visit.SignOut(nil)
	// Only who knows the password is told that it must be changed: the same tries, the same lockouts.
	if err := proved(r, visit, ask.Account, ask.Now, keep.MustChange, "the password need not be changed here: sign in"); err != nil {
		return err
	}
	if err := visit.ChangePassword(r.Context(), ask.Account, keep.Secret(ask.Now), keep.Secret(ask.Next)); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// proved signs somebody in who is told for one reason that something must be done before; for that they are here.
func proved(r *http.Request, visit Visit, account, password string, because keep.Reason, otherwise string) error {
	_, _, err := visit.SignIn(r.Context(), SignIn{Account: account, Password: keep.Secret(password)})
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
	if err := read(w, r, &ask); err != nil {
		return err
	}
	visit := s.Keeper.Arrive(addressOf(r), s.Told(r), func(*keep.Fault) {})
	defer visit.SignOut(nil)
	if err := proved(r, visit, ask.Account, ask.Password, keep.CodeUnset, "one-time codes need not be set up here: sign in"); err != nil {
		return err
	}
	codes, err := s.Keeper.NewCodes(r.Context(), ask.Account)
	if err != nil {
		return err
	}
	return write(w, codes)
}

func (s *Server) signOut(w http.ResponseWriter, r *http.Request, one *stay) error {
	one.cancel(goodbye{})
	s.setCookie(w, r, "", -1)
	w.WriteHeader(http.StatusNoContent)
	return nil
}

func (s *Server) me(w http.ResponseWriter, r *http.Request, one *stay) error {
	return s.show(w, r, one, nil)
}

func (s *Server) show(w http.ResponseWriter, r *http.Request, one *stay, recovery []keep.Secret) error {
	holder := api.PortalHolder{Account: one.account, Name: s.Door(r).Name}
	if len(recovery) > 0 {
		holder.Recovery = reveal(recovery)
	}
	return write(w, holder)
}
