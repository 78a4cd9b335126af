package hostkey_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
	"urbankeep/internal/keys/hostkey"
	"urbankeep/internal/keys/pubkey"
)

// states counts the keys in each state.
func states(r *hostkey.Ring) map[hostkey.State]int {
	found := map[hostkey.State]int{}
	for _, k := range r.Keys() {
		found[k.State]++
	}
	return found
}

func TestHostKeysLiveThroughAnnouncementUseAndRetirement(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "hostkeys")
	r, err := hostkey.Open(dir)
	require.NoError(t, err)
	assert.Equal(t, map[hostkey.State]int{hostkey.InUse: 3}, states(r))
	first := r.Keys()[0]
	next, err := r.Make(pubkey.Ed25519)
	require.NoError(t, err)
	assert.Len(t, r.Serving(), 3)
	assert.Len(t, r.Known(), 4, "clients are told of it")
	_, err = r.Use(next.ID())
	require.NoError(t, err)
	assert.Len(t, r.Serving(), 3, "one of each type")
	assert.Len(t, r.Known(), 3)

	again, err := hostkey.Open(dir)
	require.NoError(t, err)
	assert.Equal(t, map[hostkey.State]int{hostkey.InUse: 3, hostkey.Retired: 1}, states(again))
	for _, k := range again.Keys() {
		assert.Equal(t, k.ID() == first.ID(), k.State == hostkey.Retired)
	}
	_, err = again.Use(first.ID()) // and back
	require.NoError(t, err)
	_, err = again.Remove(next.ID())
	require.NoError(t, err)
	_, err = again.Remove(next.ID())
	assert.Equal(t, keep.NotFound, keep.FaultOf(err).Reason)
	err = filepath.WalkDir(dir, func(path string, entry os.DirEntry, err error) error {
		info, err := entry.Info()
		assert.Zero(t, info.Mode().Perm()&0o077, path)
		return err
	})
	require.NoError(t, err)
}

// quick opens a ring that has keys already, so that no RSA key need be made.
func quick(t *testing.T) (*hostkey.Ring, string) {
	dir := t.TempDir()
	for _, kind := range []pubkey.Kind{pubkey.Ed25519, pubkey.ECDSA} {
		_, private, err := pubkey.Make(kind, "x", "")
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, string(kind)+".pem"), []byte(private.Reveal()), 0o600))
	}
	r, err := hostkey.Open(dir)
	require.NoError(t, err)
	return r, dir
}

func TestTheLastHostKeyStaysAndABrokenOneIsSaid(t *testing.T) {
	r, dir := quick(t)
	keys := r.Keys()
	for i, k := range keys {
		_, err := r.Remove(k.ID())
		if i < len(keys)-1 {
			require.NoError(t, err)
			continue
		}
		assert.Equal(t, keep.InUse, keep.FaultOf(err).Reason)
	}
	last, err := hostkey.Open(dir)
	require.NoError(t, err)
	assert.Len(t, last.Keys(), 1, "what an operator removed is not made again")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "broken.pem"), []byte("x"), 0o600))
	_, err = hostkey.Open(dir)
	assert.ErrorContains(t, err, "move the file away")
}

func TestAnImportedHostKeyMustBeOneOfUse(t *testing.T) {
	r, _ := quick(t)
	_, locked, err := pubkey.Make(pubkey.Ed25519, "x", "sesame")
	require.NoError(t, err)
	for _, c := range []struct {
		text, passphrase keep.Secret
		say              string
	}{{"x", "", "not a private key in PEM form"}, {locked, "", "give its passphrase"}, {locked, "wrong", "does not open the key"}, {locked, "sesame", ""}, {locked, "sesame", "has this host key already"}} {
		k, err := r.Import(c.text, c.passphrase)
		if c.say == "" {
			require.NoError(t, err)
			assert.Equal(t, hostkey.Announced, k.State)
			continue
		}
		assert.ErrorContains(t, err, c.say)
	}
}
