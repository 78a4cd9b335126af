package faults_test

import (
	"flag"
	"os"
	"os/exec"
	"testing"

	"go.uber.org/goleak"

	"urbankeep/tests/testkit"
)

// cuts is how often the power goes in each of the tests of that.
var cuts = flag.Int("cuts", 4, "how many `times` the power goes")

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// small mounts a file system of few megabytes, in memory.
func small(t *testing.T, options string) string {
	at := testkit.Folder(t)
	if os.Geteuid() != 0 || exec.Command("mount", "-t", "tmpfs", "-o", options, "tmpfs", at).Run() != nil {
		t.Skip("mounting needs root")
	}
	t.Cleanup(func() { exec.Command("umount", "-l", at).Run() })
	return at
}
