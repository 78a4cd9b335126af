package office

import (
	"urbankeep/internal/keep"
	"urbankeep/internal/keys/hostkey"
	"urbankeep/internal/keys/pubkey"
)

// MakeHostKey makes a host key, which is announced to clients from then on.
func (o *Office) MakeHostKey(who Actor, kind pubkey.Kind) (hostkey.Key, error) {
	k, err := o.HostKeys.Make(kind)
	return k, o.hostKeyChanged(who, keep.HostKeyAdd, k, err)
}

// ImportHostKey takes a host key that was made elsewhere.
func (o *Office) ImportHostKey(who Actor, private, passphrase keep.Secret) (hostkey.Key, error) {
	k, err := o.HostKeys.Import(private, passphrase)
	return k, o.hostKeyChanged(who, keep.HostKeyAdd, k, err)
}

// UseHostKey puts a host key in use for new connections.
func (o *Office) UseHostKey(who Actor, id string) (hostkey.Key, error) {
	k, err := o.HostKeys.Use(id)
	return k, o.hostKeyChanged(who, keep.HostKeyUse, k, err)
}

// RemoveHostKey deletes a host key.
func (o *Office) RemoveHostKey(who Actor, id string) error {
	k, err := o.HostKeys.Remove(id)
	return o.hostKeyChanged(who, keep.HostKeyRemove, k, err)
}

func (o *Office) hostKeyChanged(who Actor, action keep.Action, k hostkey.Key, err error) error {
	if err != nil {
		return err
	}
	return o.record(who, action, k.Fingerprint(), k.Type())
}
