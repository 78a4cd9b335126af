package clients_test

import (
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"urbankeep/tests/testkit/sftptalk"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

func TestEveryWayToOpenAFile(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	r := sftptalk.Dial(t, k, "ann")
	file := filepath.Join(k.Home("ann"), "f")
	assert.EqualValues(t, sftptalk.FxNoSuchFile, r.Status(sftptalk.FxpOpen, sftptalk.Str("/f"), sftptalk.U32(sftptalk.FxfRead), sftptalk.NoAttrs()))
	assert.EqualValues(t, sftptalk.FxNoSuchFile, r.Status(sftptalk.FxpOpen, sftptalk.Str("/f"), sftptalk.U32(sftptalk.FxfWrite), sftptalk.NoAttrs()))
	assert.EqualValues(t, sftptalk.FxBadMessage, r.Status(sftptalk.FxpOpen, sftptalk.Str("/f"), sftptalk.U32(sftptalk.FxfCreat), sftptalk.NoAttrs()))
	h := r.Open("f", sftptalk.FxfWrite|sftptalk.FxfCreat|sftptalk.FxfExcl)
	assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpWrite, h, sftptalk.U64(0), sftptalk.Str("hello world")))
	assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpWrite, h, sftptalk.U64(6), sftptalk.Str("there")))
	assert.Equal(t, "status 4", r.Read(h, 0, 5), "not opened for reading")
	assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpClose, h))
	assert.EqualValues(t, sftptalk.FxFailure, r.Status(sftptalk.FxpClose, h), "closed twice")
	assert.Equal(t, "hello there", string(testkit.OnDisk(t, file)))
	assert.EqualValues(t, sftptalk.FxFailure, r.Status(sftptalk.FxpOpen, sftptalk.Str("/f"), sftptalk.U32(sftptalk.FxfWrite|sftptalk.FxfCreat|sftptalk.FxfExcl), sftptalk.NoAttrs()))

	h = r.Open("/f", sftptalk.FxfRead|sftptalk.FxfWrite)
	assert.Equal(t, "there", r.Read(h, 6, 100))
	assert.Equal(t, "status 1", r.Read(h, 11, 100), "the end")
	assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpWrite, h, sftptalk.U64(20), sftptalk.Str("far")))
	r.Status(sftptalk.FxpClose, h)
	assert.Equal(t, "hello there\x00\x00\x00\x00\x00\x00\x00\x00\x00far", string(testkit.OnDisk(t, file)))

	h = r.Open("/f", sftptalk.FxfWrite|sftptalk.FxfTrunc)
	r.Status(sftptalk.FxpWrite, h, sftptalk.U64(0), sftptalk.Str("short"))
	r.Status(sftptalk.FxpClose, h)
	assert.Equal(t, "short", string(testkit.OnDisk(t, file)))

	h = r.Open("/f", sftptalk.FxfWrite|sftptalk.FxfAppend)
	r.Status(sftptalk.FxpWrite, h, sftptalk.U64(0), sftptalk.Str(" and"))
	r.Status(sftptalk.FxpWrite, h, sftptalk.U64(0), sftptalk.Str(" long"))
	r.Status(sftptalk.FxpClose, h)
	assert.Equal(t, "short and long", string(testkit.OnDisk(t, file)))
	assert.EqualValues(t, sftptalk.FxFailure, r.Status(sftptalk.FxpOpen, sftptalk.Str("/"), sftptalk.U32(sftptalk.FxfRead), sftptalk.NoAttrs()), "a folder is no file")
}

func TestStatusCodesSayWhatHappened(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	k.Account("bureau", "-rights", "read-only", "-home", "files:ann")
	r := sftptalk.Dial(t, k, "ann")
	assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpMkdir, sftptalk.Str("/d"), sftptalk.NoAttrs()))
	assert.EqualValues(t, sftptalk.FxFailure, r.Status(sftptalk.FxpMkdir, sftptalk.Str("/d"), sftptalk.NoAttrs()))
	r.Status(sftptalk.FxpClose, r.Open("/d/f", sftptalk.FxfWrite|sftptalk.FxfCreat))
	r.Status(sftptalk.FxpClose, r.Open("/g", sftptalk.FxfWrite|sftptalk.FxfCreat))
	assert.EqualValues(t, sftptalk.FxFailure, r.Status(15, sftptalk.Str("/d")), "rmdir of a full folder")
	assert.EqualValues(t, sftptalk.FxFailure, r.Status(sftptalk.FxpRemove, sftptalk.Str("/d")))
	assert.EqualValues(t, sftptalk.FxNoSuchFile, r.Status(sftptalk.FxpRemove, sftptalk.Str("/none")))
	assert.EqualValues(t, sftptalk.FxFailure, r.Status(sftptalk.FxpRename, sftptalk.Str("/g"), sftptalk.Str("/d/f")), "version 3 never renames onto a file")
	assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpExtended, sftptalk.Str("posix-rename@openssh.com"), sftptalk.Str("/g"), sftptalk.Str("/d/f")))
	assert.EqualValues(t, sftptalk.FxDenied, r.Status(sftptalk.FxpRemove, sftptalk.Str("/a\x00b")))
	assert.EqualValues(t, sftptalk.FxUnsupported, r.Status(sftptalk.FxpExtended, sftptalk.Str("none@example.com")))
	assert.EqualValues(t, sftptalk.FxUnsupported, r.Status(77))
	assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpSymlink, sftptalk.Str("d/f"), sftptalk.Str("/l")))
	got, body := r.Ask(sftptalk.FxpReadlink, sftptalk.Str("/l"))
	assert.EqualValues(t, sftptalk.FxpName, got)
	assert.Equal(t, sftptalk.Str("d/f"), body[4:11])
	assert.EqualValues(t, sftptalk.FxFailure, r.Status(sftptalk.FxpReadlink, sftptalk.Str("/d/f")))
	for in, want := range map[string]string{"": "/", ".": "/", "..": "/", "d/../d/./f/": "/d/f", "/../../x": "/x"} {
		got, body := r.Ask(sftptalk.FxpRealpath, sftptalk.Str(in))
		assert.EqualValues(t, sftptalk.FxpName, got)
		assert.Equal(t, sftptalk.Str(want), body[4:8+len(want)], in)
	}
	got, body = r.Ask(sftptalk.FxpExtended, sftptalk.Str("limits@openssh.com"))
	assert.EqualValues(t, sftptalk.FxpReply, got)
	assert.Len(t, body, 32)

	b := sftptalk.Dial(t, k, "bureau")
	for _, refused := range []uint32{
		b.Status(sftptalk.FxpRemove, sftptalk.Str("/d/f")), b.Status(sftptalk.FxpMkdir, sftptalk.Str("/e"), sftptalk.NoAttrs()), b.Status(sftptalk.FxpRename, sftptalk.Str("/d/f"), sftptalk.Str("/x")),
		b.Status(sftptalk.FxpOpen, sftptalk.Str("/d/f"), sftptalk.U32(sftptalk.FxfWrite), sftptalk.NoAttrs()), b.Status(sftptalk.FxpOpen, sftptalk.Str("/new"), sftptalk.U32(sftptalk.FxfWrite|sftptalk.FxfCreat), sftptalk.NoAttrs()),
		b.Status(sftptalk.FxpSetstat, sftptalk.Str("/d/f"), sftptalk.U32(4), sftptalk.U32(0o600)), b.Status(sftptalk.FxpSetstat, sftptalk.Str("/d/f"), sftptalk.U32(1), sftptalk.U64(0)), b.Status(sftptalk.FxpSymlink, sftptalk.Str("d"), sftptalk.Str("/x")),
	} {
		assert.EqualValues(t, sftptalk.FxDenied, refused)
	}
}

func TestAttributesAreSetAndTold(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	k.Account("gauge", "-rights", "drop-only")
	r := sftptalk.Dial(t, k, "ann")
	h := r.Open("/f", sftptalk.FxfWrite|sftptalk.FxfCreat)
	r.Status(sftptalk.FxpWrite, h, sftptalk.U64(0), sftptalk.Str("0123456789"))
	assert.EqualValues(t, sftptalk.FxOK, r.Status(10, h, sftptalk.U32(1), sftptalk.U64(4)), "FSETSTAT of the size")
	r.Status(sftptalk.FxpClose, h)
	assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpSetstat, sftptalk.Str("/f"), sftptalk.U32(4|8), sftptalk.U32(0o640), sftptalk.U32(1_000_000_000), sftptalk.U32(1_100_000_000)))
	got, body := r.Ask(sftptalk.FxpStat, sftptalk.Str("/f"))
	assert.EqualValues(t, sftptalk.FxpAttrs, got)
	user, group := uint32(os.Getuid()), uint32(os.Getgid())
	assert.Equal(t, sftptalk.Join(sftptalk.U32(1|2|4|8), sftptalk.U64(4), sftptalk.U32(user), sftptalk.U32(group), sftptalk.U32(0o100640), sftptalk.U32(1_000_000_000), sftptalk.U32(1_100_000_000)), body)
	assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpSetstat, sftptalk.Str("/f"), sftptalk.U32(2), sftptalk.U32(user), sftptalk.U32(group)), "the owner that it has")
	assert.EqualValues(t, sftptalk.FxDenied, r.Status(sftptalk.FxpSetstat, sftptalk.Str("/f"), sftptalk.U32(4), sftptalk.U32(0o4755)), "special bits")
	assert.EqualValues(t, sftptalk.FxUnsupported, r.Status(sftptalk.FxpSetstat, sftptalk.Str("/f"), sftptalk.U32(2), sftptalk.U32(user+1), sftptalk.U32(group)), "owners stay")
	assert.EqualValues(t, sftptalk.FxBadMessage, r.Status(sftptalk.FxpSetstat, sftptalk.Str("/f"), sftptalk.U32(1), sftptalk.U64(1<<63)))
	got, body = r.Ask(sftptalk.FxpLstat, sftptalk.Str("/"))
	assert.EqualValues(t, sftptalk.FxpAttrs, got)
	assert.EqualValues(t, 0o040000, binary.BigEndian.Uint32(body[20:])&0o170000)

	g := sftptalk.Dial(t, k, "gauge") // may only drop files, but set the time of the one it is making
	h = g.Open("/level.csv", sftptalk.FxfWrite|sftptalk.FxfCreat)
	assert.EqualValues(t, sftptalk.FxOK, g.Status(10, h, sftptalk.U32(8), sftptalk.U32(1_000_000_000), sftptalk.U32(1_000_000_000)))
	g.Status(sftptalk.FxpClose, h)
	info, err := os.Stat(filepath.Join(k.Home("gauge"), "level.csv"))
	require.NoError(t, err)
	assert.EqualValues(t, 1_000_000_000, info.ModTime().Unix())
	assert.EqualValues(t, sftptalk.FxOK, g.Status(sftptalk.FxpSetstat, sftptalk.Str("/level.csv"), sftptalk.U32(8), sftptalk.U32(1_000_000_001), sftptalk.U32(1_000_000_001)), "and of the one it has just made")
	require.NoError(t, os.WriteFile(filepath.Join(k.Home("gauge"), "other.csv"), nil, 0o640))
	assert.EqualValues(t, sftptalk.FxDenied, g.Status(sftptalk.FxpSetstat, sftptalk.Str("/other.csv"), sftptalk.U32(8), sftptalk.U32(1), sftptalk.U32(1)))
	assert.EqualValues(t, sftptalk.FxDenied, g.Status(sftptalk.FxpOpendir, sftptalk.Str("/")))
}

func TestFoldersComeInPagesAndOnce(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	require.NoError(t, os.MkdirAll(k.Home("ann"), 0o750))
	for n := range 300 {
		require.NoError(t, os.WriteFile(filepath.Join(k.Home("ann"), fmt.Sprintf("f%03d", n)), nil, 0o640))
	}
	require.NoError(t, os.WriteFile(filepath.Join(k.Home("ann"), "forged\nline"), nil, 0o640))
	r := sftptalk.Dial(t, k, "ann")
	_, h := r.Ask(sftptalk.FxpOpendir, sftptalk.Str("/"))
	total, forged := 0, false
	for {
		got, body := r.Ask(sftptalk.FxpReaddir, h)
		if got == sftptalk.FxpStatus {
			assert.EqualValues(t, sftptalk.FxEOF, binary.BigEndian.Uint32(body))
			break
		}
		total += int(binary.BigEndian.Uint32(body))
		assert.Contains(t, string(body), "-rw-r-----    1 ann      ann             0 ")
		forged = forged || strings.Contains(string(body), "forged\uFFFD0Aline")
		assert.NotContains(t, string(body), "forged\n")
	}
	assert.Equal(t, 301, total)
	assert.True(t, forged, "a line break in a name is spelled")
	assert.EqualValues(t, sftptalk.FxFailure, r.Status(sftptalk.FxpRead, h, sftptalk.U64(0), sftptalk.U32(1)), "a folder's handle is no file's")
	assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpClose, h))
	assert.EqualValues(t, sftptalk.FxFailure, r.Status(sftptalk.FxpReaddir, h))
	assert.EqualValues(t, sftptalk.FxFailure, r.Status(sftptalk.FxpOpendir, sftptalk.Str("/f000")))
}

func TestRequestsSentAheadAreAnsweredInOrder(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	r := sftptalk.Dial(t, k, "ann")
	h := r.Open("/f", sftptalk.FxfRead|sftptalk.FxfWrite|sftptalk.FxfCreat)
	const n = 500
	go func() { // the test reads its replies below, which ends it
		for i := range uint32(n) {
			body := sftptalk.Join(sftptalk.U32(1000+i), h, sftptalk.U64(uint64(i)*4), sftptalk.Str(fmt.Sprintf("%04d", i)))
			r.In.Write(sftptalk.Join(sftptalk.U32(uint32(len(body)+1)), []byte{sftptalk.FxpWrite}, body))
		}
	}()
	for i := range uint32(n) {
		kind, body := r.Receive()
		assert.EqualValues(t, sftptalk.FxpStatus, kind)
		assert.Equal(t, sftptalk.Join(sftptalk.U32(1000+i), sftptalk.U32(sftptalk.FxOK)), body[:8])
	}
	assert.Equal(t, "0000000100020003", r.Read(h, 0, 16))
	assert.Equal(t, "0499", r.Read(h, 4*(n-1), 16))
}

func TestAClientCutOffInTheMiddleLeavesWhatArrived(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	r := sftptalk.Dial(t, k, "ann")
	h := r.Open("/f", sftptalk.FxfWrite|sftptalk.FxfCreat)
	require.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpWrite, h, sftptalk.U64(0), sftptalk.Str("arrived")))
	r.SSH.Close()
	require.Eventually(t, func() bool {
		found := k.Transfers()
		return len(found) == 1 && found[0].Outcome == "interrupted"
	}, testkit.Patience, 20*time.Millisecond)
	found := k.Transfers()[0]
	assert.EqualValues(t, "client-gone", found.Reason)
	assert.EqualValues(t, 7, found.Bytes)
	assert.Equal(t, "arrived", string(testkit.OnDisk(t, filepath.Join(k.Home("ann"), "f"))))
}

func TestExtensionsOfCommonClients(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	r := sftptalk.Dial(t, k, "ann")
	content := make([]byte, 700_000)
	for i := range content {
		content[i] = byte(i >> 4)
	}
	require.NoError(t, os.MkdirAll(k.Home("ann"), 0o750))
	require.NoError(t, os.WriteFile(filepath.Join(k.Home("ann"), "f"), content, 0o640))
	from, to := r.Open("/f", sftptalk.FxfRead), r.Open("/g", sftptalk.FxfWrite|sftptalk.FxfCreat)
	assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpExtended, sftptalk.Str("copy-data"), from, sftptalk.U64(1000), sftptalk.U64(0), to, sftptalk.U64(0)))
	assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpExtended, sftptalk.Str("copy-data"), from, sftptalk.U64(0), sftptalk.U64(10), to, sftptalk.U64(5)))
	assert.EqualValues(t, sftptalk.FxFailure, r.Status(sftptalk.FxpExtended, sftptalk.Str("copy-data"), from, sftptalk.U64(0), sftptalk.U64(0), from, sftptalk.U64(0)))
	assert.EqualValues(t, sftptalk.FxFailure, r.Status(sftptalk.FxpExtended, sftptalk.Str("copy-data"), to, sftptalk.U64(0), sftptalk.U64(0), from, sftptalk.U64(0)), "wrong ways round")
	assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpExtended, sftptalk.Str("fsync@openssh.com"), to))
	r.Status(sftptalk.FxpClose, to)
	want := append(append(append([]byte(nil), content[1000:1005]...), content[:10]...), content[1015:]...)
	assert.Equal(t, want, testkit.OnDisk(t, filepath.Join(k.Home("ann"), "g")))

	got, body := r.Ask(sftptalk.FxpExtended, sftptalk.Str("statvfs@openssh.com"), sftptalk.Str("/"))
	assert.EqualValues(t, sftptalk.FxpReply, got)
	require.Len(t, body, 88)
	assert.NotZero(t, binary.BigEndian.Uint64(body[16:]), "how much there is")
	got, body2 := r.Ask(sftptalk.FxpExtended, sftptalk.Str("fstatvfs@openssh.com"), from)
	assert.EqualValues(t, sftptalk.FxpReply, got)
	assert.Equal(t, body[:24], body2[:24])
	assert.EqualValues(t, sftptalk.FxNoSuchFile, r.Status(sftptalk.FxpExtended, sftptalk.Str("statvfs@openssh.com"), sftptalk.Str("/none")))

	assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpSymlink, sftptalk.Str("f"), sftptalk.Str("/l")))
	for target, kept := range map[string]string{"./f": "./f", ".//f": ".//f", "../ann/../f": "", "folder/../f": "f", "/f": "f"} {
		name := "/link to " + strings.ReplaceAll(target, "/", "-")
		if kept == "" {
			assert.EqualValues(t, sftptalk.FxDenied, r.Status(sftptalk.FxpSymlink, sftptalk.Str(target), sftptalk.Str(name)), target)
			continue
		}
		assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpSymlink, sftptalk.Str(target), sftptalk.Str(name)), target)
		got, body := r.Ask(sftptalk.FxpReadlink, sftptalk.Str(name))
		assert.EqualValues(t, sftptalk.FxpName, got)
		assert.Equal(t, sftptalk.Str(kept), body[4:8+len(kept)], target)
	}
	assert.EqualValues(t, sftptalk.FxUnsupported, r.Status(sftptalk.FxpExtended, sftptalk.Str("lsetstat@openssh.com"), sftptalk.Str("/l"), sftptalk.U32(4), sftptalk.U32(0o600)))
	assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpExtended, sftptalk.Str("lsetstat@openssh.com"), sftptalk.Str("/f"), sftptalk.U32(4), sftptalk.U32(0o600)))
	got, body = r.Ask(sftptalk.FxpExtended, sftptalk.Str("expand-path@openssh.com"), sftptalk.Str("~/f"))
	assert.EqualValues(t, sftptalk.FxpName, got)
	assert.Equal(t, sftptalk.Str("/f"), body[4:10])
	got, body = r.Ask(sftptalk.FxpExtended, sftptalk.Str("home-directory"), sftptalk.Str("ann"))
	assert.EqualValues(t, sftptalk.FxpName, got)
	assert.Equal(t, sftptalk.Str("/"), body[4:9])
	assert.EqualValues(t, sftptalk.FxFailure, r.Status(sftptalk.FxpExtended, sftptalk.Str("hardlink@openssh.com"), sftptalk.Str("/f"), sftptalk.Str("/g")))
	assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpExtended, sftptalk.Str("hardlink@openssh.com"), sftptalk.Str("/f"), sftptalk.Str("/h")))
}

func TestAPasswordCanBeAskedForInteractively(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	for answer, works := range map[string]bool{testkit.Password: true, "wrong": false} {
		_, err := ssh.Dial("tcp", k.Address("sftp"), &ssh.ClientConfig{User: "ann", HostKeyCallback: ssh.InsecureIgnoreHostKey(),
			Auth: []ssh.AuthMethod{ssh.KeyboardInteractive(func(_, _ string, questions []string, echo []bool) ([]string, error) {
				assert.Equal(t, []string{"Password: "}, questions)
				assert.Equal(t, []bool{false}, echo)
				return []string{answer}, nil
			})}})
		assert.Equal(t, works, err == nil, "%v", err)
	}
}

func TestNothingButSFTPRunsOverSSH(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	client := sftptalk.SSH(t, k, "ann")
	_, err := client.Dial("tcp", k.Address("ftps"))
	assert.ErrorContains(t, err, "it forwards nothing")
	_, err = client.Listen("tcp", "127.0.0.1:0")
	assert.Error(t, err)
	session, err := client.NewSession()
	require.NoError(t, err)
	assert.Error(t, session.RequestSubsystem("netconf"))
	session, err = client.NewSession()
	require.NoError(t, err)
	out, err := session.CombinedOutput("id")
	assert.Contains(t, string(out), "this service moves files; it has no shell")
	var exit *ssh.ExitError
	require.ErrorAs(t, err, &exit)
	assert.Equal(t, 1, exit.ExitStatus())
	var live []api.Session
	k.Must(&live, "session", "list")
	require.Len(t, live, 1)
	assert.Equal(t, "aes128-gcm@openssh.com", live[0].Cipher)
	assert.Equal(t, "SSH-2.0-Go", live[0].Client)
}
