package clients_test

import (
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"urbankeep/tests/testkit/ftptalk"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
)

var update = flag.Bool("update", false, "write the replies of the recorded conversations anew")

// TestRecordedConversations plays each file of testdata/conversations to a service
// and compares what comes back. A file is
//
//	# what it shows
//	listener: ftp            which one; ftps when it is not said
//	account: -rights …       flags of account add for ann
//	file: name content       what lies in ann's home; \n and \r are escapes
//	> USER ann               a command; in quotes with escapes where it needs them
//	< 331 password, please   a line of a reply
//	>> text\r\n              what goes up the data connection
//	<< text\r\n              what comes down
//
// With -update the lines that come back are written anew: read them before they
// are committed.
func TestRecordedConversations(t *testing.T) {
	files, err := filepath.Glob("testdata/conversations/*.txt")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	seen := map[string]bool{}
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txt"), func(t *testing.T) {
			want := string(testkit.OnDisk(t, file))
			c := &recorded{t: t}
			got := c.play(want)
			for _, verb := range c.verbs {
				seen[verb] = true
			}
			if *update {
				require.NoError(t, os.WriteFile(file, []byte(got), 0o644))
				return
			}
			assert.Equal(t, want, got)
		})
	}
	for verb := range strings.FieldsSeq(`USER PASS ACCT REIN QUIT HOST AUTH PBSZ PROT CCC FEAT OPTS HELP SYST NOOP CLNT LANG STAT SITE TYPE STRU MODE PASV EPSV
		PORT EPRT REST RANG HASH ALLO PRET RETR STOR APPE STOU ABOR CWD CDUP PWD MKD RMD DELE RNFR RNTO SIZE AVBL MDTM MFMT MFF LIST NLST MLSD MLST XCWD XCUP XPWD XMKD XRMD`) {
		assert.True(t, seen[verb], "no conversation has %s", verb)
	}
}

// recorded is one conversation being played.
type recorded struct {
	t     *testing.T
	k     *testkit.Keep
	talk  *ftptalk.Talk
	verbs []string
	out   strings.Builder
}

func (c *recorded) play(script string) string {
	c.k = testkit.Start(c.t)
	listener, flags := "ftps", []string{}
	lines := strings.Split(strings.TrimSuffix(script, "\n"), "\n")
	i := 0
	for ; i < len(lines) && !strings.HasPrefix(lines[i], "> ") && !strings.HasPrefix(lines[i], "< "); i++ {
		c.out.WriteString(lines[i] + "\n")
		key, value, _ := strings.Cut(lines[i], ": ")
		switch key {
		case "listener":
			listener = value
		case "account":
			flags = strings.Fields(value)
		case "file":
			name, content, _ := strings.Cut(value, " ")
			path := filepath.Join(c.k.Home("ann"), name)
			require.NoError(c.t, os.MkdirAll(filepath.Dir(path), 0o750))
			require.NoError(c.t, os.WriteFile(path, []byte(c.unescape(content)), 0o640))
			require.NoError(c.t, os.Chtimes(path, testkit.LongAgo, testkit.LongAgo))
			require.NoError(c.t, os.Chtimes(filepath.Dir(path), testkit.LongAgo, testkit.LongAgo))
		}
	}
	c.k.Account("ann", flags...)
	if strings.Contains(script, "USER anonymous") && !strings.Contains(script, "no anonymous") {
		c.k.Must(nil, "account", "add", "anonymous", "-home", "files:ann")
	}
	c.talk = ftptalk.Open(c.t, c.k.Address(listener), listener == "ftps")
	c.wrote(c.talk.Reply())
	for ; i < len(lines); i++ {
		text, isCommand := strings.CutPrefix(lines[i], "> ")
		if !isCommand {
			continue
		}
		c.out.WriteString(lines[i] + "\n")
		var up []string
		for i+1 < len(lines) && !strings.HasPrefix(lines[i+1], "> ") {
			i++
			if data, isUp := strings.CutPrefix(lines[i], ">> "); isUp {
				up = append(up, data)
			}
		}
		c.command(text, up)
	}
	return c.out.String()
}

func (c *recorded) unescape(text string) string {
	plain, err := strconv.Unquote(`"` + strings.ReplaceAll(text, `"`, `\"`) + `"`)
	require.NoError(c.t, err, text)
	return plain
}

// command sends a command and plays what follows from it.
func (c *recorded) command(text string, up []string) {
	line := strings.ReplaceAll(text, "PASSWORD", testkit.Password)
	if strings.HasPrefix(text, `"`) {
		var err error
		line, err = strconv.Unquote(text)
		require.NoError(c.t, err, text)
	}
	verb, _, _ := strings.Cut(strings.ToUpper(line), " ")
	c.verbs = append(c.verbs, verb)
	switch c.wrote(c.talk.Command(line)) {
	case 234:
		c.talk.Secure()
	case 150:
		c.transfer(up)
		c.wrote(c.talk.Reply())
	}
}

var changing = []struct{ from, to string }{
	{`127,0,0,1,\d+,\d+`, "127,0,0,1,P,P"}, {`\|\|\|\d+\|`, "|||P|"}, {`unique=[^;]+`, "unique=U"},
	{`FILE: \S+`, "FILE: NAME"}, {`^( ?d\S+ +1 ann +ann +)\d+ `, "${1}SIZE "}, {`modify=20(2[1-9]|[3-9]\d)\d{10}`, "modify=NOW"},
}

// wrote writes a reply down; it gives the number.
func (c *recorded) wrote(code int, lines []string) int {
	for _, line := range lines {
		c.out.WriteString("< " + steady(line) + "\n")
	}
	if code == 0 {
		c.out.WriteString("< the connection ends\n")
	}
	return code
}

// steady puts words for what is different every time.
func steady(text string) string {
	for _, r := range changing {
		text = regexp.MustCompile(r.from).ReplaceAllString(text, r.to)
	}
	return text
}

// transfer moves data over the connection that the last PASV or EPSV named.
func (c *recorded) transfer(up []string) {
	data := c.talk.Data()
	defer data.Close()
	for _, text := range up {
		c.out.WriteString(">> " + text + "\n")
		_, err := io.WriteString(data, c.unescape(text))
		require.NoError(c.t, err)
	}
	if up != nil {
		data.Close()
		return
	}
	down, err := io.ReadAll(data)
	require.NoError(c.t, err)
	for line := range strings.SplitAfterSeq(string(down), "\n") {
		if line != "" {
			quoted := strconv.Quote(steady(line))
			c.out.WriteString(fmt.Sprintf("<< %s\n", strings.ReplaceAll(quoted[1:len(quoted)-1], `\"`, `"`)))
		}
	}
}
