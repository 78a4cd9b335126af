package scp

import (
	"bytes"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

func TestCommandsAreReadAsAShellWouldThatExpandsNothing(t *testing.T) {
	one := func(text string) []Name { return []Name{{Text: text}} }
	for line, want := range map[string]*Command{
		"scp -t .":                              {To: true, Names: one(".")},
		"scp -r -p -d -v -t -- '/a b/it'\\''s'": {To: true, Recursive: true, Times: true, Folder: true, Names: one("/a b/it's")},
		`/usr/bin/scp -prf "a \"b\" c"`:         {Recursive: true, Times: true, Names: one(`a "b" c`)},
		`scp -f ~/in/a\*b`:                      {Names: one("/in/a*b")},
		"scp -t ~":                              {To: true, Names: one("/")},
		"scp -t -- -x":                          {To: true, Names: one("-x")},
		"scp -f *.txt 'b*'[0-9] c":              {Names: []Name{{"*.txt", "*.txt"}, {"b*[0-9]", `b\*[0-9]`}, {Text: "c"}}},
		"scp -t ''":                             {To: true, Names: one("")},
	} {
		c, is, err := Parse(line)
		assert.NoError(t, err, line)
		assert.True(t, is, line)
		assert.Equal(t, want, c, line)
	}
	for line, want := range map[string]string{
		"scp":                "runs on your side",
		"scp a b":            "runs on your side",
		"scp -t":             "no name",
		"scp -t a b":         "more than one target",
		"scp -t -f a":        "one way",
		"scp -S x -t a":      "knows no -S",
		"scp -f a; rm -rf /": "no shell",
		"scp -f $(id)":       "no shell",
		"scp -f \"`id`\"":    "no shell",
		"scp -f a|b":         "no shell",
		"scp -f 'a":          "no shell",
		"scp -f \"a":         "no shell",
		`scp -f a\`:          "no shell",
		"scp -f a\nscp -t b": "no shell",
		"scp -f " + strings.Repeat("x", maxCommand): "no shell",
	} {
		_, is, err := Parse(line)
		assert.True(t, is, "%.50s", line)
		assert.ErrorContains(t, err, want, "%.50s", line)
	}
	for _, line := range []string{"", "ls", "scpx -t .", "/usr/lib/sftp-server", "rsync --server . scp"} {
		_, is, _ := Parse(line)
		assert.False(t, is, line)
	}
}

// silent is a house in which everybody may do everything and nobody watches.
type silent struct{ dir string }

func (s silent) Announce(keep.AuditRecord, string) (func(keep.AuditRecord) error, error) {
	return s.Record, nil
}
func (s silent) Hold(keep.AuditRecord) (func(keep.AuditRecord) error, error) { return s.Record, nil }
func (silent) Record(keep.AuditRecord) error                                 { return nil }
func (silent) Note(keep.AuditRecord)                                         {}
func (silent) Doing(keep.Action, string)                                     {}
func (silent) Room() error                                                   { return nil }
func (s silent) Begin(tree.Transfer) tree.Meter                              { return s }
func (silent) Reserve(n int64, _ bool) (int64, error)                        { return n, nil }
func (silent) Release(int64)                                                 {}
func (silent) Moved(int)                                                     {}
func (silent) Chunk() int                                                    { return 0 }
func (silent) Pace(int)                                                      {}
func (silent) End(keep.Outcome, keep.Reason)                                 {}

func (s silent) open(t testing.TB) *tree.Tree {
	all := keep.Protocols{keep.SCP}
	a := &keep.Account{Name: "ann", State: keep.StateActive, Mounts: []keep.Mount{{At: "/", Store: "files", Folder: "jail"}}, Grants: []keep.Grant{{Path: "/", Rights: keep.Full}}, Settings: keep.Settings{Protocols: &all}}
	e, err := keep.Resolve(a, nil)
	require.NoError(t, err)
	opened, err := tree.Open(tree.Who{Account: "ann"}, e, tree.House{Stores: []keep.Store{{Name: "files", Folder: s.dir}}, Ledger: quota.Unlimited(), Trail: s}, s)
	require.NoError(t, err)
	t.Cleanup(func() { opened.Close() })
	return opened.Over(keep.SCP)
}

// talk is a client that has sent all it will, and takes whatever comes.
type talk struct {
	io.Reader
	bytes.Buffer
}

func (t *talk) Read(p []byte) (int, error) { return t.Reader.Read(p) }

func play(t testing.TB, opened *tree.Tree, line, sent string) (status int, said string) {
	c, _, err := Parse(line)
	require.NoError(t, err, line)
	open := 0
	client := &talk{Reader: iotest.HalfReader(strings.NewReader(sent))}
	status = (&Session{Tree: opened, Line: client, Opened: func(n int) { open += n }, Work: func(do func() error) error { return do() }, Gone: func() *keep.Fault { return nil },
		Stop: func() {}, Failed: func(error) {}}).Run(c)
	require.Zero(t, open, "every open file was counted off")
	return status, client.String()
}

// jail makes a folder with a file beside it that nobody may reach.
func jail(t testing.TB) (dir string, opened *tree.Tree) {
	dir = t.TempDir()
	for name, content := range map[string]string{"jail/own": "own", "jail/sub/f": "f", "jail/.dot": "", "secret": "secret"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o750))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(content), 0o640))
	}
	require.NoError(t, os.Symlink("../sub", filepath.Join(dir, "jail", "sub", "round")))
	require.NoError(t, os.Symlink("../../secret", filepath.Join(dir, "jail", "sub", "out")))
	return dir, silent{dir}.open(t)
}

// What a peer sends never leaves the folder, whoever wrote that peer.
func TestHostilePeersStayInTheFolder(t *testing.T) {
	for sent, want := range map[string]string{
		"C0644 1 ../x\nx\x00":                  "name without slashes",
		"C0644 1 ..\nx\x00":                    "name without slashes",
		"C0644 1 /x\nx\x00":                    "name without slashes",
		"C0644 1 sub/x\nx\x00":                 "name without slashes",
		"D0755 0 ..\nC0644 1 x\nx\x00E\n":      "name without slashes",
		"C0644 -1 x\n":                         "protocol error",
		"C0644 99999999999999999999 x\n":       "protocol error",
		"C06 1 x\n":                            "protocol error",
		"C0644 1\n":                            "protocol error",
		"E\n":                                  "protocol error",
		"T1 2 3\n":                             "protocol error",
		"T1 0 99999999999999999 0\n":           "protocol error",
		"X\n":                                  "protocol error",
		"C0644 1 " + strings.Repeat("x", 9000): "too long",
		"C0644 1 " + strings.Repeat("x", 300) + "\n": "long",
		"D0755 0 own\n":        "a file has that name",
		"C0644 1 a\x1b[2Jb/\n": "?[2J",
	} {
		dir, opened := jail(t)
		status, said := play(t, opened, "scp -r -t .", sent)
		assert.Equal(t, 1, status, "%.60q", sent)
		assert.Contains(t, said, want, "%.60q", sent)
		assert.NotContains(t, said, "\x1b")
		entries, err := os.ReadDir(dir)
		require.NoError(t, err)
		assert.Len(t, entries, 2, "%.60q", sent)
	}
	_, opened := jail(t)
	for line, want := range map[string]string{"scp -f ../secret": "no such file", "scp -f sub/out": "out of the tree", "scp -f '*/out'": "no such file", "scp -f */out": "out of the tree", "scp -f /../../secret": "no such file", "scp -f [": "not closed", "scp -f zzz*": "nothing fits", "scp -f .": "give -r"} {
		status, said := play(t, opened, line, strings.Repeat("\x00", 20))
		assert.Equal(t, 1, status, line)
		assert.Contains(t, said, want, line)
		assert.NotContains(t, said, "secret\x00", line)
	}
}

func TestFilesComeAndGo(t *testing.T) {
	dir, opened := jail(t)
	status, said := play(t, opened, "scp -r -p -t .", "T1000000000 0 1000000001 0\nC0640 5 new\nhello\x00D0700 0 d\nC0644 0 empty\n\x00E\nC0600 3 own\nyes\x00")
	assert.Equal(t, "\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00", said)
	assert.Zero(t, status)
	for name, want := range map[string]string{"new": "hello", "d/empty": "", "own": "yes"} {
		text, err := os.ReadFile(filepath.Join(dir, "jail", name))
		require.NoError(t, err)
		assert.Equal(t, want, string(text), name)
	}
	info, err := os.Stat(filepath.Join(dir, "jail", "new"))
	require.NoError(t, err)
	assert.EqualValues(t, 1000000000, info.ModTime().Unix())

	status, said = play(t, opened, "scp -p -f n*", strings.Repeat("\x00", 10))
	assert.Equal(t, "T1000000000 0 1000000000 0\nC0640 5 new\nhello\x00", said)
	assert.Zero(t, status)
	status, said = play(t, opened, "scp -r -f sub", strings.Repeat("\x00", 20))
	assert.Equal(t, 1, status, "a link that leads out, and one that leads round")
	assert.Regexp(t, `(?s)^D0750 0 sub\nC0640 1 f\nf\x00.*/sub/out: .*/sub/round: the link leads back.*E\n$`, said)

	// A name on the disk that would be a line of its own.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "jail", "d", "x\nC0644 5 evil"), nil, 0o640))
	status, said = play(t, opened, "scp -r -f d", strings.Repeat("\x00", 20))
	assert.Equal(t, 1, status)
	assert.NotContains(t, said, "\nC0644 5 evil\n")
	assert.Contains(t, said, "a name with a line break can't be said here")

	// A client that leaves in the middle, one that could not read all, one that does not want it.
	status, _ = play(t, opened, "scp -t half", "C0644 10 half\nhell")
	assert.Equal(t, 1, status)
	status, _ = play(t, opened, "scp -f new", "\x00\x01no room\n")
	assert.Equal(t, 1, status)
}

// Whatever a client says: the session comes to an end, and what lies outside stays as it is.
func FuzzConversation(f *testing.F) {
	for _, sent := range []string{"C0644 5 x\nhello\x00", "D0755 0 d\nC0644 1 y\ny\x00E\n", "T1 0 2 0\nC0600 0 z\n\x00", "\x00\x00\x00\x00\x00\x00", "\x01no\n\x02over\n", "C0644 3 ../secret\nxxx\x00", "E\nE\n"} {
		for _, line := range []string{"scp -r -p -t .", "scp -t own", "scp -d -t sub", "scp -r -p -f .", "scp -f */* own"} {
			f.Add(line, sent)
		}
	}
	f.Fuzz(func(t *testing.T, line, sent string) {
		if c, is, err := Parse(line); !is || err != nil || c == nil {
			return
		}
		dir, opened := jail(t)
		_, said := play(t, opened, line, sent)
		text, err := os.ReadFile(filepath.Join(dir, "secret"))
		require.NoError(t, err)
		require.Equal(t, "secret", string(text))
		require.NotContains(t, said, "secret\x00")
		entries, err := os.ReadDir(dir)
		require.NoError(t, err)
		require.Len(t, entries, 2)
	})
}
