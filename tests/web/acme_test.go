package web_test

import (
	"context"
	"crypto"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/mholt/acmez/v3/acme"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/counterpart"
	"urbankeep/tests/testkit/ftptalk"
)

// certified is the certificate that is there now.
func certified(k *testkit.Keep) (c api.Certificate) {
	k.Must(&c, "certificate", "show")
	return c
}

// until waits until the certificate is as it should be.
func until(t *testing.T, k *testkit.Keep, what string, is func(api.Certificate) bool) api.Certificate {
	t.Helper()
	for end := time.Now().Add(testkit.Patience); ; time.Sleep(200 * time.Millisecond) {
		c := certified(k)
		if is(c) {
			return c
		}
		require.Less(t, time.Now(), end, "%s: %+v", what, c)
	}
}

func TestCertificatesComeFromAnAuthorityAndRenewThemselves(t *testing.T) {
	const life = 24 * time.Second
	a := counterpart.StartAuthority(t, life)
	k := testkit.Start(t)
	k.Account("ann")
	order := []string{"certificate", "acme", "-host", "keep.example,127.0.0.1", "-contact", "office@port-selwyn.example", "-directory", a.Directory, "-trust", a.Trust}
	first := certified(k)
	assert.Contains(t, k.Refused(order...), "no web listener runs that can answer the authority")
	assert.Equal(t, first, certified(k), "what failed changed nothing")

	// Each way in which the authority looks for the service does by itself.
	k.Must(nil, "listener", "add", "http", "web", fmt.Sprint(":", a.HTTP), "-encryption", "off", "-redirect", "https://keep.example")
	got := certified(k)
	k.Must(&got, order...)
	assert.Equal(t, []string{"keep.example", "127.0.0.1"}, got.Names)
	assert.False(t, got.SelfSigned)
	k.Must(nil, "listener", "remove", "http")
	k.Must(nil, "listener", "add", "https", "web", fmt.Sprint("127.0.0.1:", a.TLS), "-faces", "console")
	second := got
	k.Must(&second, order...)
	assert.NotEqual(t, got.Fingerprint, second.Fingerprint)
	assert.Equal(t, got.ACME.Account, second.ACME.Account, "the account stays")

	// Clients that trust that authority alone take it, on the web and over FTP.
	out, err := testkit.Run(t, "", "curl", "-sS", "--cacert", a.Root, "--resolve", fmt.Sprintf("keep.example:%d:127.0.0.1", a.TLS), fmt.Sprintf("https://keep.example:%d/healthz", a.TLS))
	require.NoError(t, err, out)
	assert.Equal(t, "alive\n", out)
	out, err = testkit.Run(t, "", "lftp", "-c", fmt.Sprintf(`set ssl:ca-file %s; set ssl:verify-certificate yes; set cmd:fail-exit yes; set net:max-retries 1; open -u ann,"%s" ftps://%s; put /etc/hostname; cls`,
		a.Root, testkit.Password, k.Address("ftps")))
	require.NoError(t, err, out)
	assert.Contains(t, out, "hostname")

	// It is renewed well before its end, and who is inside stays.
	inside := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	third := until(t, k, "it is not renewed", func(c api.Certificate) bool { return c.Fingerprint != second.Fingerprint })
	assert.Less(t, third.Starts.Sub(second.Starts), life)
	inside.Say("PWD", 257)
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-action", "certificate-set", "-most", "1")
	assert.Contains(t, trail[0].Detail, "renewed: keep.example")

	// While the authority is away, the certificate stays as long as it may, and everybody is told.
	a.Away()
	failed := until(t, k, "the failure is not told", func(c api.Certificate) bool { return c.Failed > 1 })
	assert.Contains(t, failed.Failure, "does not answer")
	stdout, _, _ := k.CLI("checkup")
	assert.Contains(t, stdout, "it could not be renewed")
	k.Must(&trail, "audit", "-action", "certificate-set", "-outcome", "failed")
	assert.Len(t, trail, 1, "one record for failures one after the other")
	out, err = testkit.Run(t, "", "curl", "-sS", "-k", fmt.Sprintf("https://127.0.0.1:%d/readyz", a.TLS))
	require.NoError(t, err, out)
	assert.Equal(t, "ready\n", out)
	a.Back()
	fourth := until(t, k, "it is not renewed when the authority is back", func(c api.Certificate) bool { return c.Failed == 0 && c.Fingerprint != failed.Fingerprint })

	// An account that the authority has closed needs a word of an operator.
	files, err := filepath.Glob(filepath.Join(k.Dir, "tls", "accounts", "*.pem"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	closeAccount(t, a, files[0], fourth.ACME.Account)
	failed = until(t, k, "the closed account is not told", func(c api.Certificate) bool { return c.Failed > 0 })
	assert.Contains(t, failed.Failure, "-new-account")
	k.Must(&got, append(order, "-new-account")...)
	assert.NotEqual(t, fourth.ACME.Account, got.ACME.Account)

	// After a restart it goes on; a backup has all that it needs for that.
	dir := k.Dir
	k.Halt(5 * time.Second)
	k = testkit.StartIn(t, dir)
	fifth := until(t, k, "it is not renewed after a restart", func(c api.Certificate) bool { return c.Fingerprint != got.Fingerprint })
	assert.Equal(t, got.ACME.Account, fifth.ACME.Account)
	backup := filepath.Join(t.TempDir(), "backup")
	k.Must(nil, "backup", backup)
	away := testkit.Folder(t)
	out, err = testkit.Run(t, "", testkit.Binary(t), "restore", "-data", away, backup)
	require.NoError(t, err, out)
	assert.Equal(t, testkit.OnDisk(t, filepath.Join(dir, "tls", "certificate.pem")), testkit.OnDisk(t, filepath.Join(away, "tls", "certificate.pem")))
	files, err = filepath.Glob(filepath.Join(away, "tls", "accounts", "*.pem"))
	require.NoError(t, err)
	assert.Len(t, files, 1)
}

// closeAccount has an account closed, by its own key.
func closeAccount(t *testing.T, a *counterpart.Authority, file, location string) {
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	block, _ := pem.Decode(text)
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	require.NoError(t, err)
	client := &acme.Client{Directory: a.Directory, HTTPClient: blind(t)}
	_, err = client.UpdateAccount(context.Background(), acme.Account{Status: "deactivated", Location: location, PrivateKey: key.(crypto.Signer)})
	require.NoError(t, err)
}

func TestAnOrderThatFailsSaysWhyAndChangesNothing(t *testing.T) {
	a := counterpart.StartAuthority(t, time.Hour)
	k := testkit.Start(t)
	k.Must(nil, "listener", "add", "https", "web", "127.0.0.1:0", "-faces", "console") // not where the authority looks
	before := certified(k)
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"-host", "keep.example", "-directory", a.Directory}, "unknown authority"},
		{[]string{"-host", "keep.example", "-directory", "https://127.0.0.1:1/dir"}, "does not answer"},
		{[]string{"-host", "keep.example", "-directory", a.Directory, "-trust", a.Trust}, "port 80 or 443"},
		{[]string{"-host", "*.keep.example", "-directory", a.Directory, "-trust", a.Trust}, "can be proved here"},
		{[]string{"-host", "keep.example", "-contact", "nobody", "-directory", a.Directory, "-trust", a.Trust}, "is no mail address"},
		{[]string{"-host", "keep.example", "-directory", a.Directory, "-trust", a.Trust, "-name", "spare"}, "port 80 or 443"},
		{[]string{"-host", "keep.example", "-directory", "ftp://a", "-trust", a.Trust}, "is no address of a directory"},
	} {
		assert.Contains(t, k.Refused(append([]string{"certificate", "acme"}, c.args...)...), c.says)
	}
	var all []api.Certificate
	k.Must(&all, "certificate", "list")
	assert.Equal(t, []api.Certificate{before}, all)
	assert.Contains(t, strings.Join(listed(t, filepath.Join(k.Dir, "tls")), " "), "certificate.pem")
	assert.NotContains(t, listed(t, filepath.Join(k.Dir, "tls")), "spare.pem")
}

func listed(t *testing.T, dir string) (names []string) {
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, entry := range entries {
		names = append(names, entry.Name())
	}
	return names
}
