package house_test

import (
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"urbankeep/tests/testkit/ftptalk"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// Two sessions of one account, over two protocols, share its speed evenly, and
// together are as fast as they may be and no faster.
func TestASpeedLimitIsHeldAndSharedFairly(t *testing.T) {
	if testing.Short() {
		t.Skip("takes ten seconds")
	}
	k := testkit.Start(t)
	const limit = 2 << 20
	k.Account("ann", "-speed-up", "2MiB")
	file, _ := testkit.File(t, 40<<20)
	var uploads sync.WaitGroup
	for _, protocol := range []string{"ftps", "sftp"} {
		uploads.Go(func() { k.Curl("ann", protocol, "/"+protocol, "-T", file) })
	}
	moved := func() map[string]int64 {
		var running []api.Session
		k.Must(&running, "session", "list")
		each := map[string]int64{}
		for _, s := range running {
			each[string(s.Protocol)] = s.Up
		}
		return each
	}
	require.Eventually(t, func() bool { each := moved(); return each["ftps"] > 0 && each["sftp"] > 0 }, testkit.Patience, 10*time.Millisecond)
	// The middle one of five moments counts: a disk that others keep busy holds up some of them.
	var speeds, shares []float64
	started, first := time.Now(), moved()
	for last, from := started, first; len(speeds) < 5; {
		time.Sleep(2 * time.Second)
		now, to := time.Now(), moved()
		ftps, sftp := float64(to["ftps"]-from["ftps"]), float64(to["sftp"]-from["sftp"])
		speeds, shares = append(speeds, (ftps+sftp)/now.Sub(last).Seconds()), append(shares, ftps/(ftps+sftp))
		last, from = now, to
	}
	all := moved()
	whole := float64(all["ftps"]+all["sftp"]-first["ftps"]-first["sftp"]) / time.Since(started).Seconds()
	t.Log(speeds, shares, whole)
	assert.Less(t, whole, 1.05*limit, "all of it")
	slices.Sort(speeds)
	slices.Sort(shares)
	assert.InEpsilon(t, limit, speeds[2], 0.05, "of the limit")
	assert.InDelta(t, 0.5, shares[2], 0.03, "each as much as the other")
	k.Must(nil, "account", "set", "ann", "-speed-up", "inherit") // live: the rest goes at once
	uploads.Wait()
	assert.Len(t, k.Transfers("-outcome", "done"), 2)
}

func TestProtocolsNetworksEncryptionAndIdlenessAreLimitsToo(t *testing.T) {
	k := testkit.Start(t)
	k.Must(nil, "listener", "set", "ftp", "-encryption", "optional")
	k.Account("ann", "-protocols", "sftp,ftps", "-encryption", "required")
	key := k.Key("ann")
	in := func(listener string, args ...string) bool {
		_, err := k.Curl("ann", listener, "/", args...)
		return err == nil
	}
	assert.True(t, in("ftps"))
	assert.False(t, in("ftp"))
	k.Must(nil, "account", "set", "ann", "-protocols", "all")
	assert.True(t, in("ftp"))
	assert.False(t, in("ftp", "--no-ssl"), "although the listener would let it")
	k.Must(nil, "account", "set", "ann", "-encryption", "listener")
	assert.True(t, in("ftp", "--no-ssl"))
	k.Must(nil, "account", "set", "ann", "-deny", "127.0.0.0/8")
	_, err := k.SFTP("ann", key, "ls")
	assert.Error(t, err)
	assert.False(t, in("ftps"))
	k.Must(nil, "account", "set", "ann", "-deny", "nobody")
	reasons := map[string]bool{}
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-account", "ann", "-action", "sign-in", "-outcome", "refused")
	for _, r := range trail {
		reasons[string(r.Reason)] = true
	}
	assert.Equal(t, map[string]bool{"protocol-refused": true, "encryption-required": true, "network-refused": true}, reasons)

	k.Must(nil, "account", "set", "ann", "-idle-time", "1s")
	idle := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	assert.Contains(t, idle.Expect(421), "nothing was asked for too long")
	k.Must(nil, "account", "set", "ann", "-idle-time", "1h")
	live := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	k.Must(nil, "account", "set", "ann", "-allow", "192.0.2.0/24")
	assert.Contains(t, live.Expect(421), "no longer be used from this address")
}

// interview signs in over SSH with keyboard-interactive and gives these answers.
func interview(t *testing.T, k *testkit.Keep, answers ...string) (heard []string, ok bool) {
	ask := func(_, instruction string, questions []string, _ []bool) ([]string, error) {
		heard = append(heard, instruction+strings.Join(questions, ""))
		given := answers[:min(len(questions), len(answers))]
		answers = answers[len(given):]
		return given, nil
	}
	client, err := ssh.Dial("tcp", k.Address("sftp"), &ssh.ClientConfig{User: "ann", Auth: []ssh.AuthMethod{ssh.KeyboardInteractive(ask)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	if err != nil {
		return heard, false
	}
	client.Close()
	return heard, true
}

func TestAPasswordThatMustBeChangedIsChangedOverSSHFirst(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-must-change")
	in := func(password string) bool {
		_, err := testkit.Run(t, "", "curl", "-sS", "-k", "--user", "ann:"+password, "ftps://"+k.Address("ftps")+"/")
		return err == nil
	}
	c := ftptalk.Dial(t, k.Address("ftps"))
	c.Say("USER ann", 331)
	assert.Contains(t, c.Say("PASS "+testkit.Password, 530), "must be changed first")
	heard, ok := interview(t, k, testkit.Password, "new tide at dawn", "new tide at dusk", "ann", "ann", testkit.Password, testkit.Password)
	assert.False(t, ok, "three choices, none good")
	require.Len(t, heard, 4)
	assert.Contains(t, heard[2], "The two were not the same")
	assert.Contains(t, heard[3], "at least 10 characters")
	_, ok = interview(t, k, "a wrong password", "new tide at dawn", "new tide at dawn")
	assert.False(t, ok)
	_, ok = interview(t, k, testkit.Password, "new tide at dawn", "new tide at dawn")
	assert.True(t, ok)
	assert.False(t, in(testkit.Password))
	assert.True(t, in("new tide at dawn"))
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-action", "password-change")
	require.Len(t, trail, 1)
	assert.Equal(t, "ann", trail[0].Account)
	_, errs, status := k.CLIWith("password12\n", "account", "set", "ann", "-password")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "easily guessed")
}

func TestStartersAndUmasks(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-starters", "/in/new,/done", "-umask", "007", "-mount", "/shared=files:shared,umask=002")
	key := k.Key("ann")
	assert.NoDirExists(t, filepath.Join(k.Home("ann"), "done"))
	file, _ := testkit.File(t, 10)
	require.NoError(t, os.Chmod(file, 0o666))
	out, err := k.SFTP("ann", key, "rmdir done", "put "+file+" in/new/f", "put "+file+" shared/f", "mkdir shared/d")
	require.NoError(t, err, out)
	mode := func(at string) os.FileMode {
		info, err := os.Stat(filepath.Join(k.Dir, "files", at))
		require.NoError(t, err)
		return info.Mode().Perm()
	}
	assert.Equal(t, os.FileMode(0o770), mode("ann/in"))
	assert.Equal(t, os.FileMode(0o660), mode("ann/in/new/f"))
	assert.Equal(t, os.FileMode(0o664), mode("shared/f"))
	assert.Equal(t, os.FileMode(0o775), mode("shared/d"))
	_, err = k.SFTP("ann", key, "ls done")
	assert.Error(t, err, "made once, not again")
}

func TestTheGateHoldsForListenersAndTheConsole(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	k.Must(nil, "gate", "set", "-deny", "127.0.0.0/8")
	_, err := k.Curl("ann", "ftps", "/")
	assert.Error(t, err)
	out, err := testkit.Run(t, "", "curl", "-sS", "http://"+k.ConsoleAddress()+"/")
	require.NoError(t, err)
	assert.Contains(t, out, "do not let your address in")
	why, _, status := k.CLI("explain", "ann", "list", "/", "-from", "127.0.0.1")
	assert.Equal(t, 1, status)
	assert.Contains(t, why, "refused by the network rules of the service")
	k.Must(nil, "gate", "set", "-deny", "nobody")
	_, err = k.Curl("ann", "ftps", "/")
	assert.NoError(t, err)
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-action", "gate-set,connect")
	assert.Len(t, trail, 3)
	host, _, _ := net.SplitHostPort(k.ConsoleAddress())
	assert.Equal(t, "127.0.0.1", host)
}

// Downloads are held to their speed whatever moves the bytes: the kernel on a plain
// connection, TLS, or SSH.
func TestDownloadsAreHeldToTheirSpeed(t *testing.T) {
	k := testkit.Start(t)
	file, content := testkit.File(t, 3<<20)
	var running sync.WaitGroup
	for _, c := range []struct {
		account, listener string
		args              []string
	}{{"plain", "ftp", []string{"--no-ssl"}}, {"tls", "ftps", nil}, {"ssh", "sftp", nil}} {
		k.Account(c.account, "-session-speed-down", "1MiB", "-encryption", "optional")
		require.NoError(t, os.MkdirAll(k.Home(c.account), 0o750))
		require.NoError(t, os.WriteFile(filepath.Join(k.Home(c.account), "f"), content, 0o640))
		running.Go(func() {
			back := filepath.Join(filepath.Dir(file), c.account)
			_, err := k.Curl(c.account, c.listener, "/f", append(c.args, "-o", back)...)
			assert.NoError(t, err, c.account)
			assert.Equal(t, len(content), len(testkit.OnDisk(t, back)), c.account)
		})
	}
	running.Wait()
	for _, tr := range k.Transfers("-outcome", "done") {
		speed := float64(tr.Bytes) / tr.Seconds
		assert.LessOrEqual(t, speed, 1.1*(1<<20), tr.Account)
		assert.GreaterOrEqual(t, speed, 0.5*(1<<20), "%s: not much slower either, though the machine may be busy", tr.Account)
	}
}
