package notices_test

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
)

// said is what a program prints.
type said struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (s *said) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.Write(p)
}

func (s *said) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.String()
}

// example is a program that docs/notices.md shows, as a file: the n-th in a language.
func example(t *testing.T, language string, n int) string {
	text := string(testkit.OnDisk(t, "../../docs/notices.md"))
	found := regexp.MustCompile("(?s)```"+language+"\n(.*?)```").FindAllStringSubmatch(text, -1)
	require.Greater(t, len(found), n)
	file := filepath.Join(t.TempDir(), "example."+language)
	require.NoError(t, os.WriteFile(file, []byte(found[n][1]), 0o600))
	return file
}

// run runs a program until the test ends, and waits until its port is open.
func run(t *testing.T, secret string, port int, program string, args ...string) *said {
	heard := &said{}
	running := exec.Command(program, args...)
	running.Env = append(os.Environ(), "SECRET="+secret)
	running.Stdout, running.Stderr = heard, t.Output()
	require.NoError(t, running.Start())
	t.Cleanup(func() { running.Process.Kill(); running.Wait() })
	wait(t, program+" listens", func() bool {
		conn, err := net.DialTimeout("tcp", fmt.Sprint("127.0.0.1:", port), time.Second)
		if err == nil {
			conn.Close()
		}
		return err == nil
	})
	return heard
}

func TestTheReceiversOfTheManualWork(t *testing.T) {
	k, _ := start(t)
	for _, language := range [][2]string{{"python", "python3"}, {"javascript", "node"}} {
		name, port := language[0], testkit.FreePorts(t)
		var r made
		k.Must(&r, "receiver", "add", name, fmt.Sprintf("http://127.0.0.1:%d/", port), "-private")
		heard := run(t, r.Secret, port, language[1], example(t, name, 0), fmt.Sprint(port))
		k.Must(nil, "notice", "add", "to-"+name, "-events", "upload", "-receivers", name)
		upload(t, k, "gauge-quay", "/"+name+".csv")
		wait(t, "it is told", func() bool { return strings.Contains(heard.String(), "gauge-quay uploaded /"+name+".csv") })
		k.Must(nil, "receiver", "set", name, "-new-secret")
		assert.Contains(t, k.Refused("receiver", "test", name), "401", "a call that somebody else signed")
	}
}

func TestARealScannerSaysWhatComesIn(t *testing.T) {
	daemon := "/usr/sbin/clamd"
	if _, err := os.Stat(daemon); err != nil {
		t.Skip("clamd is not here: make tools")
	}
	k, _ := start(t)
	dir, port := t.TempDir(), testkit.FreePorts(t)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "signatures"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "signatures", "own.ndb"), []byte("Selwyn.Evil:0:*:"+hex.EncodeToString([]byte("a word that is evil"))+"\n"), 0o644))
	require.NoError(t, os.Chmod(dir, 0o755))
	config := filepath.Join(dir, "clamd.conf")
	require.NoError(t, os.WriteFile(config, fmt.Appendf(nil, "DatabaseDirectory %s\nTCPSocket %d\nTCPAddr 127.0.0.1\nForeground yes\nUser root\n", filepath.Join(dir, "signatures"), port), 0o644))
	run(t, "", port, daemon, "-c", config)
	var r made
	k.Must(&r, "receiver", "add", "scanner", fmt.Sprintf("http://127.0.0.1:%d/", port+1), "-private")
	run(t, r.Secret, port+1, "python3", example(t, "python", 1), fmt.Sprint(port+1), fmt.Sprint(port))
	partner(k, ",refused=quarantine")
	_, err := put(t, k, "partner", "/in/good.txt", strings.Repeat("nothing but good words. ", 100_000))
	require.NoError(t, err)
	_, err = put(t, k, "partner", "/in/bad.txt", "here is a word that is evil, hidden")
	require.NoError(t, err)
	wait(t, "both are decided", func() bool {
		return sees(k, "office", "/") == "good.txt quarantine" && sees(k, "office", "/quarantine/") == "bad.txt"
	})
	assert.Contains(t, k.Must(nil, "audit", "-json", "-action", "check"), "Selwyn.Evil")
}
