package house_test

import (
	"path/filepath"
	"testing"
	"time"

	"urbankeep/tests/testkit/ftptalk"
	"urbankeep/tests/testkit/sftptalk"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

func TestAnAccountsTimeBeginsAndEnds(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-valid-until", "2099-01-01")
	key := k.Key("ann")
	in := func() bool {
		_, err := k.Curl("ann", "ftps", "/")
		_, serr := k.SFTP("ann", key, "ls")
		assert.Equal(t, err == nil, serr == nil)
		return err == nil
	}
	assert.True(t, in())
	k.Must(nil, "account", "set", "ann", "-valid-from", "2098-01-01")
	assert.False(t, in())
	assert.Contains(t, k.Must(nil, "account", "show", "ann"), "valid from   2098-01-01 00:00 UTC")
	k.Must(nil, "account", "set", "ann", "-valid-from", "always", "-valid-until", "never")
	assert.True(t, in())
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-account", "ann", "-outcome", "refused", "-action", "sign-in")
	require.NotEmpty(t, trail)
	assert.EqualValues(t, "not-yet-valid", trail[0].Reason)

	// A session ends when the account's time does: when that comes, and when it is moved back.
	c := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	k.Must(nil, "account", "set", "ann", "-valid-until", time.Now().Add(2*time.Second).UTC().Format(time.RFC3339Nano))
	c.Say("NOOP", 200)
	assert.Contains(t, c.Expect(421), "the account's time has ended")
	k.Must(nil, "account", "set", "ann", "-valid-until", "never")
	c = ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	k.Must(nil, "account", "set", "ann", "-valid-until", "2020-01-01")
	assert.Contains(t, c.Expect(421), "the account's time ended on 2020-01-01")
	assert.False(t, in())
	_, errs, status := k.CLI("account", "set", "ann", "-valid-until", "soon")
	assert.Equal(t, 2, status)
	assert.Contains(t, errs, "is no day or time")
}

func TestAnAccountHasNoMoreSessionsThanItMay(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-max-sessions", "2")
	key := k.Key("ann")
	a, b := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password), sftptalk.Dial(t, k, "ann")
	c := ftptalk.Dial(t, k.Address("ftps"))
	c.Say("USER ann", 331)
	assert.Contains(t, c.Say("PASS "+testkit.Password, 530), "as many sessions as it may, 2")
	_, err := k.SFTP("ann", key, "ls")
	assert.Error(t, err)
	assert.Contains(t, k.Must(nil, "account", "show", "ann"), "2 of at most 2")
	b.SSH.Close()
	require.Eventually(t, func() bool { _, err := k.SFTP("ann", key, "ls"); return err == nil }, testkit.Patience, 50*time.Millisecond)
	k.Must(nil, "account", "set", "ann", "-max-sessions", "0")
	c.Say("USER ann", 331)
	c.Say("PASS "+testkit.Password, 230)
	a.Say("NOOP", 200)
}

func TestAFileGrowsNoLargerThanItMay(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-max-upload", "100k")
	key := k.Key("ann")
	fits, content := testkit.File(t, 100<<10)
	large, _ := testkit.File(t, 100<<10+1)
	home := func(name string) string { return filepath.Join(k.Home("ann"), name) }
	out, err := k.Curl("ann", "ftps", "/fits", "-T", fits)
	require.NoError(t, err, out)
	out, err = k.SFTP("ann", key, "put "+fits+" fits2")
	require.NoError(t, err, out)
	assert.Equal(t, content, testkit.OnDisk(t, home("fits2")))
	_, err = k.Curl("ann", "ftps", "/large", "-T", large)
	assert.Error(t, err)
	assert.Len(t, testkit.OnDisk(t, home("large")), 100<<10, "what fits is kept")
	_, err = k.SFTP("ann", key, "put "+large+" large2")
	assert.Error(t, err)
	assert.LessOrEqual(t, len(testkit.OnDisk(t, home("large2"))), 100<<10)
	_, err = k.Curl("ann", "ftps", "/fits", "-a", "-T", fits)
	assert.Error(t, err, "nor by appending")
	assert.Equal(t, content, testkit.OnDisk(t, home("fits")))
	c := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	c.Say("ALLO 1000000", 200)
	d := c.Passive()
	assert.Contains(t, c.Say("STOR early", 552), "102400 bytes at most")
	d.Close()
	assert.NoFileExists(t, home("early"))
	r := sftptalk.Dial(t, k, "ann")
	assert.EqualValues(t, sftptalk.FxFailure, r.Status(sftptalk.FxpSetstat, sftptalk.Str("/fits"), sftptalk.U32(1), sftptalk.U64(200<<10)))
	assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpSetstat, sftptalk.Str("/fits"), sftptalk.U32(1), sftptalk.U64(10)))
	found := k.Transfers("-account", "ann", "-path", "/large")
	require.Len(t, found, 1)
	assert.Equal(t, "refused", found[0].Outcome)
	assert.EqualValues(t, "too-large", found[0].Reason)
	_, errs, status := k.CLI("account", "set", "ann", "-max-upload", "lots")
	assert.Equal(t, 2, status)
	assert.Contains(t, errs, "as in 4096, 500M or 10 GB")
	k.Must(nil, "account", "set", "ann", "-max-upload", "0")
	out, err = k.Curl("ann", "ftps", "/large", "-T", large)
	assert.NoError(t, err, out)
}

func TestExplainSaysWhatEnforcementDoes(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-rights", "read-only", "-mount", "/in=files:drops", "-grant", "/in=drop-only", "-valid-until", "2099-01-01")
	for _, c := range []struct {
		args []string
		may  bool
		say  string
	}{
		{[]string{"download", "/f"}, true, "the grant on / gives read-only"},
		{[]string{"upload", "/f"}, false, "upload is refused: the grant on / gives read-only"},
		{[]string{"upload", "/in/f"}, true, "the grant on /in gives drop-only"},
		{[]string{"download", "/f", "-at", "2099-06-01"}, false, "the account's time ended on 2099-01-01"},
		{[]string{"download", "/f", "-from", "192.0.2.9"}, true, "192.0.2.9 may connect to ftp ftps sftp web"},
	} {
		out, errs, status := k.CLI(append([]string{"explain", "ann"}, c.args...)...)
		assert.Equal(t, c.may, status == 0, "%v: %s", c.args, errs)
		assert.Contains(t, out, c.say)
	}
	for _, l := range []string{"ftp", "ftps", "sftp", "web"} {
		k.Must(nil, "listener", "set", l, "-deny", "192.0.2.0/24")
	}
	out, _, status := k.CLI("explain", "ann", "download", "/f", "-from", "192.0.2.9")
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "192.0.2.9 may not connect: refused by the network rules of ftp ftps sftp web")
	_, errs, _ := k.CLI("explain", "ann", "fly", "/")
	assert.Contains(t, errs, "is not a right")
}
