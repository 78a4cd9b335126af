package office

import (
	"context"
	"errors"
	"slices"
	"strings"

	"urbankeep/internal/keep"
)

// checkListener checks a listener by itself and beside the others.
func (o *Office) checkListener(l *keep.Listener, others []keep.Listener) error {
	if err := l.Check(); err != nil {
		return err
	}
	if l.Redirect != "" && !strings.Contains(l.Redirect, ":") && !slices.ContainsFunc(others, func(to keep.Listener) bool {
		return to.Name == l.Redirect && to.Protocol == keep.Web && to.Encryption == keep.EncryptionRequired
	}) {
		return &keep.FieldError{Field: "redirect", Say: "there is no web listener with TLS named " + l.Redirect + ": make it first, or give an origin as in https://files.example.org"}
	}
	if l.Certificate != "" && o.Certificates.Named(l.Certificate) == nil {
		return &keep.FieldError{Field: "certificate", Say: "there is no certificate named " + l.Certificate + ": certificate list shows them"}
	}
	for _, other := range others {
		if err := l.CheckBeside(other); err != nil {
			return err
		}
	}
	return nil
}

// AddListener makes a listener and starts it. One that can't start is not made.
func (o *Office) AddListener(ctx context.Context, who Actor, l keep.Listener, meant bool) (keep.Listener, error) {
	o.changing.Lock()
	defer o.changing.Unlock()
	found, err := o.DB.Listeners(ctx)
	if err != nil {
		return l, err
	}
	for _, other := range found {
		if other.Name == l.Name {
			return l, &keep.FieldError{Field: "name", Say: "the name is taken: choose another, or change that listener"}
		}
	}
	if err := o.checkListener(&l, found); err != nil {
		return l, err
	}
	if err := o.minded(who, keep.Listener{}, l, meant); err != nil {
		return l, err
	}
	if err := o.Live.Apply(l); err != nil {
		return l, err
	}
	err = o.changed(ctx, who, keep.ListenerAdd, listeners, l.Name, nil, l, func(ctx context.Context) error { return o.DB.SaveListener(ctx, l) })
	if err != nil {
		o.Live.Remove(l.Name)
	}
	return l, err
}

// SetListener changes a listener. Its sessions stay; what it asks of clients
// holds for new connections. A change that can't be carried out changes nothing, and neither does one that
// would shut out who makes it, or let passwords go in clear, unless that is meant.
func (o *Office) SetListener(ctx context.Context, who Actor, name string, edit func(*keep.Listener), meant bool) (keep.Listener, error) {
	o.changing.Lock()
	defer o.changing.Unlock()
	l, others, err := o.findListener(ctx, name)
	if err != nil {
		return l, err
	}
	before := l
	edit(&l)
	if err := o.checkListener(&l, others); err != nil {
		return l, err
	}
	if err := o.minded(who, before, l, meant); err != nil {
		return l, err
	}
	if err := o.Live.Apply(l); err != nil {
		return l, err
	}
	err = o.changed(ctx, who, keep.ListenerSet, listeners, name, before, l, func(ctx context.Context) error { return o.DB.SaveListener(ctx, l) })
	if err != nil {
		err = errors.Join(err, o.Live.Apply(before))
	}
	return l, err
}

// RemoveListener removes a listener; its open sessions stay. One by which the operator came
// who asks is removed only when that is meant, and none to which others send requests on.
func (o *Office) RemoveListener(ctx context.Context, who Actor, name string, meant bool) error {
	o.changing.Lock()
	defer o.changing.Unlock()
	l, others, err := o.findListener(ctx, name)
	if err != nil {
		return err
	}
	for _, other := range others {
		if other.Redirect == name {
			return keep.Refuse(keep.InUse, "the listener "+other.Name+" sends requests on to it: change that first (listener set "+other.Name+" -redirect …)")
		}
	}
	if err := o.minded(who, l, keep.Listener{Name: name, Protocol: l.Protocol, Stopped: true}, meant); err != nil {
		return err
	}
	if err := o.changed(ctx, who, keep.ListenerRemove, listeners, name, l, nil, func(ctx context.Context) error { return o.DB.DeleteListener(ctx, name) }); err != nil {
		return err
	}
	o.Live.Remove(name)
	return nil
}

// minded refuses a change that its maker would regret, unless it is meant.
func (o *Office) minded(who Actor, before, after keep.Listener, meant bool) error {
	if meant {
		return nil
	}
	if why := shutsOut(who, &before, &after); why != "" {
		return keep.Refuse(keep.ShutsYouOut, "that would shut you out: you came by the listener "+before.Name+", "+why+". Say that you mean it, or come another way")
	}
	if after.InClear() && !before.InClear() {
		return keep.Refuse(keep.InClear, "without TLS, others could read passwords and files on the way: listen on 127.0.0.1, name the proxies before it, or say that you mean it")
	}
	return nil
}

// shutsOut says why an operator could not go on after a change; "" when that is not so.
func shutsOut(who Actor, before, after *keep.Listener) string {
	switch {
	case who.Listener == "" || who.Listener != before.Name:
		return ""
	case !after.Serves(keep.ConsoleFace):
		return "which would not serve the console any more"
	case after.Address != before.Address:
		return "which would have another address"
	case after.Encryption != before.Encryption:
		return "which would be reached in another way (https instead of http, or the other way round)"
	case !after.Admits(who.Address):
		return "whose rules would not let your address in, " + who.Address
	case !after.Answers(who.Host):
		return "which would not answer to the name " + keep.BareHost(who.Host)
	case after.Proxies.String() != before.Proxies.String() || after.Forwarded != before.Forwarded:
		return "and would be asked for by other proxies"
	}
	return ""
}

func (o *Office) findListener(ctx context.Context, name string) (l keep.Listener, others []keep.Listener, err error) {
	found, err := o.DB.Listeners(ctx)
	if err != nil {
		return l, nil, err
	}
	err = keep.NoSuch("listener", name)
	for _, one := range found {
		if one.Name == name {
			l, err = one, nil
		} else {
			others = append(others, one)
		}
	}
	return l, others, err
}

// LiftLockout ends the lockout of an address or account.
func (o *Office) LiftLockout(who Actor, name string) error {
	if !o.Guard.Lift(name) {
		return keep.Refuse(keep.NotFound, "neither an address nor an account of that name is locked out: lockout list shows who is")
	}
	return o.record(who, keep.LockoutLift, name, "")
}
