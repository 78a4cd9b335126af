package counterpart

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
)

// FreeRadius is a RADIUS server.
type FreeRadius struct {
	Address string // HOST:PORT
	Secret  string
	run     *exec.Cmd
}

const radiusConfig = `prefix = /usr
logdir = %[1]s
raddbdir = %[1]s
run_dir = %[1]s
libdir = /usr/lib/freeradius
pidfile = %[1]s/pid
max_request_time = 10
cleanup_delay = 1
security { max_attributes = 200
 reject_delay = 0
 status_server = no
}
thread pool { start_servers = 2
 max_servers = 4
 min_spare_servers = 1
 max_spare_servers = 2
 max_requests_per_server = 0
}
client local { ipaddr = 127.0.0.1
 secret = %[3]s
 require_message_authenticator = yes
}
modules {
 pap { }
 always handled { rcode = handled }
 always reject { rcode = reject }
 files { usersfile = %[1]s/users }
}
server default {
 listen { type = auth
  ipaddr = 127.0.0.1
  port = %[2]d
 }
 authorize {
  if (&State) {
   if (&User-Password == "246810") {
    update control { &Auth-Type := Accept }
   }
   else {
    reject
   }
  }
  else {
   files
   pap
  }
 }
 authenticate {
  Auth-Type PAP {
   pap
   if (ok && &User-Name =~ /^token/) {
    update reply {
     &Reply-Message := "Type the number that your token shows"
     &State := "harbour state of %%{User-Name}"
    }
    update control { &Response-Packet-Type := Access-Challenge }
    %[4]s
    handled
   }
  }
 }
 post-auth {
  %[4]s
  Post-Auth-Type REJECT {
   %[4]s
  }
 }
}
`

// StartFreeRadius runs one with users (of its users file). It asks those whose names begin with token for 246810. Without
// seal it answers as an old one does, without a Message-Authenticator.
func StartFreeRadius(t testing.TB, users string, seal bool) *FreeRadius {
	program := "/usr/sbin/freeradius"
	if _, err := os.Stat(program); err != nil {
		t.Skip("freeradius is not installed: make tools")
	}
	dir := t.TempDir()
	require.NoError(t, os.Chmod(dir, 0o700)) // it starts in no other
	port := testkit.FreePorts(t)
	r := &FreeRadius{Address: fmt.Sprint("127.0.0.1:", port), Secret: "the harbour master"}
	sealed := map[bool]string{true: "update reply { &Message-Authenticator := 0x00 }", false: ""}[seal]
	require.NoError(t, os.WriteFile(filepath.Join(dir, "radiusd.conf"), fmt.Appendf(nil, radiusConfig, dir, port, `"`+r.Secret+`"`, sealed), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "users"), []byte(users), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "dictionary"), nil, 0o600))
	r.run = exec.Command(program, "-X", "-d", dir, "-D", "/usr/share/freeradius")
	ready := make(chan struct{})
	said := &waiting{until: []byte("Ready to process requests"), ready: ready}
	r.run.Stdout, r.run.Stderr = said, said
	require.NoError(t, r.run.Start())
	t.Cleanup(r.Stop)
	select {
	case <-ready:
	case <-time.After(testkit.Patience): // it starts in a moment, or ends
		require.Fail(t, "the RADIUS server does not start", said.text())
	}
	return r
}

// Stop ends it.
func (r *FreeRadius) Stop() {
	if r.run != nil {
		r.run.Process.Kill()
		r.run.Wait()
		r.run = nil
	}
}

// waiting takes what a program prints and tells when it says something.
type waiting struct {
	mu    sync.Mutex
	until []byte
	said  []byte
	ready chan struct{}
	told  bool
}

func (w *waiting) Write(text []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if !w.told {
		w.said = append(w.said, text...)
		if w.told = bytes.Contains(w.said, w.until); w.told {
			close(w.ready)
		}
	}
	return len(text), nil
}

func (w *waiting) text() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return string(w.said[max(0, len(w.said)-2000):])
}
