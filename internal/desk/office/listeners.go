package office

import (
	"context"
	"errors"

	"urbankeep/internal/keep"
	"urbankeep/internal/keys/certificate"
)

// checkListener checks a listener by itself and beside the others.
func checkListener(l *keep.Listener, others []keep.Listener) error {
	if err := l.Check(); err != nil {
		return err
	}
	for _, other := range others {
		if err := l.CheckBeside(other); err != nil {
			return err
		}
	}
	return nil
}

// AddListener makes a listener and starts it. One that can't start is not made.
func (o *Office) AddListener(ctx context.Context, who Actor, l keep.Listener) (keep.Listener, error) {
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
	if err := checkListener(&l, found); err != nil {
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
// holds for new connections. A change that can't be carried out changes nothing.
func (o *Office) SetListener(ctx context.Context, who Actor, name string, edit func(*keep.Listener)) (keep.Listener, error) {
	o.changing.Lock()
	defer o.changing.Unlock()
	l, others, err := o.findListener(ctx, name)
	if err != nil {
		return l, err
	}
	before := l
	edit(&l)
	if err := checkListener(&l, others); err != nil {
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

// RemoveListener removes a listener; its open sessions stay.
func (o *Office) RemoveListener(ctx context.Context, who Actor, name string) error {
	o.changing.Lock()
	defer o.changing.Unlock()
	l, _, err := o.findListener(ctx, name)
	if err != nil {
		return err
	}
	if err := o.changed(ctx, who, keep.ListenerRemove, listeners, name, l, nil, func(ctx context.Context) error { return o.DB.DeleteListener(ctx, name) }); err != nil {
		return err
	}
	o.Live.Remove(name)
	return nil
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

// FollowCertificate uses a certificate in files on the service's machine, and
// whatever they become.
func (o *Office) FollowCertificate(ctx context.Context, who Actor, f certificate.Files) error {
	return o.certificateSet(who, o.Certificate.Follow(ctx, f))
}

// StoreCertificate keeps a certificate and its key.
func (o *Office) StoreCertificate(ctx context.Context, who Actor, text, key keep.Secret) error {
	return o.certificateSet(who, o.Certificate.Store(ctx, text, key))
}

// RenewCertificate makes a new self-signed certificate, for the host name that clients
// use too.
func (o *Office) RenewCertificate(ctx context.Context, who Actor) error {
	i, err := o.Identity(ctx)
	if err != nil {
		return err
	}
	return o.certificateSet(who, o.Certificate.Renew(ctx, i.Host))
}

func (o *Office) certificateSet(who Actor, err error) error {
	if err != nil {
		return err
	}
	facts := o.Certificate.Facts()
	return o.record(who, keep.CertificateSet, facts.Fingerprint, facts.Files.Certificate)
}

// LiftLockout ends the lockout of an address or account.
func (o *Office) LiftLockout(who Actor, name string) error {
	if !o.Guard.Lift(name) {
		return keep.Refuse(keep.NotFound, "neither an address nor an account of that name is locked out: lockout list shows who is")
	}
	return o.record(who, keep.LockoutLift, name, "")
}
