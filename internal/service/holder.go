package service

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/desk/office"
	"urbankeep/internal/face/pass"
	"urbankeep/internal/face/portal"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/people/passwords"
	"urbankeep/internal/people/signin"
	"urbankeep/internal/records"
)

// What holders see and change of their own account on the portal; see [portal.Own].

// newestRecords bounds how much of what happened a holder is shown.
const newestRecords = 100

// codesName is what authenticators show beside an account's name, where the service has none.
const codesName = "Urban Keep"

func (v portalVisit) actor(a *keep.Effective) office.Actor {
	return office.Actor{Account: a.Name, Address: v.visitor.Address, Protocol: keep.Portal, Encrypted: v.visitor.Encrypted}
}

func (v portalVisit) Facts(ctx context.Context) (api.PortalAccount, error) {
	a, err := v.holder()
	if err != nil {
		return api.PortalAccount{}, err
	}
	secret, left, err := v.door.db.CodeSecret(ctx, a.ID)
	if err != nil {
		return api.PortalAccount{}, err
	}
	keys, err := v.door.office.Keys(ctx, a.Name)
	shown := api.PortalAccount{Account: a.Name, Password: a.PasswordHash != "", Proof: v.proof(a), TakesKeys: a.SignInBy.TakesKey() && a.MayUse(keep.SFTP), Codes: secret != "",
		CodesRequired: a.SecondFactor == keep.FactorRequired, RecoveryLeft: left, Keys: []api.Key{}}
	for _, k := range keys {
		shown.Keys = append(shown.Keys, api.KeyOf(k.Key, []string{}))
	}
	if err != nil {
		return shown, err
	}
	passkeys, err := v.door.db.AccountPasskeys(ctx, a.ID)
	if err != nil {
		return shown, err
	}
	shown.Passkeys = []api.Passkey{}
	for _, p := range passkeys {
		shown.Passkeys = append(shown.Passkeys, api.Passkey{ID: p.ID, Label: p.Label, Host: p.Host, Created: p.Created.UTC(), LastUsed: api.Known(p.LastUsed)})
	}
	tokens, err := v.door.db.AccountTokens(ctx, a.ID, time.Now())
	shown.Tokens = []api.PortalToken{}
	for _, t := range tokens {
		shown.Tokens = append(shown.Tokens, api.PortalToken{ID: t.ID, Label: t.Label, Path: t.Scope.Paths[0], Rights: t.Scope.Rights.Names(), Created: t.Created.UTC(), Expires: t.Expires.UTC(), LastUsed: api.Known(t.LastUsed)})
	}
	return shown, err
}

// site is where the browser has the portal, under the name of the organisation.
func (d *door) site(ctx context.Context, at portal.Site) signin.Site {
	who, err := d.office.Identity(ctx)
	if err != nil || who.Name == "" {
		who.Name = codesName
	}
	return signin.Site{Name: who.Name, Origin: at.Origin, Host: at.Host}
}

func (v portalVisit) AskPasskey(ctx context.Context, at portal.Site) (api.PasskeyAsk, error) {
	id, options, err := v.door.accounts.AskPasskey(v.visitor, v.door.site(ctx, at))
	return api.PasskeyAsk{ID: id, Options: options}, err
}

func (v portalVisit) ByPasskey(ctx context.Context, at portal.Site, id string, response []byte, code string) (*tree.Tree, error) {
	v.attempt.Code = code
	a, key, err := v.door.accounts.ByPasskey(ctx, v.visitor, &v.attempt, v.door.site(ctx, at), id, response)
	if err != nil {
		return nil, err
	}
	v.attempt.Key = key // what is removed ends what it let in
	return v.enter(ctx, a)
}

func (v portalVisit) NewPasskey(ctx context.Context, now keep.Secret, at portal.Site) (api.PasskeyAsk, error) {
	a, err := v.proved(ctx, now)
	if err != nil {
		return api.PasskeyAsk{}, err
	}
	id, options, err := v.door.accounts.NewPasskey(ctx, v.visitor, v.door.site(ctx, at), a)
	return api.PasskeyAsk{ID: id, Options: options}, err
}

func (v portalVisit) AddPasskey(ctx context.Context, at portal.Site, id, label string, response []byte) error {
	a, err := v.holder()
	if err != nil {
		return err
	}
	return v.door.accounts.AddPasskey(ctx, v.visitor, v.door.site(ctx, at), a, id, label, response)
}

func (v portalVisit) DropPasskey(ctx context.Context, id string) error {
	a, err := v.holder()
	if err == nil {
		err = v.door.accounts.DropPasskey(ctx, v.visitor, a, id)
	}
	if err == nil {
		v.door.endKey(a.Name, id, v.visit, keep.Refuse(keep.AccountChanged, "the passkey was removed"))
	}
	return err
}

func (v portalVisit) AddToken(ctx context.Context, now keep.Secret, ask api.PortalTokenNew) (keep.Secret, error) {
	a, err := v.proved(ctx, now)
	if err != nil {
		return "", err
	}
	at, err := keep.CleanPath("/", ask.Path)
	if err != nil {
		return "", &keep.FieldError{Field: "path", Say: "that is no path of a folder: " + err.Error()}
	}
	scope := keep.Scope{Paths: []string{at}}
	if scope.Rights, err = keep.ParseRights(strings.Join(ask.Rights, ",")); err != nil {
		return "", &keep.FieldError{Field: "rights", Say: err.Error()}
	}
	return v.door.accounts.NewToken(ctx, v.visitor, a.Name, ask.Label, scope, time.Duration(ask.Days)*24*time.Hour)
}

// DropToken ends a token, and what it let in.
func (v portalVisit) DropToken(ctx context.Context, id string) error {
	a, err := v.holder()
	if err == nil {
		err = v.door.accounts.DropToken(ctx, v.visitor, a.Name, id)
	}
	if err == nil {
		v.door.EndKey(a.Name, id, keep.Refuse(keep.AccountChanged, "the token was ended"))
	}
	return err
}

func (v portalVisit) Strength(password keep.Secret) api.Strength {
	a, err := v.holder()
	if err != nil {
		return api.Strength{}
	}
	return api.Strength(passwords.Estimate(password, a.Name))
}

// freshFor is how long after a single sign-on its holder need not prove themselves once more.
const freshFor = 10 * time.Minute

// proof is what a holder shows once more before something that stays is changed.
func (v portalVisit) proof(a *keep.Effective) string {
	s := v.door.accounts.Book.Source(a.Source)
	switch {
	case s != nil && s.Kind == keep.SSOKind:
		return "sign-in"
	case a.HasPassword():
		return "password"
	}
	return "none"
}

// proved is the holder, once they have shown the password again, or where there is none have just signed in.
func (v portalVisit) proved(ctx context.Context, now keep.Secret) (*keep.Effective, error) {
	a, err := v.holder()
	if err != nil {
		return nil, err
	}
	v.mu.Lock()
	age := time.Since(v.since)
	v.mu.Unlock()
	if v.proof(a) == "sign-in" && age >= 0 && age < freshFor {
		return a, nil
	}
	return a, v.door.accounts.Prove(ctx, v.visitor, a.Name, now)
}

func (v portalVisit) SetPassword(ctx context.Context, now, next keep.Secret) error {
	a, err := v.proved(ctx, now)
	if err != nil {
		return err
	}
	if now == next {
		return &keep.FieldError{Field: "password", Say: "it is the one you have: choose another"}
	}
	if err := v.door.accounts.SetPassword(ctx, v.visitor, a.Name, next); err != nil {
		return err
	}
	v.passwordChanged(a.Name)
	return nil
}

func (d portalDoor) NewCodes(ctx context.Context, account string) (api.Codes, error) {
	who, err := d.office.Identity(ctx)
	if err != nil {
		return api.Codes{}, err
	}
	codes, err := signin.NewCodes(cmp.Or(who.Name, codesName), account)
	if err != nil {
		return api.Codes{}, err
	}
	return api.Codes{Secret: codes.Secret.Reveal(), URI: codes.URI.Reveal(), Picture: codes.Picture}, nil
}

func (v portalVisit) NewCodes(ctx context.Context) (api.Codes, error) {
	a, err := v.holder()
	if err != nil {
		return api.Codes{}, err
	}
	return portalDoor{v.door}.NewCodes(ctx, a.Name)
}

func (v portalVisit) UseCodes(ctx context.Context, now, secret keep.Secret, code string) ([]keep.Secret, error) {
	a, err := v.proved(ctx, now)
	if err != nil {
		return nil, err
	}
	return v.door.accounts.UseCodes(ctx, v.visitor, a.Name, secret, code)
}

func (v portalVisit) DropCodes(ctx context.Context, now keep.Secret) error {
	a, err := v.proved(ctx, now)
	if err != nil {
		return err
	}
	return v.door.accounts.DropCodes(ctx, v.visitor, a.Name)
}

func (v portalVisit) AddKeys(ctx context.Context, now keep.Secret, text, label string) error {
	a, err := v.proved(ctx, now)
	if err != nil {
		return err
	}
	ask := office.NewKeys{Text: text, Own: true}
	if label != "" {
		ask.Rules.Label = &label
	}
	_, err = v.door.office.AddKeys(ctx, v.actor(a), a.Name, ask)
	return err
}

func (v portalVisit) RemoveKey(ctx context.Context, id int64) error {
	a, err := v.holder()
	if err != nil {
		return err
	}
	return v.door.office.RemoveKey(ctx, v.actor(a), a.Name, id)
}

func (v portalVisit) Records(ctx context.Context) ([]api.AuditRecord, error) {
	a, err := v.holder()
	if err != nil {
		return nil, err
	}
	v.door.trail.Settle(ctx)
	found, _, err := v.door.db.SearchAudit(ctx, records.AuditQuery{Account: a.Name, Since: a.Created.Add(-time.Second), Limit: newestRecords})
	shown := []api.AuditRecord{}
	for i := range found {
		shown = append(shown, api.RecordOf(&found[i]))
	}
	return shown, err
}

func (v portalVisit) Sheet(ctx context.Context, host string) (any, error) {
	a, err := v.holder()
	if err != nil {
		return nil, err
	}
	return v.door.office.Handover(ctx, a.Name, host)
}

// MayPass says which passes the holder may make, and how long they may live.
func (v portalVisit) MayPass() (keep.PassKinds, time.Duration) {
	a, err := v.holder()
	if err != nil {
		return keep.NoPasses, 0
	}
	longest := a.PassTime.Duration()
	if longest <= 0 || longest > keep.MaxPassTime {
		longest = keep.MaxPassTime
	}
	return a.Passes, longest
}

func (v portalVisit) Passes(ctx context.Context) ([]api.Pass, error) {
	a, err := v.holder()
	if err != nil {
		return nil, err
	}
	now := time.Now()
	found, err := v.door.db.Passes(ctx, records.PassQuery{Account: a.Name, Ended: true, Limit: keep.MaxPasses}, now)
	shown := []api.Pass{}
	for _, p := range found {
		shown = append(shown, api.PassOf(p.Pass, p.Name, now))
	}
	return shown, err
}

// AddPass makes a pass of the holder's own.
func (v portalVisit) AddPass(ctx context.Context, at portal.Site, ask api.PassNew) (api.PassMade, error) {
	a, err := v.holder()
	if err != nil {
		return api.PassMade{}, err
	}
	p, life, err := ask.Pass()
	if err != nil {
		return api.PassMade{}, err
	}
	p, secret, err := v.door.office.AddPass(ctx, v.actor(a), a.Name, p, keep.Secret(ask.Password), life)
	if err != nil {
		return api.PassMade{}, err
	}
	origin, shut, err := v.door.office.Origin(ctx, keep.PassesFace)
	if err != nil {
		return api.PassMade{}, err
	}
	made := api.PassMade{Pass: api.PassOf(p, a.Name, time.Now()), Link: origin + pass.Prefix + secret.Reveal() + "/", Shut: shut}
	if ask.MailTo != "" && shut != "" {
		made.MailError = shut
	} else if ask.MailTo != "" {
		if made.Mailed, err = v.door.office.MailPass(ctx, a.Name, ask.MailTo, made.Link, p); err != nil {
			made.MailError = err.Error()
		}
	}
	return made, nil
}

func (v portalVisit) EndPass(ctx context.Context, id string) error {
	a, err := v.holder()
	if err != nil {
		return err
	}
	return v.door.office.EndPass(ctx, v.actor(a), id)
}

func (v portalVisit) PassUses(ctx context.Context, id string) ([]api.PassUse, error) {
	a, err := v.holder()
	if err != nil {
		return nil, err
	}
	p, err := v.door.office.NamedPass(ctx, v.actor(a), id)
	if err != nil {
		return nil, err
	}
	found, err := v.door.db.PassUses(ctx, p.ID)
	shown := []api.PassUse{}
	for _, u := range found {
		shown = append(shown, api.UseOf(u))
	}
	return shown, err
}

// Notices are what the holder is told by mail.
func (v portalVisit) Notices(ctx context.Context) (api.OwnNotices, error) {
	a, err := v.holder()
	if err != nil {
		return api.OwnNotices{}, err
	}
	mine, err := v.door.office.OwnNotices(ctx, a.Name)
	if err != nil {
		return api.OwnNotices{}, err
	}
	server, err := v.door.office.MailServer(ctx)
	shown := api.OwnNotices{Mail: a.Mail, Ready: server.Host != "" && a.Mail != "", Items: []api.OwnNotice{}, Events: []api.NoticeEvent{}}
	for _, e := range api.NoticeEvents() {
		if slices.Contains(office.OwnEvents, e.Event) {
			shown.Events = append(shown.Events, e)
		}
	}
	for _, n := range mine {
		one := api.OwnNotice{ID: n.Name, Events: n.Events, Self: n.Self}
		if len(n.Paths) > 0 {
			one.Path = n.Paths[0]
		}
		shown.Items = append(shown.Items, one)
	}
	return shown, err
}

// AddNotice has the holder told of something more.
func (v portalVisit) AddNotice(ctx context.Context, ask api.OwnNoticeNew) error {
	a, err := v.holder()
	if err == nil {
		_, err = v.door.office.AddOwnNotice(ctx, v.actor(a), ask.Events, ask.Path, ask.Self)
	}
	return err
}

// RemoveNotice has the holder told of it no more.
func (v portalVisit) RemoveNotice(ctx context.Context, id string) error {
	a, err := v.holder()
	if err == nil {
		err = v.door.office.RemoveOwnNotice(ctx, v.actor(a), id)
	}
	return err
}
