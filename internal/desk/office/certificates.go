package office

import (
	"context"
	"strings"

	"urbankeep/internal/keep"
	"urbankeep/internal/keys/certificate"
)

// FollowCertificate uses a certificate in files on the service's machine, and
// whatever they become.
func (o *Office) FollowCertificate(ctx context.Context, who Actor, name string, f certificate.Files) (certificate.Facts, error) {
	return o.putCertificate(ctx, who, name, func(k *certificate.Keeper) error { return k.Follow(ctx, f) })
}

// StoreCertificate keeps a certificate and its key.
func (o *Office) StoreCertificate(ctx context.Context, who Actor, name string, text, key keep.Secret) (certificate.Facts, error) {
	return o.putCertificate(ctx, who, name, func(k *certificate.Keeper) error { return k.Store(ctx, text, key) })
}

// RenewCertificate makes a new self-signed certificate, for the host name that clients
// use too.
func (o *Office) RenewCertificate(ctx context.Context, who Actor, name string) (certificate.Facts, error) {
	i, err := o.Identity(ctx)
	if err != nil {
		return certificate.Facts{}, err
	}
	return o.putCertificate(ctx, who, name, func(k *certificate.Keeper) error { return k.Renew(ctx, i.Host) })
}

// ObtainCertificate gets a certificate from an authority (ACME), and renews it from then on.
// New: with a new account there.
func (o *Office) ObtainCertificate(ctx context.Context, who Actor, name string, order certificate.Order, anew bool) (certificate.Facts, error) {
	return o.putCertificate(ctx, who, name, func(k *certificate.Keeper) error { return k.Obtain(ctx, order, anew) })
}

// RemoveCertificate forgets a certificate that no listener shows by its name.
func (o *Office) RemoveCertificate(ctx context.Context, who Actor, name string) error {
	o.changing.Lock()
	defer o.changing.Unlock()
	found, err := o.DB.Listeners(ctx)
	if err != nil {
		return err
	}
	var users []string
	for _, l := range found {
		if l.Certificate == name {
			users = append(users, l.Name)
		}
	}
	if len(users) > 0 {
		return keep.Refuse(keep.InUse, "listeners show it: "+strings.Join(users, ", ")+": give them another first (listener set NAME -certificate …)")
	}
	if err := o.Certificates.Remove(ctx, name); err != nil {
		return err
	}
	return o.record(who, keep.CertificateSet, name, "removed")
}

func (o *Office) putCertificate(ctx context.Context, who Actor, name string, do func(*certificate.Keeper) error) (certificate.Facts, error) {
	facts, err := o.Certificates.Put(ctx, name, do)
	if err != nil {
		return facts, err
	}
	detail := facts.Files.Certificate
	if facts.Order != nil {
		detail = "from " + facts.Order.Directory + " for " + strings.Join(facts.Order.Hosts, ", ")
	}
	return facts, o.record(who, keep.CertificateSet, facts.Fingerprint, detail)
}
