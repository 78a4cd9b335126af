package abuse_test

import (
	"encoding/binary"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"urbankeep/internal/service"
	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/ftptalk"
	"urbankeep/tests/testkit/sftptalk"
)

func TestALinkMovesNothingThatAGrantNames(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-grant", "/=full", "-grant", "/secret=none", "-grant", "/p/a/in=none")
	inner := filepath.Join(k.Home("ann"), "p", "a", "in")
	require.NoError(t, os.MkdirAll(inner, 0o750))
	require.NoError(t, os.WriteFile(filepath.Join(inner, "f"), []byte("closed"), 0o640))
	r := sftptalk.Dial(t, k, "ann")
	require.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpSymlink, sftptalk.Str("/p"), sftptalk.Str("/l")))
	assert.EqualValues(t, sftptalk.FxDenied, r.Status(sftptalk.FxpRename, sftptalk.Str("/l/a"), sftptalk.Str("/stolen")))
	assert.EqualValues(t, sftptalk.FxDenied, r.Status(sftptalk.FxpExtended, sftptalk.Str("posix-rename@openssh.com"), sftptalk.Str("/l/a"), sftptalk.Str("/stolen")))
	c := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	c.Say("RNFR /l/a", 350)
	assert.Contains(t, c.Say("RNTO /stolen", 550), "stays where it is")
	assert.FileExists(t, filepath.Join(inner, "f"))
	assert.Empty(t, readAll(r, "/stolen/in/f"))
}

// In a folder without any right every question gets the same answer, whatever is there, and
// none gets into the log with a path of the machine.
func TestAFolderWithoutRightsTellsNothing(t *testing.T) {
	var log strings.Builder
	k := testkit.StartOn(t, testkit.Folder(t), "127.0.0.1", func(o *service.Options) { o.Log = slog.New(slog.NewTextHandler(&log, nil)) })
	k.Account("ann", "-grant", "/=full", "-grant", "/secret=none")
	secret := filepath.Join(k.Home("ann"), "secret")
	require.NoError(t, os.MkdirAll(filepath.Join(secret, "folder"), 0o750))
	require.NoError(t, os.WriteFile(filepath.Join(secret, "file"), nil, 0o640))
	require.NoError(t, os.Symlink("../open", filepath.Join(secret, "link")))
	require.NoError(t, os.Mkdir(filepath.Join(k.Home("ann"), "open"), 0o750))
	c := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	r := sftptalk.Dial(t, k, "ann")
	for _, below := range []string{"", "/x", "/x/y"} {
		var told []string
		for _, name := range []string{"folder", "file", "nothing", "link"} {
			at := "/secret/" + name + below
			var said []string
			for _, verb := range []string{"CWD", "SIZE", "MDTM", "MLST", "DELE", "RMD", "MKD", "RNFR", "STAT", "HASH", "RETR", "STOR", "APPE", "LIST", "MFMT 20200101000000"} {
				if strings.HasPrefix(verb, "RETR") || verb == "STOR" || verb == "APPE" || verb == "LIST" {
					c.Say("EPSV", 229)
				}
				code, lines := c.Command(verb + " " + at)
				said = append(said, fmt.Sprint(verb, code, lines))
			}
			for _, kind := range []byte{sftptalk.FxpStat, sftptalk.FxpLstat, sftptalk.FxpOpendir, sftptalk.FxpRemove, 15, sftptalk.FxpReadlink} {
				got, body := r.Ask(kind, sftptalk.Str(at))
				said = append(said, fmt.Sprintf("%d %d %q", kind, got, body))
			}
			for _, flags := range []uint32{sftptalk.FxfRead, sftptalk.FxfWrite, sftptalk.FxfWrite | sftptalk.FxfCreat, sftptalk.FxfWrite | sftptalk.FxfCreat | sftptalk.FxfExcl} {
				got, body := r.Ask(sftptalk.FxpOpen, sftptalk.Str(at), sftptalk.U32(flags), sftptalk.NoAttrs())
				said = append(said, fmt.Sprintf("open %d %q", got, body))
			}
			said = append(said, fmt.Sprint(rename(r, at, "/open/r"), rename(r, "/open", at)))
			told = append(told, strings.ReplaceAll(strings.Join(said, "\n"), name, "NAME"))
		}
		for _, one := range told[1:] {
			assert.Equal(t, told[0], one)
		}
	}
	k.Halt(5 * time.Second)
	assert.NotContains(t, log.String(), "level=ERROR")
	assert.NotContains(t, log.String(), k.Home("ann"))
}

func TestSizesThatNothingHoldsAreRefused(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-quota-bytes", "1MiB")
	k.Account("ben")
	for _, account := range []string{"ann", "ben"} {
		r := sftptalk.Dial(t, k, account)
		for n := range 4 {
			h := r.Open(fmt.Sprint("/sparse", n), sftptalk.FxfWrite|sftptalk.FxfCreat)
			assert.EqualValues(t, sftptalk.FxFailure, r.Status(11-1, h, sftptalk.U32(1), sftptalk.U64(1<<62-1)), "FSETSTAT")
			for _, offset := range []uint64{1<<62 - 1, 1 << 62, 1<<63 - 50, 1 << 63, 1<<64 - 1} {
				assert.NotEqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpWrite, h, sftptalk.U64(offset), sftptalk.Str(strings.Repeat("x", 100))), "%s at %d", account, offset)
			}
			r.Status(sftptalk.FxpClose, h)
		}
		assert.NotEqualValues(t, sftptalk.FxOK, r.Status(9, sftptalk.Str("/sparse0"), sftptalk.U32(1), sftptalk.U64(1<<62)), "SETSTAT")
		c := ftptalk.As(t, k.Address("ftps"), account, testkit.Password)
		c.Say(fmt.Sprint("REST ", int64(1)<<62), 350)
		d := c.Passive()
		if code, _ := c.Command("STOR /sparse1"); code == 150 {
			d.Write([]byte("x"))
			d.Close()
			code, _ = c.Reply()
			assert.GreaterOrEqual(t, code, 400)
		}
	}
	big, _ := testkit.File(t, 2<<20)
	out, err := k.Curl("ann", "ftps", "/big", "-T", big)
	assert.Error(t, err, out)
	quota := k.Must(nil, "quota", "list")
	assert.Contains(t, quota, "1.0 MiB", quota)
	assert.NotContains(t, quota, "EiB")
}

func TestASecondNameGivesNoMoreThanTheFirst(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-grant", "/=full", "-grant", "/day=full;from=2020-01-01;until=2099-01-01", "-grant", "/tif=full;only=*.tif")
	for _, at := range []string{"day/f", "tif/a.tif", "open/f"} {
		file := filepath.Join(k.Home("ann"), at)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o750))
		require.NoError(t, os.WriteFile(file, []byte("x"), 0o640))
	}
	r := sftptalk.Dial(t, k, "ann")
	link := func(from, to string) uint32 {
		return r.Status(sftptalk.FxpExtended, sftptalk.Str("hardlink@openssh.com"), sftptalk.Str(from), sftptalk.Str(to))
	}
	assert.EqualValues(t, sftptalk.FxDenied, link("/day/f", "/kept"), "it would stay when the window closes")
	assert.EqualValues(t, sftptalk.FxDenied, link("/tif/a.tif", "/a.exe"))
	assert.EqualValues(t, sftptalk.FxDenied, link("/tif/a.tif", "/tif/a.exe"))
	assert.EqualValues(t, sftptalk.FxOK, link("/tif/a.tif", "/tif/b.tif"))
	assert.EqualValues(t, sftptalk.FxOK, link("/day/f", "/day/g"))
	assert.EqualValues(t, sftptalk.FxOK, link("/open/f", "/g"))
}

// 2,560 open folders of 10,000 names each take next to nothing, and nothing stays.
func TestOpenFoldersKeepNoNames(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	folder := filepath.Join(k.Home("ann"), "many")
	require.NoError(t, os.MkdirAll(folder, 0o750))
	for n := range 300 { // 18 KB each time that the names were kept: 46 MB
		f, err := os.Create(filepath.Join(folder, fmt.Sprintf("a name of some length %05d", n)))
		require.NoError(t, err)
		f.Close()
	}
	heap := func() int64 {
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return int64(m.HeapAlloc + m.StackInuse)
	}
	before := heap()
	openAll := func() {
		client := sftptalk.SSH(t, k, "ann")
		defer client.Close()
		opened := 0
		for range 10 {
			r := greeted(t, client)
			for {
				got, handle := r.Ask(sftptalk.FxpOpendir, sftptalk.Str("/many"))
				if got != sftptalk.FxpHandle {
					break
				}
				got, names := r.Ask(sftptalk.FxpReaddir, handle)
				require.EqualValues(t, sftptalk.FxpName, got)
				require.Greater(t, binary.BigEndian.Uint32(names), uint32(10))
				opened++
			}
		}
		assert.Equal(t, 2560, opened)
		assert.Less(t, heap()-before, int64(16<<20))
	}
	openAll()
	require.Eventually(t, func() bool { return heap()-before < 4<<20 }, testkit.Patience, 200*time.Millisecond, "waited for the memory to come back, but for what is kept at hand")
	before = heap()
	openAll()
	require.Eventually(t, func() bool { return heap()-before < 2<<20 }, testkit.Patience, 200*time.Millisecond, "waited for all of it to come back the second time: 800 bytes kept of each folder would be too much")
}

func greeted(t *testing.T, client *ssh.Client) *sftptalk.Talk {
	r := sftptalk.Channel(t, client)
	r.Send(sftptalk.FxpInit, sftptalk.U32(3))
	kind, _ := r.Receive()
	require.EqualValues(t, sftptalk.FxpVersion, kind)
	return r
}

// Whatever names lie on the disk, they can be listed, fetched, renamed and removed on every
// wire; new ones that could not be said are refused.
func TestNamesThatNoWireCanSayAreSpelled(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	require.NoError(t, os.MkdirAll(k.Home("ann"), 0o750))
	spelled := map[string]string{"latin-\xe9.txt": "latin-\uFFFDE9.txt", "line\nbreak": "line\uFFFD0Abreak", "return\r": "return\uFFFD0D", "iac\xff\xff": "iac\uFFFDFF\uFFFDFF", "mark\uFFFDFF": "mark\uFFFD\uFFFDFF", "plain %FF": "plain %FF"}
	for raw := range spelled {
		require.NoError(t, os.WriteFile(filepath.Join(k.Home("ann"), raw), []byte(raw), 0o640))
	}
	c := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	r := sftptalk.Dial(t, k, "ann")
	out, err := k.Curl("ann", "ftps", "/", "-l")
	require.NoError(t, err)
	_, handle := r.Ask(sftptalk.FxpOpendir, sftptalk.Str("/"))
	_, names := r.Ask(sftptalk.FxpReaddir, handle)
	for raw, name := range spelled {
		assert.Contains(t, out, name+"\n")
		assert.Contains(t, string(names), name)
		assert.Equal(t, raw, readAll(r, "/"+name))
		c.Say("SIZE /"+name, 213)
		assert.True(t, rename(r, "/"+name, "/now"), name)
		assert.True(t, strings.HasPrefix(c.Say("MLST /now", 250), "Facts"))
		assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpRemove, sftptalk.Str("/now")))
	}
	for _, raw := range []string{"latin-\xe9", "latin-\uFFFDE9", "line\uFFFD0A", "half\xc3"} {
		got, _ := r.Ask(sftptalk.FxpOpen, sftptalk.Str("/"+raw), sftptalk.U32(sftptalk.FxfWrite|sftptalk.FxfCreat), sftptalk.NoAttrs())
		assert.EqualValues(t, sftptalk.FxpStatus, got, "%q", raw)
		assert.NotEqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpMkdir, sftptalk.Str("/"+raw), sftptalk.NoAttrs()), "%q", raw)
	}
	entries, err := os.ReadDir(k.Home("ann"))
	require.NoError(t, err)
	assert.Empty(t, entries)
}

func TestWhatClientsAskForIsDoneOrRefused(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-grant", "/=full;never=*.exe")
	r := sftptalk.Dial(t, k, "ann")
	c := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	c.Say("MFMT 00010101000000 /missing", 501)
	c.Say("MFMT 20010101000000 /missing", 550)
	assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpMkdir, sftptalk.Str("/private"), sftptalk.U32(4), sftptalk.U32(0o700)))
	info, err := os.Stat(filepath.Join(k.Home("ann"), "private"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm(), "the mode that the client asked for")
	assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpSymlink, sftptalk.Str("."), sftptalk.Str("/here")))
	assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpMkdir, sftptalk.Str("/here/here/through"), sftptalk.NoAttrs()))
	assert.DirExists(t, filepath.Join(k.Home("ann"), "through"))
	got, _ := r.Ask(sftptalk.FxpOpen, sftptalk.Str("/setup.exe"), sftptalk.U32(sftptalk.FxfWrite|sftptalk.FxfCreat), sftptalk.NoAttrs())
	assert.EqualValues(t, sftptalk.FxpStatus, got, "the filter given with the account holds")

	// What an account has of its own on a folder takes the place of what its groups give there.
	k.Must(nil, "group", "add", "crews", "-rights", "full")
	k.Account("ben", "-group", "crews")
	before := sftptalk.Dial(t, k, "ben")
	assert.EqualValues(t, sftptalk.FxOK, before.Status(sftptalk.FxpMkdir, sftptalk.Str("/a"), sftptalk.NoAttrs()))
	k.Must(nil, "account", "set", "ben", "-rights", "read-only")
	assert.EqualValues(t, sftptalk.FxDenied, before.Status(sftptalk.FxpMkdir, sftptalk.Str("/b"), sftptalk.NoAttrs()), "at once")
	said, _, _ := k.CLI("explain", "ben", "upload", "/x")
	assert.Contains(t, said, "in place of what crews would give there")
}
