// Package counterpart starts the real services that stores are tried against, from Debian's packages and from npm, each on loopback and
// in a folder of its own.
package counterpart

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
	"urbankeep/tests/testkit"
)

// Swift is OpenStack's object store with its S3 face.
type Swift struct {
	t    testing.TB
	dir  string
	Site keep.Site // of its bucket
	run  map[string]*exec.Cmd
	conf map[string]string
}

// SwiftSecret is the secret of its key.
const SwiftSecret = "testing"

// StartSwift starts it, with a bucket.
func StartSwift(t testing.TB, bucket string) *Swift {
	if _, err := exec.LookPath("swift-proxy-server"); err != nil {
		t.Skip("no object store is installed: scripts/install-tools")
	}
	port := testkit.FreePorts(t)
	s := &Swift{t: t, dir: withAttributes(t), run: map[string]*exec.Cmd{}, conf: map[string]string{}}
	write := func(name, text string) string {
		full := filepath.Join(s.dir, name)
		require.NoError(t, os.WriteFile(full, []byte(text), 0o644))
		return full
	}
	require.NoError(t, os.MkdirAll(filepath.Join(s.dir, "srv", "d1"), 0o755))
	write("swift.conf", "[swift-hash]\nswift_hash_path_suffix = changeme\nswift_hash_path_prefix = changeme\n[storage-policy:0]\nname = gold\ndefault = yes\n")
	for n, kind := range []string{"account", "container", "object"} {
		builder := filepath.Join(s.dir, kind+".builder")
		for _, args := range [][]string{{"create", "8", "1", "0"}, {"add", "--region", "1", "--zone", "1", "--ip", "127.0.0.1", "--port", strconv.Itoa(port + 1 + n), "--device", "d1", "--weight", "1"}, {"rebalance"}} {
			out, err := exec.Command("swift-ring-builder", append([]string{builder}, args...)...).CombinedOutput()
			if err != nil && !strings.Contains(string(out), "rebalance") {
				require.NoError(t, err, string(out))
			}
		}
		s.conf[kind] = write(kind+"-server.conf", fmt.Sprintf(`[DEFAULT]
devices = %s/srv
mount_check = false
disable_fallocate = true
workers = 0
bind_ip = 127.0.0.1
bind_port = %d
swift_dir = %s
user = %s
log_level = ERROR
[pipeline:main]
pipeline = %s-server
[app:%s-server]
use = egg:swift#%s
`, s.dir, port+1+n, s.dir, userName(), kind, kind, kind))
	}
	s.conf["proxy"] = write("proxy-server.conf", fmt.Sprintf(`[DEFAULT]
bind_ip = 127.0.0.1
bind_port = %d
workers = 0
swift_dir = %s
user = %s
log_level = ERROR
[pipeline:main]
pipeline = catch_errors gatekeeper cache listing_formats bulk tempurl ratelimit s3api tempauth copy slo dlo versioned_writes proxy-server
[app:proxy-server]
use = egg:swift#proxy
account_autocreate = true
[filter:s3api]
use = egg:swift#s3api
s3_acl = false
[filter:tempauth]
use = egg:swift#tempauth
user_test_tester = testing .admin
[filter:cache]
use = egg:swift#memcache
memcache_servers = 127.0.0.1:%d
%s`, port, s.dir, userName(), port+4, plainFilters("catch_errors", "gatekeeper", "listing_formats", "bulk", "tempurl", "ratelimit", "copy", "slo", "dlo", "versioned_writes")))
	s.start("memcached", "memcached", "-u", userName(), "-l", "127.0.0.1", "-p", strconv.Itoa(port+4), "-m", "16")
	for _, kind := range []string{"account", "container", "object", "proxy"} {
		s.start(kind, "swift-"+kind+"-server", s.conf[kind])
	}
	t.Cleanup(func() {
		for _, run := range s.run {
			run.Process.Kill()
			run.Wait()
		}
	})
	s.Site = keep.Site{Endpoint: "http://127.0.0.1:" + strconv.Itoa(port), Bucket: bucket, User: "test:tester"}
	client := s.Client()
	for began := time.Now(); ; time.Sleep(200 * time.Millisecond) {
		ctx, cancel := context.WithTimeout(context.Background(), testkit.Patience)
		err := client.MakeBucket(ctx, bucket, minio.MakeBucketOptions{})
		cancel()
		if err == nil || minio.ToErrorResponse(err).Code == minio.BucketAlreadyOwnedByYou { // by a call that was answered with an error all the same
			break
		}
		require.Less(t, time.Since(began), testkit.Patience, "waited for the object store to answer: %v\n%s", err, s.said())
	}
	return s
}

// withAttributes makes a folder on a file system that keeps extended attributes, which Swift needs; not every one in
// memory does.
func withAttributes(t testing.TB) string {
	here, err := os.Getwd()
	require.NoError(t, err)
	for _, at := range []string{os.TempDir(), "/var/tmp", here} {
		dir, err := os.MkdirTemp(at, "swift")
		if err != nil {
			continue
		}
		t.Cleanup(func() { os.RemoveAll(dir) })
		if exec.Command("python3", "-c", "import os, sys; os.setxattr(sys.argv[1], 'user.try', b'x')", dir).Run() == nil {
			return dir
		}
	}
	t.Skip("no file system here keeps extended attributes")
	return ""
}

func plainFilters(names ...string) (text string) {
	for _, name := range names {
		text += "[filter:" + name + "]\nuse = egg:swift#" + name + "\n"
	}
	return text
}

func userName() string {
	if os.Getuid() == 0 {
		return "root"
	}
	return os.Getenv("USER")
}

func (s *Swift) start(name, program string, args ...string) {
	run := exec.Command(program, args...)
	run.Env = append(os.Environ(), "PYTHONUNBUFFERED=1", "PYTHONWARNINGS=ignore")
	log, err := os.Create(filepath.Join(s.dir, name+".log"))
	require.NoError(s.t, err)
	run.Stdout, run.Stderr = log, log
	require.NoError(s.t, run.Start())
	log.Close()
	s.run[name] = run
}

// said is what its programs wrote.
func (s *Swift) said() (text string) {
	for name := range s.run {
		log, _ := os.ReadFile(filepath.Join(s.dir, name+".log"))
		text += name + ":\n" + string(log)
	}
	return text
}

// Client is the bare client library, with the settings that this store needs.
func (s *Swift) Client() *minio.Client {
	client, err := minio.New(strings.TrimPrefix(s.Site.Endpoint, "http://"), &minio.Options{Creds: credentials.NewStaticV4(s.Site.User, SwiftSecret, ""), Region: "us-east-1", BucketLookup: minio.BucketLookupPath})
	require.NoError(s.t, err)
	return client
}

// Kill ends what answers calls; Revive starts it again.
func (s *Swift) Kill() {
	s.run["proxy"].Process.Kill()
	s.run["proxy"].Wait()
}

// Revive starts again what Kill has ended, and waits until it answers.
func (s *Swift) Revive() {
	s.start("proxy", "swift-proxy-server", s.conf["proxy"])
	require.Eventually(s.t, func() bool {
		c, err := net.Dial("tcp", strings.TrimPrefix(s.Site.Endpoint, "http://"))
		if err == nil {
			c.Close()
		}
		return err == nil
	}, testkit.Patience, 100*time.Millisecond, "waited for the object store to come back")
}
