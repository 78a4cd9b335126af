//go:build linux

package faults_test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// shiftClock is what the program's own package time is given in addition: the seconds that a
// file holds, looked at every 20 ms.
const shiftClock = `package time

import (
	"sync/atomic"
	"syscall"
)

var shift atomic.Int64

func init() {
	name, ok := syscall.Getenv("URBANKEEP_TEST_CLOCK")
	if !ok {
		return
	}
	look := func() {
		f, err := open(name)
		if err != nil {
			return
		}
		text := make([]byte, 20)
		n, _ := read(f, text)
		closefd(f)
		var seconds int64
		for _, digit := range text[1:max(n, 1)] {
			seconds = seconds*10 + int64(digit-'0')
		}
		if text[0] == '-' {
			seconds = -seconds
		}
		shift.Store(seconds)
	}
	look()
	go func() {
		for {
			Sleep(20 * Millisecond)
			look()
		}
	}()
}
`

// clock is the wall clock of the programs that a test starts. The machine's stays as it is.
type clock struct{ file string }

// newClock builds the program with a clock that can be set, and more files in place of others, and has the test use it.
func newClock(t *testing.T, overlay map[string]string) *clock {
	goroot, err := exec.Command("go", "env", "GOROOT").Output()
	require.NoError(t, err)
	src := filepath.Join(strings.TrimSpace(string(goroot)), "src", "time")
	text, err := os.ReadFile(filepath.Join(src, "time.go"))
	require.NoError(t, err)
	const reads = "func Now() Time {\n\tsec, nsec, mono := runtimeNow()\n"
	require.Contains(t, string(text), reads, "package time of this Go is another one")
	overlay[filepath.Join(src, "time.go")] = strings.Replace(string(text), reads, reads+"\tsec += shift.Load()\n", 1)
	overlay[filepath.Join(src, "shift.go")] = shiftClock
	built(t, overlay)
	c := &clock{filepath.Join(t.TempDir(), "clock")}
	c.set(t, 0)
	t.Setenv("URBANKEEP_TEST_CLOCK", c.file)
	return c
}

// built builds the program with other texts in place of some files, and has the test use it.
func built(t *testing.T, overlay map[string]string) {
	dir := t.TempDir()
	replace := map[string]string{}
	for name, text := range overlay {
		name, err := filepath.Abs(name)
		require.NoError(t, err)
		replace[name] = filepath.Join(dir, fmt.Sprint(len(replace), ".go"))
		require.NoError(t, os.WriteFile(replace[name], []byte(text), 0o600))
	}
	plan, err := json.Marshal(map[string]any{"Replace": replace})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "overlay"), plan, 0o600))
	build := exec.Command("go", "build", "-overlay", filepath.Join(dir, "overlay"), "-o", filepath.Join(dir, "urbankeep"), "urbankeep/cmd/urbankeep")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	require.NoError(t, err, "%s", out)
	t.Setenv("URBANKEEP_TEST_BINARY", filepath.Join(dir, "urbankeep"))
}

// set sets the clock on or back from what is true.
func (c *clock) set(t *testing.T, by time.Duration) {
	require.NoError(t, os.WriteFile(c.file+"new", fmt.Appendf(nil, "%+d", int64(by.Seconds())), 0o600))
	require.NoError(t, os.Rename(c.file+"new", c.file))
}
