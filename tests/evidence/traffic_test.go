package evidence_test

import (
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

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

func TestOneTransferIsEndedAndItsSessionGoesOn(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	c := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	d := c.Passive()
	c.Say("STOR big", 150)
	_, err := d.Write(make([]byte, 10_000))
	require.NoError(t, err)
	require.Eventually(t, func() bool { found := k.Transfers(); return len(found) == 1 && found[0].Bytes == 10_000 }, testkit.Patience, 10*time.Millisecond)
	running := k.Transfers()[0]
	assert.Equal(t, "running", running.Outcome)
	k.Must(nil, "transfer", "end", running.ID, "-reason", "the disk is checked")
	assert.Equal(t, "an operator ended the transfer: the disk is checked", c.Expect(426))
	c.Say("PWD", 257)
	_, stderr, status := k.CLI("transfer", "end", running.ID)
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "it may have ended meanwhile")
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-action", "upload,transfer-end")
	require.Len(t, trail, 2)
	for _, r := range trail {
		if r.Action == "transfer-end" {
			assert.Contains(t, r.Detail, "upload of /big by ann; the disk is checked")
			continue
		}
		assert.EqualValues(t, "interrupted", r.Outcome)
		assert.EqualValues(t, "ended-by-operator", r.Reason)
		assert.EqualValues(t, 10_000, r.Bytes)
	}

	// Over SFTP the client hears of it with its next packet.
	k.Must(nil, "account", "set", "ann", "-speed-up", "256KiB")
	key := k.Key("ann")
	file, _ := testkit.File(t, 64<<20)
	out := make(chan string, 1)
	go func() { // ends with the transfer
		text, _ := k.SFTP("ann", key, "put "+file+" slow", "ls")
		out <- text
	}()
	require.Eventually(t, func() bool {
		found := k.Transfers("-protocol", "sftp")
		return len(found) == 1 && found[0].Rate > 0 && found[0].Bytes > 0
	}, testkit.Patience, 20*time.Millisecond)
	k.Must(nil, "transfer", "end", k.Transfers("-protocol", "sftp")[0].ID)
	select {
	case text := <-out:
		assert.Contains(t, text, "Failure", "this client shows no reasons")
	case <-time.After(testkit.Patience):
		t.Fatal("the client still sends")
	}
	require.Eventually(t, func() bool {
		found := k.Transfers("-protocol", "sftp")
		return len(found) == 1 && found[0].Reason == "ended-by-operator"
	}, testkit.Patience, 20*time.Millisecond)
}

func TestTrafficIsDrilledIntoDownToTheRecords(t *testing.T) {
	k := testkit.Start(t)
	k.Must(nil, "group", "add", "crews")
	k.Account("ann", "-group", "crews", "-rights", "full")
	k.Account("ben")
	for account, bytes := range map[string]int{"ann": 30_000, "ben": 500} {
		file, _ := testkit.File(t, bytes)
		out, err := k.Curl(account, "ftps", "/=scan.las", "-T", file)
		require.NoError(t, err, out)
	}
	out, err := k.Curl("ann", "ftps", "/=scan.las")
	require.NoError(t, err, out)

	var all api.Traffic
	k.Must(&all, "traffic", "-by", "group")
	require.Len(t, all.Rows, 2)
	assert.Equal(t, "crews", all.Rows[0].Value)
	assert.EqualValues(t, 30_000, all.Rows[0].Up)
	assert.EqualValues(t, 30_500, all.Total.Up)
	k.Must(&all, "traffic", "-by", "account", "-group", "crews")
	require.Len(t, all.Rows, 1)
	k.Must(&all, "traffic", "-by", "file", "-account", all.Rows[0].Value)
	require.Len(t, all.Rows, 1)
	assert.Equal(t, "/=scan.las", all.Rows[0].Value)
	assert.EqualValues(t, 30_000, all.Rows[0].Down)
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-account", all.Rows[0].Account, "-path", all.Rows[0].Value)
	assert.EqualValues(t, all.Rows[0].Operations, len(trail), "the records behind the number")

	text := k.Must(nil, "traffic", "-by", "day")
	assert.Contains(t, text, time.Now().UTC().Format(time.DateOnly))
	assert.Contains(t, text, "▇")
	text = k.Must(nil, "traffic", "-by", "account", "-csv")
	assert.True(t, strings.HasPrefix(text, "account,up,down,operations,refused,failed,seconds\nann,30000,30000,"), text)
	_, stderr, status := k.CLI("traffic", "-by", "account", "-zone", "Port/Selwyn")
	assert.Equal(t, 2, status)
	assert.Contains(t, stderr, "no time zone")

	// What moved this second is there too.
	require.NoError(t, os.WriteFile(filepath.Join(k.Home("ann"), "f"), make([]byte, 5<<20), 0o640))
	k.Must(nil, "account", "set", "ann", "-speed-down", "2MiB")
	var fetched sync.WaitGroup
	defer fetched.Wait()
	fetched.Go(func() { k.Curl("ann", "ftps", "/f", "-o", "/dev/null") })
	require.Eventually(t, func() bool {
		var beats []api.Beat
		k.Must(&beats, "traffic", "-by", "second")
		return slices.ContainsFunc(beats, func(b api.Beat) bool { return b.Down > 1<<20 })
	}, testkit.Patience, 100*time.Millisecond)
	require.Eventually(t, func() bool { return len(k.Transfers("-path", "/f", "-outcome", "done")) == 1 }, testkit.Patience, 50*time.Millisecond)
}
