package faults_test

import (
	"bufio"
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/ftptalk"
)

// authorityCertificate makes a certificate that an authority has signed, which ends at a time.
func authorityCertificate(t *testing.T, until time.Time) (file, key string) {
	dir := t.TempDir()
	file, key = filepath.Join(dir, "leaf.pem"), filepath.Join(dir, "leaf.key")
	authority, authorityKey := testkit.NewCertificate(t, dir, "authority")
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
	k.AddOperator("ilse", "owner")
	k.Must(nil, "service", "set", "-host", "localhost")
	k.Account("ann", "-valid-until", "2099-01-01", "-quota-bytes", "10M")
	c := checkup(t, k)
	assert.Equal(t, "note", c.Worst, "%+v", c.Findings)
	found(t, &c, "fine", "outside", "it answers on localhost:")
	found(t, &c, "fine", "passive", "comes through")
	found(t, &c, "fine", "quota", "1 of 1")
	assert.Regexp(t, `(?m)^  fine +listener ftp: it answers`, k.Must(nil, "checkup"))
	ports := k.Must(nil, "checkup", "-ports")
	assert.Regexp(t, `(?s)tcp +listener ftp, passive.*Port 22 stays open here for the administration of this machine`, ports)
	assert.NotRegexp(t, `(?m)^22 +tcp`, ports, "nobody is told to forward it")
	assert.Contains(t, k.Must(nil, "checkup", "-firewall", "ufw"), "ufw allow 22/tcp")
	assert.Contains(t, k.Refused("checkup", "-firewall", "none"), "is not known")
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
	require.Eventually(t, func() bool { return strings.Contains(k.Must(nil, "collector", "show"), "refused") }, testkit.Patience, 50*time.Millisecond)

	c := checkup(t, k)
	assert.Equal(t, "fault", c.Worst)
	found(t, &c, "warning", "plain-ftp", "every account may send its password in clear on ftp")
	found(t, &c, "note", "plain-ftp", "in clear: ben")
	found(t, &c, "note", "plain-ftp", "find out that these exist: ben")
	found(t, &c, "note", "listener", "it is stopped")
	found(t, &c, "note", "anonymous", "everybody may read")
	found(t, &c, "note", "account", "no end date: ann")
	found(t, &c, "note", "account", "time has ended: ben")
	found(t, &c, "fault", "store", "plates does not exist")
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

// What only shows in a program of its own: a user without privileges, and a console for all.
func TestPrivilegesAndAnOpenConsoleAreLookedAt(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("becoming another user needs root")
	}
	dir := filepath.Join(testkit.Folder(t), "keep")
	require.NoError(t, os.Mkdir(dir, 0o700))
	require.NoError(t, os.Chmod(filepath.Dir(dir), 0o755))
	require.NoError(t, os.Chown(dir, 65534, 65534))
	program := filepath.Join(filepath.Dir(dir), "urbankeep")
	text, err := os.ReadFile(testkit.Binary(t))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(program, text, 0o755))
	run := exec.Command("setpriv", "--reuid", "65534", "--regid", "65534", "--clear-groups", "--inh-caps", "-all", "--bounding-set", "-all",
		program, "serve", "-data", dir, "-console", "0.0.0.0:0", "-ftp", "127.0.0.1:0", "-ftps", "127.0.0.1:0", "-sftp", "127.0.0.1:0")
	out, err := run.StdoutPipe()
	require.NoError(t, err)
	run.Stderr = t.Output()
	require.NoError(t, run.Start())
	defer func() {
		run.Process.Kill()
		run.Wait()
	}()
	for lines := bufio.NewScanner(out); lines.Scan() && !strings.HasPrefix(lines.Text(), "ready"); {
	}
	said, err := testkit.Run(t, "", "curl", "-sS", "--unix-socket", filepath.Join(dir, "control.sock"), "-H", "Content-Type: application/json",
		"-d", `{"name": "low", "protocol": "sftp", "address": "127.0.0.1:922", "stopped": true}`, "http://control/api/v1/listeners")
	require.NoError(t, err, said)
	said, err = testkit.Run(t, "", program, "listener", "set", "web", "-encryption", "off", "-meant", "-data", dir)
	require.NoError(t, err, said)
	said, err = testkit.Run(t, "", program, "checkup", "-json", "-data", dir)
	assert.Error(t, err)
	var c api.Checkup
	require.NoError(t, json.Unmarshal([]byte(said), &c), said)
	found(t, &c, "warning", "privilege", "can't be started again: the port of 127.0.0.1:922 is below 1024")
	found(t, &c, "fine", "privilege", "does not run as root")
	found(t, &c, "warning", "web", "without TLS")
}

func TestWeakKeysAndACertificateThatEndedAreFound(t *testing.T) {
	t.Parallel()
	dir := testkit.Folder(t)
	k := testkit.StartOn(t, dir, "127.0.0.1")
	k.Account("ann")
	k.Key("ann", "-t", "rsa", "-b", "2048")
	old := filepath.Join(t.TempDir(), "old")
	for _, args := range [][]string{{"-t", "ed25519", "-f", old}, {"-t", "rsa", "-b", "2048", "-m", "PEM", "-f", old + ".host"}} {
		out, err := testkit.Run(t, "", "ssh-keygen", append(args, "-q", "-N", "")...)
		require.NoError(t, err, out)
	}
	until := time.Now().Add(10 * time.Second).Truncate(time.Second)
	k.Must(nil, "key", "add", "ann", old+".pub", "-expires", until.Format(time.RFC3339))
	var keys []api.HostKey
	k.Must(&keys, "hostkey", "list")
	for _, one := range keys {
		if one.Type != "ecdsa-sha2-nistp256" {
			k.Must(nil, "hostkey", "remove", "-meant", one.ID)
		}
	}
	var short api.HostKey
	k.Must(&short, "hostkey", "import", old+".host")
	k.Must(nil, "hostkey", "use", short.ID)
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour), NotAfter: until, DNSNames: []string{"localhost"}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, private.Public(), private)
	require.NoError(t, err)
	secret, err := x509.MarshalPKCS8PrivateKey(private)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "both.pem")
	require.NoError(t, os.WriteFile(file, append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret})...), 0o600))
	k.Must(nil, "certificate", "import", file, file)
	time.Sleep(time.Until(until) + time.Second)

	c := checkup(t, k)
	found(t, &c, "warning", "key", "weak: RSA of 2048 bits")
	found(t, &c, "warning", "key", "expired on 20")
	found(t, &c, "warning", "host-key", "it is RSA of 2048 bits")
	found(t, &c, "warning", "host-key", "there is no Ed25519 key")
	found(t, &c, "fault", "certificate", "it ended on")
	assert.Contains(t, k.Refused("certificate", "follow", file, file), "it expired on")

	// The service starts with it all the same: a new one can be given while it runs.
	k.Halt(5 * time.Second)
	k = testkit.StartOn(t, dir, "127.0.0.1")
	k.Must(nil, "certificate", "renew")
	c = checkup(t, k)
	for _, f := range c.Findings {
		assert.False(t, f.Check == "certificate" && f.State == "fault", f.Says)
	}
}

func TestADamagedTrailAndAnOldCertificateAreFound(t *testing.T) {
	dir := testkit.Folder(t)
	k := testkit.StartOn(t, dir, "127.0.0.1")
	k.Account("ann")
	k.Halt(5 * time.Second)
	db, err := sqlx.Open("sqlite", "file:"+filepath.Join(dir, "urbankeep.db"))
	require.NoError(t, err)
	var page, size int64
	require.NoError(t, db.Get(&page, "SELECT rootpage FROM sqlite_master WHERE name = 'change_name'"))
	require.NoError(t, db.Get(&size, "PRAGMA page_size"))
	for _, do := range []string{"DROP TRIGGER audit_record_never_changes", "UPDATE audit_record SET account = 'ben' WHERE seq = 2", "UPDATE account SET created = 1"} {
		_, err = db.Exec(do)
		require.NoError(t, err)
	}
	require.NoError(t, db.Close())
	disk, err := os.OpenFile(filepath.Join(dir, "urbankeep.db"), os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = disk.WriteAt(bytes.Repeat([]byte{0xff}, int(size)), (page-1)*size) // a page of an index
	require.NoError(t, err)
	require.NoError(t, disk.Close())
	k = testkit.StartOn(t, dir, "127.0.0.1")
	cert, keyFile := authorityCertificate(t, time.Now().Add(5*24*time.Hour))
	k.Must(nil, "certificate", "follow", cert, keyFile)
	c := checkup(t, k)
	found(t, &c, "fault", "audit", "record 2")
	found(t, &c, "fault", "database", "it is damaged")
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
	}, testkit.Patience, 100*time.Millisecond)
}

// A database with overwritten pages proves nothing: verify says so and fails, and the
// check-up says which part can't be read and goes on with the others.
func TestVerifyFailsWhereRecordsCannotBeRead(t *testing.T) {
	dir := testkit.Folder(t)
	k := testkit.StartOn(t, dir, "127.0.0.1")
	k.Account("ann")
	c := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	for n := range 600 {
		c.Say(fmt.Sprint("MKD /", n), 257)
	}
	k.Halt(5 * time.Second)
	db, err := sqlx.Open("sqlite", "file:"+filepath.Join(dir, "urbankeep.db"))
	require.NoError(t, err)
	var pages []int64
	var size int64
	require.NoError(t, db.Select(&pages, "SELECT pageno FROM dbstat WHERE name = 'audit_record' AND pagetype = 'leaf' ORDER BY path LIMIT 3 OFFSET 4"))
	require.NoError(t, db.Get(&size, "PRAGMA page_size"))
	require.NoError(t, db.Close())
	require.Len(t, pages, 3)
	disk, err := os.OpenFile(filepath.Join(dir, "urbankeep.db"), os.O_WRONLY, 0)
	require.NoError(t, err)
	for _, page := range pages {
		_, err = disk.WriteAt(bytes.Repeat([]byte{0xff}, int(size)), (page-1)*size)
		require.NoError(t, err)
	}
	require.NoError(t, disk.Close())
	k = testkit.StartOn(t, dir, "127.0.0.1")
	out, errs, status := k.CLI("audit", "verify")
	assert.Equal(t, 1, status, out)
	assert.NotContains(t, out, "holds")
	assert.Contains(t, errs, "the chain is not proven")
	out, errs, status = k.CLI("audit", "verify", "-json")
	assert.Equal(t, 1, status, out)
	assert.Contains(t, errs, "the chain is not proven")
	report := checkup(t, k)
	found(t, &report, "fault", "database", "it is damaged")
	found(t, &report, "fault", "audit", "can't all be read")
	found(t, &report, "fine", "store", "can be written")
}

// A store into which nothing can be written is said to be so, and one again that takes writes is not.
func TestAStoreThatTakesNoWritesIsSaid(t *testing.T) {
	t.Parallel()
	at := small(t, "size=4m")
	k := testkit.Start(t)
	k.Must(nil, "store", "add", "plates", at)
	k.Account("ann", "-mount", "/plates=plates:ann")
	require.NoError(t, exec.Command("mount", "-o", "remount,ro", at).Run())
	out, _, _ := k.CLI("checkup")
	assert.Contains(t, out, "can't be written: read-only file system")
	for _, args := range [][]string{{"store", "list"}, {"status"}, {"ready"}} {
		out, errs, _ := k.CLI(args...)
		assert.Contains(t, out+errs, "takes no writes", "%v", args)
	}
	require.Eventually(t, func() bool {
		out, _, _ := k.CLI("trouble", "list")
		return strings.Contains(out, "takes no writes")
	}, testkit.Patience, 200*time.Millisecond, "waited for the trouble")
	require.NoError(t, exec.Command("mount", "-o", "remount,rw", at).Run())
	out, _, _ = k.CLI("checkup")
	assert.NotContains(t, out, "read-only file system")
	out, _, _ = k.CLI("status")
	assert.NotContains(t, out, "takes no writes")
	assert.NoFileExists(t, filepath.Join(at, ".urbankeep-probe"))
}
