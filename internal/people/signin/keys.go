package signin

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"urbankeep/internal/keep"
	"urbankeep/internal/keys/pubkey"
	"urbankeep/internal/people/source"
	"urbankeep/internal/records"
)

const (
	// offerPace is how long the refusal of an offered key takes, whatever the
	// reason for it: an account that is not there, a key it has not, one expired.
	offerPace = 30 * time.Millisecond
	// maxRefused bounds the refused keys that one connection is remembered with.
	maxRefused = 8
)

// Offer reports whether an account may sign in with a key. The client has proved
// nothing yet, so nothing is recorded: clients offer all the keys they have. What
// was refused is kept for [Accounts.Abandon].
func (a *Accounts) Offer(ctx context.Context, v Visitor, t *Attempt, name string, key ssh.PublicKey) bool {
	ctx = a.Guard.known(ctx, v)
	pace := time.NewTimer(offerPace)
	defer pace.Stop()
	_, _, why := a.match(ctx, v, name, key)
	if why == "" {
		return true
	}
	t.name = name
	if told := ssh.FingerprintSHA256(plain(key)) + " (" + why + ")"; len(t.refused) < maxRefused && !slices.Contains(t.refused, told) {
		t.refused = append(t.refused, told)
	}
	select {
	case <-pace.C:
	case <-ctx.Done():
	}
	return false
}

// KeyProved signs in an account whose client has proved that it holds the key;
// [ErrPasswordToo] when the account's password must follow.
func (a *Accounts) KeyProved(ctx context.Context, v Visitor, t *Attempt, name string, key ssh.PublicKey) (*keep.Effective, error) {
	started := time.Now()
	ctx = a.Guard.known(ctx, v)
	account, p, why := a.match(ctx, v, name, key)
	if why != "" {
		return nil, a.fail(ctx, v, name, started, keep.BadCredentials, "the key "+ssh.FingerprintSHA256(plain(key))+" was refused: "+why, nil)
	}
	if account == nil {
		settled, err := a.Settle(ctx, v, p.source.Source, keep.SignInName(name), nil, p.person)
		if err != nil {
			return nil, a.fail(ctx, v, name, started, keep.SourceAway, "the account can't be as "+p.source.Name+" says: "+err.Error(), err)
		}
		account = settled
	}
	account, reason, why := a.still(ctx, v, account)
	if why != "" {
		return nil, a.fail(ctx, v, name, started, reason, "the key "+p.fingerprint+" is right, but "+why, nil)
	}
	if account.SignInBy == keep.ByBoth {
		t.name, t.proved = name, &p
		return nil, ErrPasswordToo
	}
	return a.admit(ctx, v, t, account, started, p.fingerprint, p.how)
}

// Abandon records a connection that offered keys in vain and left.
func (a *Accounts) Abandon(v Visitor, t *Attempt) {
	if len(t.refused) == 0 && t.proved == nil {
		return
	}
	r := v.record(t.name, keep.SignIn)
	r.Outcome, r.Reason = keep.Refused, keep.BadCredentials
	r.Detail = "no key it offered was good: " + strings.Join(t.refused, ", ")
	if t.proved != nil {
		r.Target, r.Detail = t.proved.fingerprint, "a good key, but no password after it"
	}
	a.Repeats.Refused(r)
	a.count(v, t.name)
	*t = Attempt{}
}

// match finds the account and what of it a key opens; or says why it opens nothing.
func (a *Accounts) match(ctx context.Context, v Visitor, name string, key ssh.PublicKey) (*keep.Effective, proved, string) {
	holder, err := a.DB.Holder(ctx, name)
	if errors.Is(err, records.ErrNotFound) && !a.Guard.Locked(name, v.Address) {
		return a.matchElsewhere(ctx, v, name, nil, key)
	}
	if err != nil {
		return nil, proved{}, "no such account"
	}
	if a.Guard.Locked(name, v.Address) {
		return nil, proved{}, lockedOut
	}
	if !holder.Account.SignInBy.TakesKey() {
		return nil, proved{}, "the account signs in with a password only"
	}
	certificate, isCertificate := key.(*ssh.Certificate)
	sought := key
	if isCertificate {
		sought = certificate.SignatureKey
	}
	blob := sought.Marshal()
	at := slices.IndexFunc(holder.Keys, func(k keep.Key) bool { return k.Authority == isCertificate && bytes.Equal(k.Blob, blob) })
	if at < 0 && isCertificate {
		return nil, proved{}, "a certificate of the authority " + ssh.FingerprintSHA256(sought) + ", which is not one the account trusts"
	}
	if at < 0 && holder.Account.Source != "" {
		return a.matchElsewhere(ctx, v, name, holder.Account, key)
	}
	if at < 0 {
		return nil, proved{}, notIts
	}
	k := &holder.Keys[at]
	if why := k.Usable(time.Now(), v.Address); why != "" {
		return nil, proved{}, why
	}
	how := "key"
	if isCertificate {
		if err := checkCertificate(certificate, holder, v.Address); err != nil {
			return nil, proved{}, err.Error()
		}
		how = fmt.Sprintf("certificate %q, serial %d, for the key %s", certificate.KeyId, certificate.Serial, ssh.FingerprintSHA256(certificate.Key))
	}
	return holder.Account, proved{fingerprint: k.Fingerprint, how: how}, ""
}

// notIts is why most keys are refused.
const notIts = "not one of the account's"

// matchElsewhere looks for a key among those that a source knows somebody by; account is nil where there is none yet.
func (a *Accounts) matchElsewhere(ctx context.Context, v Visitor, name string, account *keep.Effective, key ssh.PublicKey) (*keep.Effective, proved, string) {
	name = keep.SignInName(name)
	route, why := a.askElsewhere(name, account)
	if _, isCertificate := key.(*ssh.Certificate); route == nil || why != nil || isCertificate || account == nil && keep.CheckName("name", name) != nil {
		return nil, proved{}, map[bool]string{true: "no such account", false: notIts}[account == nil]
	}
	for _, of := range route.Sources {
		s := a.Book.Source(of)
		if s == nil || s.KeyAttribute == "" || account == nil && !s.Makes || account != nil && account.Source != of {
			continue
		}
		p, err := s.Look(ctx, name)
		if err != nil {
			why := s.Name + ": " + err.Error()
			if errors.Is(err, source.ErrNobody) && account == nil {
				continue
			}
			return nil, proved{}, why
		}
		for _, text := range p.Keys {
			readings, err := pubkey.Read(text)
			for _, r := range readings {
				if err != nil || r.Err != nil || r.Key.Authority || !bytes.Equal(r.Key.Blob, key.Marshal()) {
					continue
				}
				if why := r.Key.Usable(time.Now(), v.Address); why != "" {
					return nil, proved{}, why
				}
				found := proved{fingerprint: r.Key.Fingerprint, how: "key, of " + s.Name}
				if account == nil {
					found.source, found.person = s, p
				}
				return account, found, ""
			}
		}
		if account == nil {
			return nil, proved{}, "none of those that " + s.Name + " knows"
		}
	}
	return nil, proved{}, map[bool]string{true: "no such account", false: notIts}[account == nil]
}

// The critical options of user certificates, as the PROTOCOL.certkeys file of the
// suite that introduced them has them. One that isn't known makes the
// certificate invalid.
const sourceAddress = "source-address"

// checkCertificate checks a user certificate against the account. Its principals
// must name the account: an authority that several accounts trust must not open
// them all with one certificate.
func checkCertificate(c *ssh.Certificate, holder records.Holder, from string) error {
	checker := ssh.CertChecker{SupportedCriticalOptions: []string{sourceAddress}}
	switch {
	case c.CertType != ssh.UserCert:
		return fmt.Errorf("a host's certificate, not a user's")
	case len(c.ValidPrincipals) == 0:
		return fmt.Errorf("a certificate without principals: it must name the account")
	case c.Key.Type() == ssh.KeyAlgoRSA && pubkey.Bits(c.Key) < pubkey.MinRSA, c.Key.Type() == ssh.InsecureKeyAlgoDSA:
		return fmt.Errorf("a certificate for a weak key")
	}
	if err := checker.CheckCert(holder.Account.Name, c); err != nil {
		return fmt.Errorf("an invalid certificate: %s", strings.TrimPrefix(err.Error(), "ssh: "))
	}
	if list, limited := c.CriticalOptions[sourceAddress]; limited {
		networks, err := keep.ParseNetworks(sourceAddress, list)
		if err != nil || !networks.Has(from) {
			return fmt.Errorf("a certificate that may be used from %s only", list)
		}
	}
	return nil
}

// plain is the key itself where it comes in a certificate.
func plain(key ssh.PublicKey) ssh.PublicKey {
	if c, ok := key.(*ssh.Certificate); ok {
		return c.Key
	}
	return key
}
