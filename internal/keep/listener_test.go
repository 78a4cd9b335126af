package keep_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
)

func TestNetworksHoldWhatTheySay(t *testing.T) {
	n, err := keep.ParseNetworks("from", "192.0.2.0/24, 2001:db8::7 198.51.100.9/32\n::ffff:203.0.113.4")
	require.NoError(t, err)
	assert.Equal(t, "192.0.2.0/24,2001:db8::7,198.51.100.9,203.0.113.4", n.String())
	for address, in := range map[string]bool{"192.0.2.255": true, "192.0.3.0": false, "::ffff:192.0.2.1": true, "2001:db8::7": true, "2001:db8::8": false,
		"203.0.113.4": true, "fe80::1%eth0": false, "": false, "somewhere": false} {
		assert.Equal(t, in, n.Has(address), address)
	}
	host, err := keep.ParseNetworks("from", "192.0.2.77/24")
	require.NoError(t, err)
	assert.Equal(t, "192.0.2.0/24", host.String(), "the host's bits are no part of a network")
	for _, bad := range []string{"192.0.2", "192.0.2.0/33", "example.org", "192.0.2.1-9"} {
		_, err := keep.ParseNetworks("from", bad)
		assert.ErrorContains(t, err, "no address or network", bad)
	}
	none, err := keep.ParseNetworks("from", " , ")
	require.NoError(t, err)
	assert.Empty(t, none)
}

func TestAKeyIsUsableWhereAndUntilItMay(t *testing.T) {
	now := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	here, err := keep.ParseNetworks("from", "192.0.2.0/24")
	require.NoError(t, err)
	for _, c := range []struct {
		key  keep.Key
		from string
		say  string
	}{
		{keep.Key{}, "", ""}, {keep.Key{Expires: now.Add(time.Second)}, "", ""}, {keep.Key{Expires: now}, "", "it expired on 2026-03-01 12:00 UTC"},
		{keep.Key{Networks: here}, "192.0.2.9", ""}, {keep.Key{Networks: here}, "192.0.3.9", "it may be used from 192.0.2.0/24 only"},
	} {
		assert.Equal(t, c.say, c.key.Usable(now, c.from))
	}
	assert.Equal(t, "fair", (&keep.Key{Type: "ssh-rsa", Bits: 2048}).Strength())
	assert.Equal(t, "strong", (&keep.Key{Type: "ssh-ed25519", Bits: 256}).Strength())
}

func TestWhatAnAccountSignsInWithIsSaidInWords(t *testing.T) {
	for _, c := range []struct {
		proofs   keep.Proofs
		password bool
		keys     int
		means    string
		enough   bool
	}{
		{keep.ByEither, false, 0, "nothing yet", false}, {keep.ByEither, true, 0, "password", true}, {keep.ByEither, false, 1, "key", true}, {keep.ByEither, true, 2, "password or 2 keys", true},
		{keep.ByPassword, false, 3, "password (none set)", false}, {keep.ByKey, true, 0, "key (none yet)", false}, {keep.ByKey, false, 2, "2 keys", true},
		{keep.ByBoth, true, 1, "key and password", true}, {keep.ByBoth, true, 0, "key (none yet) and password", false},
	} {
		held := keep.Account{Name: "ann", Settings: keep.Settings{SignInBy: &c.proofs}, Mounts: home}
		if c.password {
			held.PasswordHash = "x"
		}
		a, err := keep.Resolve(&held, nil)
		require.NoError(t, err)
		assert.Equal(t, c.means, a.Means(c.keys))
		assert.Equal(t, c.enough, a.CanSignIn(c.keys), "%+v", c)
	}
	open, err := keep.Resolve(&keep.Account{Name: "Anonymous", Mounts: home}, nil)
	require.NoError(t, err)
	assert.True(t, open.CanSignIn(0))
	assert.Equal(t, "anonymous", keep.SignInName("FTP"))
}

var home = []keep.Mount{{At: "/", Store: "files", Folder: "x"}}

func TestTheAnonymousAccountReadsWhateverItsGrantsSay(t *testing.T) {
	a := &keep.Account{Name: "anonymous", State: keep.StateActive, Mounts: []keep.Mount{{At: "/", Store: "files", Folder: "open"}}, Grants: []keep.Grant{{Path: "/", Rights: keep.Full}}}
	e, err := keep.Resolve(a, nil)
	require.NoError(t, err)
	p := keep.NewPolicy(e) // without Check, as if the record had been made by other means
	assert.True(t, p.Decide(keep.Download, "/f", time.Now()).Allowed)
	for _, right := range []keep.Rights{keep.Upload, keep.Delete, keep.Mkdir, keep.Touch, keep.Link} {
		assert.False(t, p.Decide(right, "/f", time.Now()).Allowed, right)
	}
	require.NoError(t, a.Check())
	assert.Equal(t, "read-only", a.Grants[0].Rights.String())
}

func TestListenersKeepOutOfEachOthersWay(t *testing.T) {
	ftp := keep.Listener{Name: "a", Protocol: keep.FTP, Address: ":21", Encryption: keep.EncryptionRequired, PassiveLow: 100, PassiveHigh: 199}
	require.NoError(t, ftp.Check())
	for _, c := range []struct {
		other keep.Listener
		field string
	}{
		{keep.Listener{Name: "b", Protocol: keep.FTPS, Address: ":990", PassiveLow: 200, PassiveHigh: 299}, ""},
		{keep.Listener{Name: "b", Protocol: keep.FTPS, Address: ":990", PassiveLow: 199, PassiveHigh: 299}, "passive"},
		{keep.Listener{Name: "b", Protocol: keep.FTPS, Address: ":990", PassiveLow: 199, PassiveHigh: 299, Stopped: true}, ""},
		{keep.Listener{Name: "b", Protocol: keep.SFTP, Address: ":150"}, "passive"},
		{keep.Listener{Name: "b", Protocol: keep.FTPS, Address: ":990", PassiveLow: 10, PassiveHigh: 30}, "address"},
		{keep.Listener{Name: "b", Protocol: keep.SFTP, Address: ":0"}, ""},
		{keep.Listener{Name: "a", Protocol: keep.FTP, Address: ":21", PassiveLow: 100, PassiveHigh: 199}, ""},
	} {
		err := ftp.CheckBeside(c.other)
		if c.field == "" {
			assert.NoError(t, err, "%+v", c.other)
			continue
		}
		var field *keep.FieldError
		require.ErrorAs(t, err, &field)
		assert.Equal(t, c.field, field.Field)
	}
	assert.Equal(t, "Good tide, ann, at 2026-03-01 12:00 UTC", (&keep.Listener{Welcome: "Good tide, {account}, at {time}"}).WelcomeFor("ann", time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)))
}

func TestSizesAreReadWithTheirUnits(t *testing.T) {
	for text, want := range map[string]int64{"0": 0, "4096": 4096, "500M": 500 << 20, "2GiB": 2 << 30, "1.5 g": 3 << 29, "10 kib": 10 << 10, "7b": 7, "1T": 1 << 40} {
		got, err := keep.ParseSize("size", text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, bad := range []string{"", "M", "lots", "-1", "1.2.3", "5 parsecs", "99999999999T", "NaN", "Inf"} {
		_, err := keep.ParseSize("size", bad)
		assert.Error(t, err, bad)
	}
}
