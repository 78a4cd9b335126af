package packages_test

import (
	"bufio"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
)

// A container of the image serves, as a user of its own, on a root that can't be written.
func TestTheImageRunsInAContainer(t *testing.T) {
	out := t.TempDir()
	build := exec.Command("go", "run", "./scripts/package", "-kind", "image", "-platforms", "linux/"+runtime.GOARCH, "-version", "1.2.3", "-out", out)
	build.Dir = "../.."
	text, err := build.CombinedOutput()
	require.NoError(t, err, string(text))
	image := filepath.Join(out, "image")
	require.NoError(t, os.Mkdir(image, 0o755))
	said, err := testkit.Run(t, "", "tar", "-xf", filepath.Join(out, "urbankeep_1.2.3_linux_"+runtime.GOARCH+".oci.tar"), "-C", image)
	require.NoError(t, err, said)
	if _, err := exec.LookPath("umoci"); err != nil || os.Getuid() != 0 {
		t.Skip("it is not unpacked: that takes root, and umoci")
	}
	bundle := filepath.Join(out, "bundle")
	said, err = testkit.Run(t, "", "umoci", "unpack", "--image", image+":1.2.3", bundle)
	require.NoError(t, err, said)
	var config struct {
		Process map[string]any   `json:"process"`
		Root    map[string]any   `json:"root"`
		Mounts  []map[string]any `json:"mounts"`
		Linux   map[string]any   `json:"linux"`
		OCI     string           `json:"ociVersion"`
	}
	plan := testkit.OnDisk(t, filepath.Join(bundle, "config.json"))
	require.NoError(t, json.Unmarshal(plan, &config))
	assert.EqualValues(t, 65532, config.Process["user"].(map[string]any)["uid"])
	info, err := os.Stat(filepath.Join(bundle, "rootfs", "data"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())

	// The volume for the data is a folder of this machine; the network is this machine's.
	data := testkit.Folder(t)
	require.NoError(t, os.Chown(data, 65532, 65532))
	for _, mount := range config.Mounts {
		if mount["destination"] == "/data" {
			mount["type"], mount["source"], mount["options"] = "bind", data, []string{"bind", "rw"}
		}
	}
	var spaces []any
	for _, space := range config.Linux["namespaces"].([]any) {
		if space.(map[string]any)["type"] != "network" {
			spaces = append(spaces, space)
		}
	}
	config.Linux["namespaces"], config.Process["terminal"], config.Root["readonly"] = spaces, false, true
	config.Process["args"] = []string{"/usr/bin/urbankeep", "serve", "-console", ":0", "-ftp", "127.0.0.1:0", "-ftps", "127.0.0.1:0", "-sftp", "127.0.0.1:0"}
	plan, err = json.Marshal(config)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(bundle, "config.json"), plan, 0o600))
	root, name := t.TempDir(), "urbankeep-"+filepath.Base(data)
	run := exec.Command("runc", "--root", root, "run", name)
	run.Dir = bundle
	stdout, err := run.StdoutPipe()
	require.NoError(t, err)
	run.Stderr = t.Output()
	require.NoError(t, run.Start())
	ended := make(chan error, 1)
	lines := bufio.NewScanner(stdout)
	address := ""
	for lines.Scan() {
		if rest, ok := strings.CutPrefix(lines.Text(), "ready: console https://"); ok {
			address, _, _ = strings.Cut(rest, " ")
			break
		}
	}
	if address == "" {
		t.Skip("no container can be made on this machine: ", run.Wait())
	}
	go func() { ended <- run.Wait() }()
	stopped := false
	t.Cleanup(func() {
		if !stopped {
			exec.Command("runc", "--root", root, "delete", "-f", name).Run()
			<-ended
		}
	})
	said, err = testkit.Run(t, "", "curl", "-sSk", "https://"+address+"/readyz")
	require.NoError(t, err, said)
	assert.Equal(t, "ready\n", said)
	said, err = testkit.Run(t, "", "runc", "--root", root, "exec", name, "/usr/bin/urbankeep", "ready")
	require.NoError(t, err, said)
	assert.Equal(t, "ready\n", said)
	require.NoError(t, exec.Command("runc", "--root", root, "kill", name, "TERM").Run())
	stopped = true
	assert.NoError(t, <-ended, "it ends properly")
	assert.FileExists(t, filepath.Join(data, "urbankeep.db"))
}
