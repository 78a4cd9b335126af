package service_test

import (
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// raw speaks SFTP packet by packet, also what no client would send.
type raw struct {
	t    *testing.T
	in   io.WriteCloser
	out  io.Reader
	ssh  *ssh.Client
	next uint32
}

// The parts of the protocol that the tests name (draft-ietf-secsh-filexfer-02).
const (
	fxpInit, fxpVersion, fxpOpen, fxpClose, fxpRead, fxpWrite = 1, 2, 3, 4, 5, 6
	fxpLstat, fxpFstat, fxpSetstat, fxpOpendir, fxpReaddir    = 7, 8, 9, 11, 12
	fxpRemove, fxpMkdir, fxpRealpath, fxpStat, fxpRename      = 13, 14, 16, 17, 18
	fxpReadlink, fxpSymlink, fxpStatus, fxpHandle, fxpData    = 19, 20, 101, 102, 103
	fxpName, fxpAttrs, fxpExtended, fxpReply                  = 104, 105, 200, 201

	fxOK, fxEOF, fxNoSuchFile, fxDenied, fxFailure, fxBadMessage, fxUnsupported = 0, 1, 2, 3, 4, 5, 8
	fxfRead, fxfWrite, fxfAppend, fxfCreat, fxfTrunc, fxfExcl                   = 1, 2, 4, 8, 16, 32
)

func u32(n uint32) []byte { return binary.BigEndian.AppendUint32(nil, n) }
func u64(n uint64) []byte { return binary.BigEndian.AppendUint64(nil, n) }
func str(s string) []byte { return append(u32(uint32(len(s))), s...) }
func noAttrs() []byte     { return u32(0) }
func join(parts ...[]byte) (all []byte) {
	for _, p := range parts {
		all = append(all, p...)
	}
	return all
}

// dialSSH signs in with [testkit.Password].
func dialSSH(t *testing.T, k *testkit.Keep, account string) *ssh.Client {
	client, err := ssh.Dial("tcp", k.Address("sftp"), &ssh.ClientConfig{User: account, Auth: []ssh.AuthMethod{ssh.Password(testkit.Password)},
		HostKeyCallback: ssh.InsecureIgnoreHostKey(), Timeout: 20 * time.Second})
	require.NoError(t, err)
	t.Cleanup(func() { client.Close() })
	return client
}

// channel opens an sftp channel without a greeting.
func dialKey(t *testing.T, k *testkit.Keep, account, file string) *ssh.Client {
	signer, err := ssh.ParsePrivateKey(onDisk(t, file))
	require.NoError(t, err)
	client, err := ssh.Dial("tcp", k.Address("sftp"), &ssh.ClientConfig{User: account, Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	require.NoError(t, err)
	t.Cleanup(func() { client.Close() })
	return client
}

func channel(t *testing.T, client *ssh.Client) *raw {
	session, err := client.NewSession()
	require.NoError(t, err)
	in, err := session.StdinPipe()
	require.NoError(t, err)
	out, err := session.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, session.RequestSubsystem("sftp"))
	return &raw{t: t, in: in, out: out, ssh: client}
}

func dialRaw(t *testing.T, k *testkit.Keep, account string) *raw {
	r := channel(t, dialSSH(t, k, account))
	r.send(fxpInit, u32(3))
	kind, body := r.receive()
	require.EqualValues(t, fxpVersion, kind)
	require.Equal(t, u32(3), body[:4])
	return r
}

func (r *raw) send(kind byte, body []byte) {
	r.t.Helper()
	_, err := r.in.Write(join(u32(uint32(len(body)+1)), []byte{kind}, body))
	require.NoError(r.t, err)
}

func (r *raw) receive() (kind byte, body []byte) {
	r.t.Helper()
	var size [4]byte
	_, err := io.ReadFull(r.out, size[:])
	require.NoError(r.t, err)
	body = make([]byte, binary.BigEndian.Uint32(size[:]))
	_, err = io.ReadFull(r.out, body)
	require.NoError(r.t, err)
	return body[0], body[1:]
}

// ask sends one request and gives its reply without the request's number.
func (r *raw) ask(kind byte, body ...[]byte) (byte, []byte) {
	r.t.Helper()
	r.next++
	r.send(kind, join(append([][]byte{u32(r.next)}, body...)...))
	got, reply := r.receive()
	require.Equal(r.t, u32(r.next), reply[:4], "the reply has another number")
	return got, reply[4:]
}

// status sends a request that is answered by a status, and gives its code.
func (r *raw) status(kind byte, body ...[]byte) uint32 {
	r.t.Helper()
	got, reply := r.ask(kind, body...)
	require.EqualValues(r.t, fxpStatus, got)
	return binary.BigEndian.Uint32(reply)
}

// open gives a handle as it goes into requests.
func (r *raw) open(name string, flags uint32) []byte {
	r.t.Helper()
	got, reply := r.ask(fxpOpen, str(name), u32(flags), noAttrs())
	require.EqualValues(r.t, fxpHandle, got, "%q", reply)
	return reply
}

func (r *raw) read(handle []byte, offset uint64, size uint32) string {
	r.t.Helper()
	got, reply := r.ask(fxpRead, handle, u64(offset), u32(size))
	if got == fxpStatus {
		return fmt.Sprint("status ", binary.BigEndian.Uint32(reply))
	}
	return string(reply[4:])
}

func TestEveryWayToOpenAFile(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	r := dialRaw(t, k, "ann")
	file := filepath.Join(k.Home("ann"), "f")
	assert.EqualValues(t, fxNoSuchFile, r.status(fxpOpen, str("/f"), u32(fxfRead), noAttrs()))
	assert.EqualValues(t, fxNoSuchFile, r.status(fxpOpen, str("/f"), u32(fxfWrite), noAttrs()))
	assert.EqualValues(t, fxBadMessage, r.status(fxpOpen, str("/f"), u32(fxfCreat), noAttrs()))
	h := r.open("f", fxfWrite|fxfCreat|fxfExcl)
	assert.EqualValues(t, fxOK, r.status(fxpWrite, h, u64(0), str("hello world")))
	assert.EqualValues(t, fxOK, r.status(fxpWrite, h, u64(6), str("there")))
	assert.Equal(t, "status 4", r.read(h, 0, 5), "not opened for reading")
	assert.EqualValues(t, fxOK, r.status(fxpClose, h))
	assert.EqualValues(t, fxFailure, r.status(fxpClose, h), "closed twice")
	assert.Equal(t, "hello there", string(onDisk(t, file)))
	assert.EqualValues(t, fxFailure, r.status(fxpOpen, str("/f"), u32(fxfWrite|fxfCreat|fxfExcl), noAttrs()))

	h = r.open("/f", fxfRead|fxfWrite)
	assert.Equal(t, "there", r.read(h, 6, 100))
	assert.Equal(t, "status 1", r.read(h, 11, 100), "the end")
	assert.EqualValues(t, fxOK, r.status(fxpWrite, h, u64(20), str("far")))
	r.status(fxpClose, h)
	assert.Equal(t, "hello there\x00\x00\x00\x00\x00\x00\x00\x00\x00far", string(onDisk(t, file)))

	h = r.open("/f", fxfWrite|fxfTrunc)
	r.status(fxpWrite, h, u64(0), str("short"))
	r.status(fxpClose, h)
	assert.Equal(t, "short", string(onDisk(t, file)))

	h = r.open("/f", fxfWrite|fxfAppend)
	r.status(fxpWrite, h, u64(0), str(" and"))
	r.status(fxpWrite, h, u64(0), str(" long"))
	r.status(fxpClose, h)
	assert.Equal(t, "short and long", string(onDisk(t, file)))
	assert.EqualValues(t, fxFailure, r.status(fxpOpen, str("/"), u32(fxfRead), noAttrs()), "a folder is no file")
}

func TestStatusCodesSayWhatHappened(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	k.Account("bureau", "-rights", "read-only", "-home", "files:ann")
	r := dialRaw(t, k, "ann")
	assert.EqualValues(t, fxOK, r.status(fxpMkdir, str("/d"), noAttrs()))
	assert.EqualValues(t, fxFailure, r.status(fxpMkdir, str("/d"), noAttrs()))
	r.status(fxpClose, r.open("/d/f", fxfWrite|fxfCreat))
	r.status(fxpClose, r.open("/g", fxfWrite|fxfCreat))
	assert.EqualValues(t, fxFailure, r.status(15, str("/d")), "rmdir of a full folder")
	assert.EqualValues(t, fxFailure, r.status(fxpRemove, str("/d")))
	assert.EqualValues(t, fxNoSuchFile, r.status(fxpRemove, str("/none")))
	assert.EqualValues(t, fxFailure, r.status(fxpRename, str("/g"), str("/d/f")), "version 3 never renames onto a file")
	assert.EqualValues(t, fxOK, r.status(fxpExtended, str("posix-rename@openssh.com"), str("/g"), str("/d/f")))
	assert.EqualValues(t, fxDenied, r.status(fxpRemove, str("/a\x00b")))
	assert.EqualValues(t, fxUnsupported, r.status(fxpExtended, str("none@example.com")))
	assert.EqualValues(t, fxUnsupported, r.status(77))
	assert.EqualValues(t, fxOK, r.status(fxpSymlink, str("d/f"), str("/l")))
	got, body := r.ask(fxpReadlink, str("/l"))
	assert.EqualValues(t, fxpName, got)
	assert.Equal(t, str("d/f"), body[4:11])
	assert.EqualValues(t, fxFailure, r.status(fxpReadlink, str("/d/f")))
	for in, want := range map[string]string{"": "/", ".": "/", "..": "/", "d/../d/./f/": "/d/f", "/../../x": "/x"} {
		got, body := r.ask(fxpRealpath, str(in))
		assert.EqualValues(t, fxpName, got)
		assert.Equal(t, str(want), body[4:8+len(want)], in)
	}
	got, body = r.ask(fxpExtended, str("limits@openssh.com"))
	assert.EqualValues(t, fxpReply, got)
	assert.Len(t, body, 32)

	b := dialRaw(t, k, "bureau")
	for _, refused := range []uint32{
		b.status(fxpRemove, str("/d/f")), b.status(fxpMkdir, str("/e"), noAttrs()), b.status(fxpRename, str("/d/f"), str("/x")),
		b.status(fxpOpen, str("/d/f"), u32(fxfWrite), noAttrs()), b.status(fxpOpen, str("/new"), u32(fxfWrite|fxfCreat), noAttrs()),
		b.status(fxpSetstat, str("/d/f"), u32(4), u32(0o600)), b.status(fxpSetstat, str("/d/f"), u32(1), u64(0)), b.status(fxpSymlink, str("d"), str("/x")),
	} {
		assert.EqualValues(t, fxDenied, refused)
	}
}

func TestAttributesAreSetAndTold(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	k.Account("gauge", "-rights", "drop-only")
	r := dialRaw(t, k, "ann")
	h := r.open("/f", fxfWrite|fxfCreat)
	r.status(fxpWrite, h, u64(0), str("0123456789"))
	assert.EqualValues(t, fxOK, r.status(10, h, u32(1), u64(4)), "FSETSTAT of the size")
	r.status(fxpClose, h)
	assert.EqualValues(t, fxOK, r.status(fxpSetstat, str("/f"), u32(4|8), u32(0o640), u32(1_000_000_000), u32(1_100_000_000)))
	got, body := r.ask(fxpStat, str("/f"))
	assert.EqualValues(t, fxpAttrs, got)
	assert.Equal(t, join(u32(1|4|8), u64(4), u32(0o100640), u32(1_100_000_000), u32(1_100_000_000)), body)
	assert.EqualValues(t, fxUnsupported, r.status(fxpSetstat, str("/f"), u32(2), u32(0), u32(0)), "owners stay")
	assert.EqualValues(t, fxBadMessage, r.status(fxpSetstat, str("/f"), u32(1), u64(1<<63)))
	got, body = r.ask(fxpLstat, str("/"))
	assert.EqualValues(t, fxpAttrs, got)
	assert.EqualValues(t, 0o040000, binary.BigEndian.Uint32(body[12:])&0o170000)

	g := dialRaw(t, k, "gauge") // may only drop files, but set the time of the one it is making
	h = g.open("/level.csv", fxfWrite|fxfCreat)
	assert.EqualValues(t, fxOK, g.status(10, h, u32(8), u32(1_000_000_000), u32(1_000_000_000)))
	g.status(fxpClose, h)
	info, err := os.Stat(filepath.Join(k.Home("gauge"), "level.csv"))
	require.NoError(t, err)
	assert.EqualValues(t, 1_000_000_000, info.ModTime().Unix())
	assert.EqualValues(t, fxDenied, g.status(fxpSetstat, str("/level.csv"), u32(8), u32(1), u32(1)))
	assert.EqualValues(t, fxDenied, g.status(fxpOpendir, str("/")))
}

func TestFoldersComeInPagesAndOnce(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	require.NoError(t, os.MkdirAll(k.Home("ann"), 0o750))
	for n := range 300 {
		require.NoError(t, os.WriteFile(filepath.Join(k.Home("ann"), fmt.Sprintf("f%03d", n)), nil, 0o640))
	}
	require.NoError(t, os.WriteFile(filepath.Join(k.Home("ann"), "forged\nline"), nil, 0o640))
	r := dialRaw(t, k, "ann")
	_, h := r.ask(fxpOpendir, str("/"))
	total := 0
	for {
		got, body := r.ask(fxpReaddir, h)
		if got == fxpStatus {
			assert.EqualValues(t, fxEOF, binary.BigEndian.Uint32(body))
			break
		}
		total += int(binary.BigEndian.Uint32(body))
		assert.Contains(t, string(body), "-rw-r-----    1 ann      ann             0 ")
		assert.NotContains(t, string(body), "forged")
	}
	assert.Equal(t, 300, total)
	assert.EqualValues(t, fxFailure, r.status(fxpRead, h, u64(0), u32(1)), "a folder's handle is no file's")
	assert.EqualValues(t, fxOK, r.status(fxpClose, h))
	assert.EqualValues(t, fxFailure, r.status(fxpReaddir, h))
	assert.EqualValues(t, fxFailure, r.status(fxpOpendir, str("/f000")))
}

func TestRequestsSentAheadAreAnsweredInOrder(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	r := dialRaw(t, k, "ann")
	h := r.open("/f", fxfRead|fxfWrite|fxfCreat)
	const n = 500
	go func() { // the test reads its replies below, which ends it
		for i := range uint32(n) {
			body := join(u32(1000+i), h, u64(uint64(i)*4), str(fmt.Sprintf("%04d", i)))
			r.in.Write(join(u32(uint32(len(body)+1)), []byte{fxpWrite}, body))
		}
	}()
	for i := range uint32(n) {
		kind, body := r.receive()
		assert.EqualValues(t, fxpStatus, kind)
		assert.Equal(t, join(u32(1000+i), u32(fxOK)), body[:8])
	}
	assert.Equal(t, "0000000100020003", r.read(h, 0, 16))
	assert.Equal(t, "0499", r.read(h, 4*(n-1), 16))
}

func TestTooManyHandlesAreRefusedAndTheRestWorks(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	r := dialRaw(t, k, "ann")
	var handles [][]byte
	for {
		got, reply := r.ask(fxpOpen, str(fmt.Sprintf("/f%d", len(handles))), u32(fxfWrite|fxfCreat), noAttrs())
		if got == fxpStatus {
			assert.EqualValues(t, fxFailure, binary.BigEndian.Uint32(reply))
			break
		}
		handles = append(handles, reply)
		require.Less(t, len(handles), 2000)
	}
	assert.Len(t, handles, 256)
	assert.EqualValues(t, fxOK, r.status(fxpClose, handles[7]))
	r.open("/more", fxfWrite|fxfCreat)
}

func TestBrokenPacketsEndTheSessionAndNothingElse(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	for name, packet := range map[string][]byte{
		"length beyond the limit": {0xff, 0xff, 0xff, 0xff, 5}, "no length": {0, 0, 0, 0}, "no number": {0, 0, 0, 2, 5, 0},
	} {
		r := dialRaw(t, k, "ann")
		_, err := r.in.Write(packet)
		require.NoError(t, err)
		rest, err := io.ReadAll(r.out)
		assert.NoError(t, err, name)
		assert.Empty(t, rest, name)
	}
	r := dialRaw(t, k, "ann")
	for _, body := range [][]byte{{}, u32(50), join(u32(4), []byte("ab")), str("wrong handle")} {
		assert.EqualValues(t, fxBadMessage, r.status(fxpStat, body[:min(len(body), 5)]), "%q", body)
		assert.Contains(t, []uint32{fxBadMessage, fxFailure}, r.status(fxpRead, body))
	}
	assert.EqualValues(t, fxBadMessage, r.status(fxpOpen, str("/x")))
	assert.EqualValues(t, fxBadMessage, r.status(fxpRename, str("/x")))
	assert.NoFileExists(t, filepath.Join(k.Home("ann"), "x"))
	old := channel(t, r.ssh)
	old.send(fxpInit, u32(2))
	rest, err := io.ReadAll(old.out)
	assert.NoError(t, err)
	assert.Empty(t, rest, "version 2 is not spoken")
	assert.EqualValues(t, fxOK, r.status(fxpMkdir, str("/still-here"), noAttrs()))
}

func TestAClientCutOffInTheMiddleLeavesWhatArrived(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	r := dialRaw(t, k, "ann")
	h := r.open("/f", fxfWrite|fxfCreat)
	require.EqualValues(t, fxOK, r.status(fxpWrite, h, u64(0), str("arrived")))
	r.ssh.Close()
	require.Eventually(t, func() bool {
		found := transfers(k)
		return len(found) == 1 && found[0].Outcome == "interrupted"
	}, 10*time.Second, 20*time.Millisecond)
	found := transfers(k)[0]
	assert.EqualValues(t, "client-gone", found.Reason)
	assert.EqualValues(t, 7, found.Bytes)
	assert.Equal(t, "arrived", string(onDisk(t, filepath.Join(k.Home("ann"), "f"))))
}

func TestExtensionsOfCommonClients(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	r := dialRaw(t, k, "ann")
	content := make([]byte, 700_000)
	for i := range content {
		content[i] = byte(i >> 4)
	}
	require.NoError(t, os.MkdirAll(k.Home("ann"), 0o750))
	require.NoError(t, os.WriteFile(filepath.Join(k.Home("ann"), "f"), content, 0o640))
	from, to := r.open("/f", fxfRead), r.open("/g", fxfWrite|fxfCreat)
	assert.EqualValues(t, fxOK, r.status(fxpExtended, str("copy-data"), from, u64(1000), u64(0), to, u64(0)))
	assert.EqualValues(t, fxOK, r.status(fxpExtended, str("copy-data"), from, u64(0), u64(10), to, u64(5)))
	assert.EqualValues(t, fxFailure, r.status(fxpExtended, str("copy-data"), from, u64(0), u64(0), from, u64(0)))
	assert.EqualValues(t, fxFailure, r.status(fxpExtended, str("copy-data"), to, u64(0), u64(0), from, u64(0)), "wrong ways round")
	assert.EqualValues(t, fxOK, r.status(fxpExtended, str("fsync@openssh.com"), to))
	r.status(fxpClose, to)
	want := append(append(append([]byte(nil), content[1000:1005]...), content[:10]...), content[1015:]...)
	assert.Equal(t, want, onDisk(t, filepath.Join(k.Home("ann"), "g")))

	got, body := r.ask(fxpExtended, str("statvfs@openssh.com"), str("/"))
	assert.EqualValues(t, fxpReply, got)
	require.Len(t, body, 88)
	assert.NotZero(t, binary.BigEndian.Uint64(body[16:]), "how much there is")
	got, body2 := r.ask(fxpExtended, str("fstatvfs@openssh.com"), from)
	assert.EqualValues(t, fxpReply, got)
	assert.Equal(t, body[:24], body2[:24])
	assert.EqualValues(t, fxNoSuchFile, r.status(fxpExtended, str("statvfs@openssh.com"), str("/none")))

	assert.EqualValues(t, fxOK, r.status(fxpSymlink, str("f"), str("/l")))
	assert.EqualValues(t, fxUnsupported, r.status(fxpExtended, str("lsetstat@openssh.com"), str("/l"), u32(4), u32(0o600)))
	assert.EqualValues(t, fxOK, r.status(fxpExtended, str("lsetstat@openssh.com"), str("/f"), u32(4), u32(0o600)))
	got, body = r.ask(fxpExtended, str("expand-path@openssh.com"), str("~/f"))
	assert.EqualValues(t, fxpName, got)
	assert.Equal(t, str("/f"), body[4:10])
	got, body = r.ask(fxpExtended, str("home-directory"), str("ann"))
	assert.EqualValues(t, fxpName, got)
	assert.Equal(t, str("/"), body[4:9])
	assert.EqualValues(t, fxFailure, r.status(fxpExtended, str("hardlink@openssh.com"), str("/f"), str("/g")))
	assert.EqualValues(t, fxOK, r.status(fxpExtended, str("hardlink@openssh.com"), str("/f"), str("/h")))
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
	client := dialSSH(t, k, "ann")
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
	assert.Equal(t, "this service moves files; it has no shell\r\n", string(out))
	var exit *ssh.ExitError
	require.ErrorAs(t, err, &exit)
	assert.Equal(t, 1, exit.ExitStatus())
	var live []api.Session
	k.Must(&live, "session", "list")
	require.Len(t, live, 1)
	assert.Equal(t, "aes128-gcm@openssh.com", live[0].Cipher)
	assert.Equal(t, "SSH-2.0-Go", live[0].Client)
}
