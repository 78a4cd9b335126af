// Package testkit runs a whole service on loopback for tests, and the real
// clients against it: sftp, curl, lftp, and our own commands.
package testkit

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/face/cli"
	"urbankeep/internal/face/command"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
	"urbankeep/internal/service"
)

// Patience bounds one run of a client: what takes longer hangs.
const Patience = 3 * time.Minute

// Keep is a running service.
type Keep struct {
	*service.Service
	Dir string
	t   testing.TB
}

// ConsoleAddress is where the console is served, without TLS.
func (k *Keep) ConsoleAddress() string { return strings.TrimPrefix(k.Console(), "http://") }

// hostKeys are made once for all services of all test programs: RSA takes its time.
var hostKeys = filepath.Join(os.TempDir(), fmt.Sprintf("urbankeep-test-hostkeys-%d", os.Getuid()))

// lendHostKeys gives a data folder the host keys of the service that was there first.
func lendHostKeys(t testing.TB, dir string) {
	if _, err := os.Stat(hostKeys); err != nil {
		return
	}
	keys := filepath.Join(dir, "hostkeys")
	require.NoError(t, os.CopyFS(keys, os.DirFS(hostKeys)))
	require.NoError(t, filepath.WalkDir(keys, func(name string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		return os.Chmod(name, 0o600) // which copying does not keep
	}))
}

// blank are records in which nothing is yet: to lay out their tables takes its time.
var blank = sync.OnceValues(func() ([]byte, error) {
	dir, err := os.MkdirTemp("", "ukblank")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	db, err := records.Open(context.Background(), dir)
	if err == nil {
		err = db.Close()
	}
	if err != nil {
		return nil, err
	}
	return os.ReadFile(filepath.Join(dir, "urbankeep.db"))
})

// lendRecords gives a data folder those.
func lendRecords(t testing.TB, dir string) {
	text, err := blank()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "urbankeep.db"), text, 0o600))
}

// keepHostKeys keeps those of a new service for the others.
func keepHostKeys(t testing.TB, dir string) {
	if _, err := os.Stat(hostKeys); err == nil {
		return
	}
	made, err := os.MkdirTemp("", "ukhostkeys")
	require.NoError(t, err)
	require.NoError(t, os.CopyFS(filepath.Join(made, "keys"), os.DirFS(filepath.Join(dir, "hostkeys"))))
	_ = os.Rename(filepath.Join(made, "keys"), hostKeys) // who is second throws theirs away
	os.RemoveAll(made)
}

// LongAgo is a time of files that the tests plant.
var LongAgo = time.Date(2020, 5, 6, 7, 8, 9, 0, time.UTC)

// Folder makes a data folder with a short path, for sockets have short names.
func Folder(t testing.TB) string {
	dir, err := os.MkdirTemp("", "uk")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// Start runs a service on a new data folder until the test ends.
func Start(t testing.TB) *Keep {
	dir := Folder(t)
	lendHostKeys(t, dir)
	lendRecords(t, dir)
	k := StartIn(t, dir)
	keepHostKeys(t, dir)
	return k
}

// StartIn runs a service on a data folder until the test ends.
func StartIn(t testing.TB, dir string) *Keep { return StartOn(t, dir, "127.0.0.1") }

// many failed sign-ins of a test lock nobody out.
var many = Limits(1000, 1000)

// Limits are the usual ones with other numbers of failures.
func Limits(address, account keep.Count) *keep.Limits {
	l := keep.UsualLimits
	l.FailuresPerAddress, l.FailuresPerAccount, l.Within, l.Lockout = address, account, 60, 60
	return &l
}

// StartOn is StartIn with the files served on another address, and with other options.
func StartOn(t testing.TB, dir, host string, edit ...func(*service.Options)) *Keep {
	low := FreePorts(t)
	k := &Keep{Dir: dir, t: t}
	var err error
	o := service.Options{Dir: dir, Console: "127.0.0.1:0", FTP: host + ":0", FTPS: host + ":0", SFTP: host + ":0",
		PassiveLow: low, PassiveHigh: low + 49, Limits: many, FailureDelay: 50 * time.Millisecond, Log: slog.New(slog.NewTextHandler(t.Output(), nil))}
	for _, change := range edit {
		change(&o)
	}
	k.Service, err = service.Open(t.Context(), o)
	require.NoError(t, err)
	require.NoError(t, k.Service.Start(t.Context()))
	t.Cleanup(func() { k.Halt(5 * time.Second) })
	return k
}

// Halt stops the service, once.
func (k *Keep) Halt(grace time.Duration) {
	if k.Service == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), grace)
	defer cancel()
	s := k.Service
	k.Service = nil
	require.NoError(k.t, s.Stop(ctx))
}

// Ports that tests listen on: below those that systems give to clients.
const lowestPort, portsEach, portRanges = 20000, 50, 250

var lastPorts atomic.Int64

// FreePorts gives the first of fifty ports of 127.0.0.1 that are the test's until it ends: the UDP port
// of the last, which nobody uses, says so to other test programs.
func FreePorts(t testing.TB) int {
	lastPorts.CompareAndSwap(0, int64(os.Getpid()))
	for range portRanges {
		low := lowestPort + int(lastPorts.Add(1))%portRanges*portsEach
		claim, err := net.ListenPacket("udp", net.JoinHostPort("127.0.0.1", strconv.Itoa(low+portsEach-1)))
		if err != nil {
			continue
		}
		if allFree(low) {
			t.Cleanup(func() { claim.Close() })
			return low
		}
		claim.Close()
	}
	require.FailNow(t, "no fifty ports in a row are free", "from %d on", lowestPort)
	return 0
}

func allFree(low int) bool {
	for port := low; port < low+portsEach; port++ {
		l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
		if err != nil {
			return false
		}
		l.Close()
	}
	return true
}

// CLI runs one of our commands against the service.
func (k *Keep) CLI(args ...string) (stdout, stderr string, status int) {
	return k.CLIWith("", args...)
}

// CLIWith gives the command a standard input.
func (k *Keep) CLIWith(stdin string, args ...string) (stdout, stderr string, status int) {
	var out, errs bytes.Buffer
	env := command.Env{In: strings.NewReader(stdin), Out: &out, Err: &errs}
	status = command.Main(k.t.Context(), env, cli.Commands(), append(args, "-data", k.Dir))
	return out.String(), errs.String(), status
}

// Must runs one of our commands, which has to succeed, and reads its JSON into v
// unless that is nil.
func (k *Keep) Must(v any, args ...string) string {
	k.t.Helper()
	if v != nil {
		args = append(args, "-json")
	}
	out, errs, status := k.CLI(args...)
	require.Zero(k.t, status, "%v: %s", args, errs)
	if v != nil {
		require.NoError(k.t, json.Unmarshal([]byte(out), v), out)
	}
	return out
}

// Password is what accounts made by Account sign in with.
const Password = "a password for tests"

// Account adds an account with [Password]; args are more flags of account add.
func (k *Keep) Account(name string, args ...string) {
	k.t.Helper()
	if !strings.Contains(strings.Join(args, " "), "-home") {
		args = append(args, "-home", "files:{account}")
	}
	_, errs, status := k.CLIWith(Password+"\n", append([]string{"account", "add", name, "-password"}, args...)...)
	require.Zero(k.t, status, errs)
}

// Home is the folder of an account that has the usual home.
func (k *Keep) Home(account string) string { return filepath.Join(k.Dir, "files", account) }

// Key makes a key pair with the real tool, gives the account its public half and
// returns the private one's file.
func (k *Keep) Key(account string, kind ...string) string {
	k.t.Helper()
	if kind == nil {
		kind = []string{"-t", "ed25519"}
	}
	file := filepath.Join(k.t.TempDir(), "key")
	out, err := exec.Command("ssh-keygen", append([]string{"-q", "-N", "", "-C", account + "@test", "-f", file}, kind...)...).CombinedOutput()
	require.NoError(k.t, err, string(out))
	k.Must(nil, "key", "add", account, file+".pub")
	return file
}

// Run runs a program with a standard input and gives all that it prints. One that hangs is ended, and
// fails the test.
func Run(t testing.TB, stdin, program string, args ...string) (string, error) {
	ctx, cancel := context.WithTimeout(t.Context(), Patience)
	defer cancel()
	run := exec.CommandContext(ctx, program, args...)
	run.Stdin = strings.NewReader(stdin)
	out, err := run.CombinedOutput()
	assert.NoError(t, ctx.Err(), "%s hangs: %s", program, out) // no require: tests run it beside themselves, and wait for it
	return string(out), err
}

// SSHOptions are what ssh and sftp need to trust this service and use one key.
func (k *Keep) SSHOptions(keyFile string) []string {
	_, port, _ := net.SplitHostPort(k.Address("sftp"))
	return []string{"-q", "-P", port, "-i", keyFile, "-o", "IdentitiesOnly=yes", "-o", "BatchMode=yes",
		"-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=" + os.DevNull}
}

// SFTP runs a batch of the real sftp client with a key.
func (k *Keep) SFTP(account, keyFile string, lines ...string) (string, error) {
	return Run(k.t, strings.Join(lines, "\n")+"\n", "sftp", append(append([]string{"-b", "-"}, k.SSHOptions(keyFile)...), account+"@127.0.0.1")...)
}

// Curl runs the real curl with [Password] on a path of a listener: "ftp" (with
// TLS on request), "ftps" or "sftp".
func (k *Keep) Curl(account, listener, path string, args ...string) (string, error) {
	all := []string{"-sS", "-k", "--user", account + ":" + Password}
	if listener == "ftp" && !slices.Contains(args, "--no-ssl") {
		all = append(all, "--ssl-reqd")
	}
	return Run(k.t, "", "curl", append(append(all, args...), listener+"://"+k.Address(listener)+path)...)
}

// LFTP runs a script of the real lftp with [Password].
func (k *Keep) LFTP(account, listener string, lines ...string) (string, error) {
	scheme := map[string]string{"ftp": "ftp", "ftps": "ftps"}[listener]
	head := []string{"set ssl:verify-certificate no", "set ftp:ssl-force yes", "set ftp:ssl-protect-data yes", "set net:max-retries 1",
		"set cmd:fail-exit yes", "open -u " + account + ",\"" + Password + "\" " + scheme + "://" + k.Address(listener)}
	return Run(k.t, "", "lftp", "-c", strings.Join(append(head, lines...), "; "))
}

// File writes a file of random-looking bytes outside the service.
func File(t testing.TB, size int) (name string, content []byte) {
	content = make([]byte, size)
	for i := range content {
		content[i] = byte(i*i>>8 ^ i*31 ^ size)
	}
	name = filepath.Join(t.TempDir(), "file.bin")
	require.NoError(t, os.WriteFile(name, content, 0o600))
	return name, content
}

var binary struct {
	sync.Once
	path string
	err  error
}

// Binary is the program: what make test has just built, else it is built here once
// for all tests of a test program.
func Binary(t testing.TB) string {
	if built := os.Getenv("URBANKEEP_TEST_BINARY"); built != "" {
		return built
	}
	binary.Do(func() {
		dir, err := os.MkdirTemp("", "ukbin")
		if err != nil {
			binary.err = err
			return
		}
		binary.path = filepath.Join(dir, "urbankeep")
		build := exec.Command("go", "build", "-o", binary.path, "urbankeep/cmd/urbankeep")
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			binary.err = err
			t.Log(string(out))
		}
	})
	require.NoError(t, binary.err)
	return binary.path
}
