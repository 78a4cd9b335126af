package sftp

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/binary"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
	"golang.org/x/crypto/ssh"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// silent is a house in which everybody may do everything and nobody watches.
type silent struct{ dir string }

func (s silent) Announce(keep.AuditRecord, string) (func(keep.AuditRecord) error, error) {
	return s.Record, nil
}
func (s silent) Hold(keep.AuditRecord) (func(keep.AuditRecord) error, error) { return s.Record, nil }
func (silent) Record(keep.AuditRecord) error                                 { return nil }
func (silent) Note(keep.AuditRecord)                                         {}
func (silent) Doing(_ keep.Action, at string) {
	if at == "/slow" {
		time.Sleep(2500 * time.Millisecond)
	}
}
func (s silent) Room() error                                     { return nil }
func (s silent) Begin(tree.Transfer) tree.Meter                  { return s }
func (silent) Reserve(n int64, _ bool) (int64, error)            { return n, nil }
func (silent) Release(int64)                                     {}
func (silent) Moved(int)                                         {}
func (silent) Chunk() int                                        { return 0 }
func (silent) Pace(int)                                          {}
func (silent) End(keep.Outcome, keep.Reason)                     {}
func (silent) Secured(string)                                    {}
func (silent) Named(string)                                      {}
func (silent) SignOut(*keep.Fault)                               {}
func (silent) Offer(context.Context, string, ssh.PublicKey) bool { return false }
func (s silent) Arrive(net.Addr, keep.Protocol, bool, func(*keep.Fault)) Visit {
	return s
}
func (s silent) KeyProved(context.Context, string, ssh.PublicKey) (*tree.Tree, error) {
	return nil, keep.Refuse(keep.BadCredentials, "no")
}
func (silent) Link(context.Context, string) *Link { return nil }
func (silent) ChangePassword(context.Context, string, keep.Secret, keep.Secret, string) error {
	return nil
}
func (s silent) Answer(ctx context.Context, account string, password keep.Secret, _ string) (*tree.Tree, error) {
	return s.SignIn(ctx, account, password)
}
func (s silent) SignIn(context.Context, string, keep.Secret) (*tree.Tree, error) {
	a := &keep.Account{Name: "ann", State: keep.StateActive, Mounts: []keep.Mount{{At: "/", Store: "files", Folder: "jail"}}, Grants: []keep.Grant{{Path: "/", Rights: keep.Full}}}
	e, err := keep.Resolve(a, nil)
	if err != nil {
		return nil, err
	}
	return tree.Open(tree.Who{Account: "ann"}, e, tree.House{Stores: []keep.Store{{Name: "files", Folder: s.dir}}, Ledger: quota.Unlimited(), Trail: s}, s)
}

// pipe is a channel whose client has sent all it will and takes whatever comes.
type pipe struct {
	ssh.Channel
	in  io.Reader
	out bytes.Buffer
}

func (p *pipe) Read(b []byte) (int, error)  { return p.in.Read(b) }
func (p *pipe) Write(b []byte) (int, error) { return p.out.Write(b) }

// play runs a session on what a client sends and gives all that it answers.
func play(t testing.TB, dir string, in io.Reader) []byte {
	h := silent{dir}
	opened, err := h.SignIn(t.Context(), "ann", "")
	require.NoError(t, err)
	defer opened.Close()
	c := &conn{server: &Server{Timeouts: DefaultTimeouts, Log: slog.New(slog.DiscardHandler)}, tree: opened, idle: time.NewTimer(time.Hour), raw: nowhere{}, ctx: t.Context(), cancel: func() {}}
	p := &pipe{in: in}
	s := newSession(c, p)
	s.run()
	require.Zero(t, c.open, "every open file was counted off")
	return p.out.Bytes()
}

func packet(kind byte, body ...[]byte) []byte {
	all := bytes.Join(body, nil)
	return append(append(binary.BigEndian.AppendUint32(nil, uint32(len(all)+1)), kind), all...)
}

func n32(n uint32) []byte  { return binary.BigEndian.AppendUint32(nil, n) }
func n64(n uint64) []byte  { return binary.BigEndian.AppendUint64(nil, n) }
func text(s string) []byte { return append(n32(uint32(len(s))), s...) }

// FuzzSession lets a client say anything in any order. The session must answer
// in whole packets, come to an end, and touch nothing outside the jail.
func FuzzSession(f *testing.F) {
	hello := packet(pktInit, n32(3))
	one := append(n32(4), n32(1)...) // the first handle
	for _, talk := range [][][]byte{
		{packet(pktOpen, n32(1), text("f"), n32(openRead|openWrite|openCreate), n32(0)), packet(pktWrite, n32(2), one, n64(0), text("hello")),
			packet(pktRead, n32(3), one, n64(0), n32(100)), packet(pktFstat, n32(4), one), packet(pktClose, n32(5), one)},
		{packet(pktOpendir, n32(1), text("/")), packet(pktReaddir, n32(2), one), packet(pktReaddir, n32(3), one)},
		{packet(pktSymlink, n32(1), text("../secret"), text("way")), packet(pktReadlink, n32(2), text("way")), packet(pktStat, n32(3), text("../../secret"))},
		{packet(pktMkdir, n32(1), text("d"), n32(0)), packet(pktRename, n32(2), text("d"), text("e")), packet(pktRmdir, n32(3), text("e"))},
		{packet(pktSetstat, n32(1), text("own"), n32(attrSize|attrMode|attrTimes|attrExtended), n64(3), n32(0o777), n32(1), n32(1), n32(1), text("a"), text("b"))},
		{packet(pktExtended, n32(1), text("statvfs@openssh.com"), text("/")), packet(pktExtended, n32(2), text("copy-data"), one, n64(0), n64(0), one, n64(0))},
		{packet(pktExtended, n32(1), text("hardlink@openssh.com"), text("../secret"), text("x")), packet(pktRemove, n32(2), text("../secret"))},
		{{0xff, 0xff, 0xff, 0xff}}, {{0, 0, 0, 1, 5}}, {packet(200, n32(1))},
	} {
		f.Add(append(append([]byte(nil), hello...), bytes.Join(talk, nil)...))
	}
	f.Fuzz(func(t *testing.T, in []byte) {
		dir := t.TempDir()
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "jail"), 0o750))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "jail", "own"), []byte("own"), 0o640))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("secret"), 0o640))
		out := play(t, dir, iotest.HalfReader(bytes.NewReader(in)))
		for len(out) > 0 {
			require.GreaterOrEqual(t, len(out), 5)
			size := binary.BigEndian.Uint32(out)
			require.LessOrEqual(t, uint64(size)+4, uint64(len(out)), "half a packet")
			require.Contains(t, []byte{pktVersion, pktStatus, pktHandle, pktData, pktName, pktAttrs, pktReply}, out[4])
			out = out[4+size:]
		}
		kept, err := os.ReadFile(filepath.Join(dir, "secret"))
		require.NoError(t, err)
		require.Equal(t, "secret", string(kept))
		entries, err := os.ReadDir(dir)
		require.NoError(t, err)
		require.Len(t, entries, 2, "something was made outside the jail")
	})
}

// nowhere is a connection of which only the address is asked.
type nowhere struct{ net.Conn }

func (nowhere) RemoteAddr() net.Addr { return &net.TCPAddr{} }

// oneKey is a ring of one host key.
type oneKey struct{ ssh.Signer }

func (k oneKey) Serving() []ssh.Signer { return []ssh.Signer{k.Signer} }
func (k oneKey) Known() []ssh.Signer   { return []ssh.Signer{k.Signer} }

// quickly runs a server whose patience is short.
func quickly(t *testing.T) string {
	signer := hostKey(t)
	s := &Server{HostKeys: oneKey{signer}, Keeper: silent{t.TempDir()}, Timeouts: Timeouts{SignIn: time.Second, Idle: time.Second, Alive: 300 * time.Millisecond},
		Log: slog.New(slog.DiscardHandler)}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	served := make(chan error, 1)
	go func() { served <- s.Serve(l) }()
	t.Cleanup(func() {
		s.Shutdown(context.Background())
		assert.NoError(t, <-served)
	})
	return l.Addr().String()
}

func TestHalfOpenAndSlowHandshakesEnd(t *testing.T) {
	address := quickly(t)
	for name, say := range map[string]string{"says nothing": "", "stops after its version": "SSH-2.0-slow\r\n", "is something else": "GET / HTTP/1.1\r\n\r\n"} {
		raw, err := net.Dial("tcp", address)
		require.NoError(t, err)
		defer raw.Close()
		io.WriteString(raw, say)
		raw.SetReadDeadline(time.Now().Add(10 * time.Second))
		_, err = io.Copy(io.Discard, raw)
		assert.False(t, isTimeout(err), "%s: still open", name)
	}
}

func isTimeout(err error) bool { e, ok := err.(net.Error); return ok && e.Timeout() }

func TestAnIdleSessionEndsAndABusyOneDoesNot(t *testing.T) {
	client, err := ssh.Dial("tcp", quickly(t), &ssh.ClientConfig{User: "ann", Auth: []ssh.AuthMethod{ssh.Password("x")}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	require.NoError(t, err)
	defer client.Close()
	session, err := client.NewSession()
	require.NoError(t, err)
	in, _ := session.StdinPipe()
	out, _ := session.StdoutPipe()
	require.NoError(t, session.RequestSubsystem("sftp"))
	in.Write(packet(pktInit, n32(3)))
	_, err = readOne(out)
	require.NoError(t, err)
	for n := range uint32(20) { // twice the idle limit in all
		time.Sleep(100 * time.Millisecond)
		in.Write(packet(pktRealpath, n32(n), text(".")))
		_, err = readOne(out)
		require.NoError(t, err)
	}
	in.Write(packet(pktMkdir, n32(99), text("slow"), n32(0)))
	_, err = readOne(out)
	require.NoError(t, err, "what takes the service long is not idleness")
	in.Write(packet(pktRealpath, n32(100), text(".")))
	_, err = readOne(out)
	require.NoError(t, err)
	ended := make(chan error, 1)
	go func() { ended <- client.Wait() }()
	select {
	case <-ended:
	case <-time.After(10 * time.Second):
		t.Fatal("an idle session goes on")
	}
}

func TestTheOfferFitsTheClient(t *testing.T) {
	if !quickAES() {
		assert.Equal(t, ssh.CipherChaCha20Poly1305, Ciphers(nil)[0])
		return
	}
	assert.Equal(t, gcm, Ciphers([]string{ssh.CipherChaCha20Poly1305, ssh.CipherAES128CTR, ssh.CipherAES256GCM}))
	assert.Equal(t, ctr, Ciphers([]string{ssh.CipherChaCha20Poly1305, ssh.CipherAES128CTR}))
	assert.Contains(t, Ciphers([]string{ssh.CipherChaCha20Poly1305}), ssh.CipherChaCha20Poly1305)
	assert.Len(t, Ciphers(nil), 6)

	// What the client sends first is looked at and not lost, however it comes, and whatever it is.
	lists := func(up, down string) []byte {
		var e encoder
		e.b = append(e.b, make([]byte, 18)...)
		e.b[1] = msgKexInit
		for _, list := range []string{"kex", "keys", up, down} {
			e.string(list)
		}
		return append(binary.BigEndian.AppendUint32(nil, uint32(len(e.b))), e.b...)
	}
	version := "SSH-2.0-Other\r\n"
	for sent, want := range map[string][]string{version + string(lists("a,b,c", "c,x,a")): {"a", "c"}, version: nil, "": nil, version + "\xff\xff\xff\xff": nil, version + "\x00\x00\x00\x02\x00\x14": nil,
		version + string(lists("a", "a")[:40]): nil, strings.Repeat("x", 400): nil} {
		ours, theirs := net.Pipe()
		go func() {
			for i := range len(sent) {
				theirs.Write([]byte(sent[i : i+1]))
			}
		}()
		said := make(chan string)
		go func() {
			line, _ := bufio.NewReader(theirs).ReadString('\n')
			said <- line
		}()
		p, name, ciphers, err := peek(ours)
		require.NoError(t, err)
		assert.Equal(t, want, ciphers, "%q", sent)
		assert.Equal(t, ourVersion+"\r\n", <-said)
		if strings.HasPrefix(sent, version) {
			assert.Equal(t, "SSH-2.0-Other", name)
			assert.Equal(t, sent, string(p.first))
		}
		n, err := p.Write([]byte(ourVersion + "\r\n"))
		assert.NoError(t, err)
		assert.Equal(t, len(ourVersion)+2, n, "it does not go out twice")
		ours.Close()
		theirs.Close()
	}
}

func hostKey(t *testing.T) ssh.Signer {
	_, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	return signer
}
