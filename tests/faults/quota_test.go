package faults_test

import (
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"urbankeep/tests/testkit/ftptalk"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// sumOf adds up a folder on the disk.
func sumOf(t *testing.T, folder string) (bytes, files int64) {
	require.NoError(t, filepath.WalkDir(folder, func(at string, entry fs.DirEntry, err error) error {
		if err != nil || at == folder {
			return err
		}
		files++
		info, err := entry.Info()
		if err == nil && info.Mode().IsRegular() {
			bytes += info.Size()
		}
		return err
	}))
	return bytes, files
}

// flood uploads thirty-two files at once, by two protocols, into a home with room
// for ten and a half of them, and watches the disk meanwhile.
func flood(t *testing.T, home string, upload func(n int) *exec.Cmd, most int64, during func()) {
	var uploads sync.WaitGroup
	for n := range 32 {
		uploads.Go(func() { upload(n).Run() }) // most are refused
	}
	over := make(chan struct{})
	go func() { uploads.Wait(); close(over) }()
	for done := false; !done; {
		select {
		case <-over:
			done = true
		case <-time.After(5 * time.Millisecond):
		}
		total := int64(0)
		entries, _ := os.ReadDir(home)
		for _, e := range entries {
			if info, err := e.Info(); err == nil {
				total += info.Size()
			}
		}
		require.LessOrEqual(t, total, most)
		during()
	}
}

const roomFor = 300_000 * 21 / 2 // ten and a half files

func TestManyUploadsAtOnceNeverPassTheQuota(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-quota-bytes", fmt.Sprint(roomFor))
	key := k.Key("ann")
	file, _ := testkit.File(t, 300_000)
	_, err := k.Curl("ann", "ftps", "/first", "-T", file)
	require.NoError(t, err)
	host, port, _ := strings.Cut(k.Address("sftp"), ":")
	flood(t, k.Home("ann"), func(n int) *exec.Cmd {
		if n%2 == 0 {
			return exec.Command("curl", "-sS", "-k", "--limit-rate", "600k", "--user", "ann:"+testkit.Password, "-T", file, fmt.Sprintf("ftps://%s/f%d", k.Address("ftps"), n))
		}
		run := exec.Command("sftp", "-q", "-b", "-", "-l", "5000", "-P", port, "-i", key, "-o", "IdentitiesOnly=yes", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile="+os.DevNull, "ann@"+host)
		run.Stdin = strings.NewReader(fmt.Sprintf("put %s f%d\n", file, n))
		return run
	}, roomFor, func() {})
	bytes, files := sumOf(t, k.Home("ann"))
	assert.EqualValues(t, roomFor, bytes, "what fits is kept, to the byte")
	var quotas []api.Quota
	k.Must(&quotas, "quota", "list")
	require.Len(t, quotas, 1)
	assert.EqualValues(t, bytes, quotas[0].Used.Bytes)
	assert.EqualValues(t, files, quotas[0].Used.Files)
	refusals := k.Transfers("-account", "ann", "-outcome", "refused")
	require.NotEmpty(t, refusals)
	assert.EqualValues(t, "quota-full", refusals[0].Reason)

	// What clients are told, and when: early where the size is known.
	c := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	c.Say("DELE first", 250)
	c.Say("ALLO 300001", 200)
	d := c.Passive()
	assert.Contains(t, c.Say("STOR early", 552), "the file does not fit: of the quota of 3 MiB there are 293 KiB left")
	d.Close()
	assert.NoFileExists(t, filepath.Join(k.Home("ann"), "early"))
	assert.Contains(t, c.Say("AVBL", 213), "300000")
	out, err := testkit.Run(t, "df\n", "sftp", append(append([]string{"-b", "-"}, k.SSHOptions(key)...), "ann@127.0.0.1")...)
	require.NoError(t, err, out)
	assert.Regexp(t, `\n\s+3076\s+2784\s+292\s+292\s+90%`, out, "statvfs tells of the quota")

	// Files, cuts, moves and what was changed behind the service's back.
	k.Must(nil, "account", "set", "ann", "-quota-bytes", "inherit", "-quota-files", fmt.Sprint(files))
	c.Say("MKD one", 257)
	assert.Contains(t, c.Say("MKD two", 552), "the quota of files is used up")
	require.NoError(t, os.WriteFile(filepath.Join(k.Home("ann"), "one", "behind"), make([]byte, 77), 0o600))
	assert.Contains(t, k.Must(nil, "quota", "recount", "files:ann"), fmt.Sprintf("in %d files, not", files+1))
	assert.Contains(t, k.Must(nil, "quota", "recount", "files:ann"), "as was known")
	out, _, status := k.CLI("explain", "ann", "upload", "/x")
	assert.Equal(t, 1, status)
	assert.Regexp(t, `quota\s+NO\s+/ holds .* of \d+ files`, out)
}

func TestAfterAKillInTheMiddleTheQuotaIsStillRight(t *testing.T) {
	dir := testkit.Folder(t)
	p := testkit.Launch(t, dir)
	p.AddAccount()
	p.CLI(nil, "", "account", "set", "crew-harbour", "-quota-bytes", fmt.Sprint(roomFor))
	file, _ := testkit.File(t, 300_000)
	home := filepath.Join(dir, "files", "crew-harbour")
	require.NoError(t, p.SFTPBatch("put "+file+" first").Run())
	flood(t, home, func(n int) *exec.Cmd { // slow ones: the quota is not full at once
		return p.Curl("--limit-rate", "60k", "-T", file, fmt.Sprintf("ftps://%s/f%d", p.FTPS, n))
	}, roomFor, func() {
		if bytes, _ := sumOf(t, home); bytes > roomFor/3 {
			p.Run.Process.Kill()
		}
	})
	p.Run.Wait()
	bytes, files := sumOf(t, home)
	require.Less(t, bytes, int64(roomFor), "it was killed in the middle")

	again := testkit.Launch(t, dir)
	again.Key = p.Key
	var quotas []api.Quota
	require.Eventually(t, func() bool {
		again.CLI(&quotas, "", "quota", "list")
		return len(quotas) == 1 && !quotas[0].Counting
	}, testkit.Patience, 20*time.Millisecond)
	assert.EqualValues(t, bytes, quotas[0].Used.Bytes)
	assert.EqualValues(t, files, quotas[0].Used.Files)
	flood(t, home, func(n int) *exec.Cmd { return again.Curl("-T", file, fmt.Sprintf("ftps://%s/g%d", again.FTPS, n)) }, roomFor, func() {})
	bytes, _ = sumOf(t, home)
	assert.EqualValues(t, roomFor, bytes)
}

func TestMovesBetweenMountsTakeTheirBytesAlong(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-quota-bytes", "10000", "-mount", "/shared=files:shared,bytes=500")
	key := k.Key("ann")
	small, _ := testkit.File(t, 400)
	out, err := k.SFTP("ann", key, "mkdir work", "put "+small+" work/small", "rename work/small shared/small")
	require.NoError(t, err, out)
	used := func() map[string]int64 {
		var quotas []api.Quota
		k.Must(&quotas, "quota", "list")
		found := map[string]int64{}
		for _, q := range quotas {
			found[q.Folder] = int64(q.Used.Bytes)
		}
		return found
	}
	assert.Equal(t, map[string]int64{"ann": 0, "shared": 400}, used())
	out, err = k.SFTP("ann", key, "put "+small+" work/second", "rename work shared/work")
	assert.Error(t, err)
	assert.Contains(t, out, "Failure")
	assert.Eventually(t, func() bool {
		return strings.Contains(k.Must(nil, "audit", "-action", "rename", "-outcome", "refused", "-json"), "it does not fit there: the quota of 500 B has 100 B left")
	}, testkit.Patience, 20*time.Millisecond)
	assert.Equal(t, map[string]int64{"ann": 400, "shared": 400}, used())
	out, err = k.SFTP("ann", key, "rename shared/small work/third", "rename work shared/work")
	require.Error(t, err, out)
	out, err = k.SFTP("ann", key, "rm work/third", "rename work shared/work")
	require.NoError(t, err, out)
	assert.Equal(t, map[string]int64{"ann": 0, "shared": 400}, used())
	for folder, bytes := range used() {
		onDisk, _ := sumOf(t, filepath.Join(k.Dir, "files", folder))
		assert.Equal(t, bytes, onDisk)
	}
}
