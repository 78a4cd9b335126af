package service_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
	"urbankeep/internal/testkit"
	"urbankeep/internal/web/api"
)

// authorityCertificate makes a certificate that an authority has signed, which ends at a time.
func authorityCertificate(t *testing.T, until time.Time) (file, key string) {
	dir := t.TempDir()
	file, key = filepath.Join(dir, "leaf.pem"), filepath.Join(dir, "leaf.key")
	authority, authorityKey := newCertificate(t, dir, "authority")
	request := filepath.Join(dir, "request")
	for _, args := range [][]string{
		{"req", "-new", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-subj", "/CN=localhost", "-addext", "subjectAltName=DNS:localhost", "-keyout", key, "-out", request},
		{"x509", "-req", "-in", request, "-CA", authority, "-CAkey", authorityKey, "-CAcreateserial", "-copy_extensions", "copy", "-days", fmt.Sprint(int(time.Until(until).Hours()/24) + 1), "-out", file},
	} {
		out, err := testkit.Run(t, "", "openssl", args...)
		require.NoError(t, err, out)
	}
	return file, key
}

// found is the line of a check-up whose words hold a text.
func found(t *testing.T, c *api.Checkup, state, check, text string) {
	t.Helper()
	for _, f := range c.Findings {
		if f.Check == check && strings.Contains(f.Says, text) {
			assert.Equal(t, state, f.State, f.Says)
			if api.IsWrong(f.State) {
				assert.NotEmpty(t, f.Do)
			}
			return
		}
	}
	assert.Fail(t, "not found", "%s with %q in %+v", check, text, c.Findings)
}

func checkup(t *testing.T, k *testkit.Keep) (c api.Checkup) {
	out, errs, status := k.CLI("checkup", "-json")
	assert.Empty(t, errs)
	require.NoError(t, json.Unmarshal([]byte(out), &c))
	assert.Equal(t, api.IsWrong(c.Worst), status == 1, out)
	return c
}

func TestAHealthyServiceHasNoWarning(t *testing.T) {
	k := testkit.StartOn(t, testkit.Folder(t), "")
	addOperator(t, k, "ilse", "owner")
	k.Must(nil, "service", "set", "-host", "localhost")
	k.Account("ann", "-valid-until", "2099-01-01", "-quota-bytes", "10M")
	c := checkup(t, k)
	assert.Equal(t, "note", c.Worst, "%+v", c.Findings)
	found(t, &c, "fine", "outside", "it answers on localhost:")
	found(t, &c, "fine", "passive", "comes through")
	found(t, &c, "fine", "quota", "1 of 1")
	assert.Regexp(t, `(?m)^  fine +listener ftp: it answers`, k.Must(nil, "checkup"))
	ports := k.Must(nil, "checkup", "-ports")
	assert.Regexp(t, `(?s)22 +tcp +administration.*listener ftp, passive`, ports)
	assert.Contains(t, k.Must(nil, "checkup", "-firewall", "ufw"), "ufw allow 22/tcp")
	assert.Contains(t, refused(t, k, "checkup", "-firewall", "none"), "is not known")
}

func TestPlantedFaultsAreFoundNamedAndExplained(t *testing.T) {
	dir := testkit.Folder(t)
	k := testkit.StartOn(t, dir, "127.0.0.1")
	for _, args := range [][]string{
		{"listener", "set", "ftp", "-encryption", "optional"},
		{"store", "add", "plates", filepath.Join(t.TempDir(), "plates")},
		{"service", "set", "-host", "files.portselwyn.invalid"},
		{"collector", "set", "tcp://127.0.0.1:1"},
		{"listener", "stop", "ftps"},
	} {
		k.Must(nil, args...)
	}
	k.Account("ann", "-quota-bytes", "10M")
	k.Account("ben", "-encryption", "optional", "-valid-until", "2020-01-01")
	key := k.Key("ann")
	k.Must(nil, "key", "add", "ben", key+".pub", "-shared")
	_, errs, status := k.CLI("account", "add", "anonymous", "-home", "files:open")
	require.Zero(t, status, errs)
	var stores []struct{ Name, Folder string }
	k.Must(&stores, "store", "list")
	for _, s := range stores {
		if s.Name == "plates" {
			require.NoError(t, os.RemoveAll(s.Folder))
		}
	}
	file, _ := testkit.File(t, 5000)
	out, err := k.Curl("ann", "ftp", "/f", "-T", file)
	require.NoError(t, err, out)
	require.NoError(t, os.WriteFile(filepath.Join(k.Home("ann"), "behind"), []byte("its back"), 0o640))
	require.NoError(t, os.Chmod(filepath.Join(dir, "audit.key"), 0o644))
	k.Trail.Note(keep.AuditRecord{At: time.Now().Add(48 * time.Hour), Action: keep.Listing, Outcome: keep.Done})
	require.Eventually(t, func() bool { return strings.Contains(k.Must(nil, "collector", "show"), "refused") }, 20*time.Second, 50*time.Millisecond)

	c := checkup(t, k)
	assert.Equal(t, "fault", c.Worst)
	found(t, &c, "warning", "plain-ftp", "every account may send its password in clear on ftp")
	found(t, &c, "note", "plain-ftp", "in clear: ben")
	found(t, &c, "note", "listener", "it is stopped")
	found(t, &c, "note", "anonymous", "everybody may read")
	found(t, &c, "note", "account", "no end date: ann")
	found(t, &c, "note", "account", "time has ended: ben")
	found(t, &c, "fault", "store", "can't be opened")
	found(t, &c, "fault", "data-folder", "audit.key (0644)")
	found(t, &c, "fault", "clock", "the newest audit record is of")
	found(t, &c, "warning", "key", "shared with")
	found(t, &c, "warning", "quota", "out of step with the disk: 5000 bytes in 1 files were known, 5008 bytes in 2 files are there")
	found(t, &c, "warning", "certificate", "but clients come to files.portselwyn.invalid")
	found(t, &c, "warning", "collector", "audit records wait for")
	found(t, &c, "warning", "operator", "there is no operator")
	k.Must(nil, "certificate", "renew")
	c = checkup(t, k)
	for _, f := range c.Findings {
		assert.NotContains(t, f.Says, "but clients come to", "a new certificate of its own names the host")
		assert.NotContains(t, f.Says, "out of step", "it was counted anew")
	}
}

func TestADamagedTrailAndAnOldCertificateAreFound(t *testing.T) {
	dir := testkit.Folder(t)
	k := testkit.StartOn(t, dir, "127.0.0.1")
	k.Account("ann")
	k.Halt(5 * time.Second)
	db, err := sqlx.Open("sqlite", "file:"+filepath.Join(dir, "urbankeep.db"))
	require.NoError(t, err)
	for _, do := range []string{"DROP TRIGGER audit_record_never_changes", "UPDATE audit_record SET account = 'ben' WHERE seq = 2", "UPDATE account SET created = 1"} {
		_, err = db.Exec(do)
		require.NoError(t, err)
	}
	require.NoError(t, db.Close())
	k = testkit.StartOn(t, dir, "127.0.0.1")
	cert, keyFile := authorityCertificate(t, time.Now().Add(5*24*time.Hour))
	k.Must(nil, "certificate", "follow", cert, keyFile)
	c := checkup(t, k)
	found(t, &c, "fault", "audit", "record 2")
	found(t, &c, "note", "account", "were never used, and are older than 30 days: ann")
	found(t, &c, "warning", "certificate", "it ends on")
	found(t, &c, "warning", "certificate", "without the certificate of its authority")
	require.NoError(t, os.WriteFile(cert, []byte("no certificate"), 0o600))
	require.Eventually(t, func() bool {
		c = checkup(t, k)
		for _, f := range c.Findings {
			if f.Check == "certificate" && f.State == "fault" {
				return strings.Contains(f.Says, "can't be used")
			}
		}
		return false
	}, 20*time.Second, 100*time.Millisecond)
}
