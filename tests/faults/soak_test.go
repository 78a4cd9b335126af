//go:build linux

package faults_test

import (
	"bytes"
	"crypto/sha256"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

var (
	soakFor  = flag.Duration("soak-for", 20*time.Second, "how `long` the checker of histories runs")
	soakSeed = flag.Uint64("soak-seed", 0, "the seed of a run that is to be repeated; 0: another one")
)

// TestHistoriesAgree is a checker of histories. Clients upload, overwrite, rename, delete and
// fetch, each in a folder of its own, and note every answer; an operator changes settings and notes those.
// Meanwhile faults come at random: kills, power cuts (the service goes on from a copy of the
// image), a full disk, clients that leave in the middle, ends in good order. After each of them the clients' notes, the disk, the
// trail, the books of the quotas and the history are held against each other.
func TestHistoriesAgree(t *testing.T) {
	seed := *soakSeed
	if seed == 0 {
		seed = rand.Uint64()
	}
	t.Logf("seed %d: make soak SEED=%d runs it again", seed, seed)
	s := &soak{t: t, r: rand.New(rand.NewPCG(seed, 1)), disk: newDisk(t)}
	s.root = s.disk.root
	s.start()
	s.p.AddAccount()
	for w := range soakers {
		s.notes = append(s.notes, &note{there: map[string]string{}, unsure: map[string]bool{}, dir: fmt.Sprintf("c%d", w), r: rand.New(rand.NewPCG(seed, uint64(w+2)))})
	}
	s.p.CLI(nil, "", "account", "set", "crew-harbour", "-quota-bytes", "1GiB")
	for began := time.Now(); time.Since(began) < *soakFor && !t.Failed(); {
		s.round()
	}
	uploads := 0
	for _, c := range s.notes {
		uploads += len(c.told)
	}
	t.Logf("%d rounds (%s): %d answers noted, %d of them acknowledged uploads; %d changes of settings", s.rounds, s.faults(), s.answers, uploads, s.settings)
	s.p.Run.Process.Kill()
	s.p.Run.Wait()
}

// soakers is how many clients there are.
const soakers = 4

// soak is one run of the checker.
type soak struct {
	t    *testing.T
	r    *rand.Rand
	disk *disk
	root string // where the service's disk is mounted now
	p    *testkit.Process

	notes    []*note
	limit    int // of uploads at once that the operator has set, and was told is set
	maybe    int // that it was not told about
	fault    map[string]int
	rounds   int
	answers  int
	settings int
}

// note is what one client knows: each name's content as far as it was told, and the names of
// which it does not know because no answer came.
type note struct {
	dir    string
	r      *rand.Rand
	n      int
	there  map[string]string // name: digest of its content
	unsure map[string]bool
	told   []string // paths of uploads that were acknowledged
	all    int
}

func (s *soak) start() {
	data := filepath.Join(s.root, "data")
	if s.p == nil {
		s.p = testkit.Launch(s.t, data)
		return
	}
	key := s.p.Key
	s.p = testkit.LaunchAgain(s.t, data)
	s.p.Key = key
}

// round lets the clients work for a moment, makes something fail, and looks.
func (s *soak) round() {
	s.rounds++
	var stop atomic.Bool
	var work sync.WaitGroup
	for _, c := range s.notes {
		work.Go(func() {
			for !stop.Load() {
				c.step(s.p)
			}
		})
	}
	work.Go(func() { s.operate(&stop) })
	time.Sleep(time.Duration(500+s.r.IntN(1500)) * time.Millisecond)
	fault := []string{"kill", "kill", "power", "power", "full", "leave", "stop"}[s.r.IntN(7)]
	if s.fault == nil {
		s.fault = map[string]int{}
	}
	s.fault[fault]++
	switch fault {
	case "kill":
		s.p.Run.Process.Kill()
	case "power":
		// The clients must not be told anything that the copy is too early for.
		require.NoError(s.t, s.p.Run.Process.Signal(syscall.SIGSTOP))
		root := s.disk.cut()
		s.p.Run.Process.Kill()
		s.p.Run.Wait()
		exec.Command("umount", "-l", s.root).Run()
		os.Remove(s.disk.image)
		s.disk.image = fmt.Sprint(s.disk.first, s.disk.cuts)
		s.root = root
	case "full":
		s.fill()
	case "leave":
		run := s.p.Curl("--limit-rate", "200k", "-T", s.bulk(), "ftps://"+s.p.FTPS+"/left")
		if run.Start() == nil {
			time.Sleep(100 * time.Millisecond)
			run.Process.Kill()
			run.Wait()
		}
		s.p.Run.Process.Signal(syscall.SIGTERM)
	case "stop":
		s.p.Run.Process.Signal(syscall.SIGTERM)
	}
	stop.Store(true)
	work.Wait()
	if fault == "full" {
		s.p.Run.Process.Kill()
	}
	s.p.Run.Wait()
	s.start()
	s.look(fault)
}

func (s *soak) bulk() string {
	name := filepath.Join(s.t.TempDir(), "bulk")
	require.NoError(s.t, os.WriteFile(name, make([]byte, 1<<20), 0o600))
	return name
}

// fill takes all room of the disk for a moment.
func (s *soak) fill() {
	name := filepath.Join(s.root, "filling")
	f, err := os.Create(name)
	require.NoError(s.t, err)
	for chunk := make([]byte, 1<<20); err == nil; {
		_, err = f.Write(chunk)
	}
	time.Sleep(700 * time.Millisecond)
	f.Close()
	os.Remove(name)
}

// step makes a client do one thing, and note the answer.
func (c *note) step(p *testkit.Process) {
	c.n++
	c.all++
	name := fmt.Sprintf("%s/f%d", c.dir, c.r.IntN(12))
	local, err := os.CreateTemp("", "soak")
	if err != nil {
		return
	}
	defer os.Remove(local.Name())
	content := bytes.Repeat(fmt.Appendf(nil, "%s %d %d\n", name, c.n, c.r.Uint64()), 1+c.r.IntN(2000))
	local.Write(content)
	local.Close()
	known := !c.unsure[name]
	switch what := c.r.IntN(10); {
	case what < 6: // upload, maybe over what is there
		c.unsure[name] = true
		var run *exec.Cmd
		if c.r.IntN(2) == 0 {
			run = p.Curl("--ftp-create-dirs", "-T", local.Name(), "ftps://"+p.FTPS+"/"+name)
		} else {
			run = p.SFTPBatch("-mkdir "+c.dir, "put "+local.Name()+" "+name)
		}
		if run.Run() == nil {
			delete(c.unsure, name)
			c.there[name] = digest(content)
			c.told = append(c.told, "/"+name)
		}
	case what < 7: // delete
		c.unsure[name] = true
		if p.SFTPBatch("rm "+name).Run() == nil {
			delete(c.unsure, name)
			delete(c.there, name)
		} else if _, was := c.there[name]; known && !was {
			delete(c.unsure, name) // there was nothing to delete, and is nothing
		}
	case what < 8: // rename to a name of its own
		to := fmt.Sprintf("%s/r%d", c.dir, c.n)
		c.unsure[name], c.unsure[to] = true, true
		if p.SFTPBatch("rename "+name+" "+to).Run() == nil {
			delete(c.unsure, to)
			delete(c.unsure, name)
			if was, ok := c.there[name]; ok && known {
				c.there[to] = was
			} else {
				c.unsure[to] = true
			}
			delete(c.there, name)
		} else if _, was := c.there[name]; known && !was {
			delete(c.unsure, name)
			delete(c.unsure, to)
		}
	default: // fetch, and compare
		out, err := p.Curl("ftps://" + p.FTPS + "/" + name).Output()
		if want, is := c.there[name]; err == nil && known && is && digest(out) != want {
			c.there[name] = "fetched something else: " + digest(out)
		}
	}
}

func digest(content []byte) string { return fmt.Sprintf("%x", sha256.Sum256(content)) }

// operate changes a setting again and again, and keeps which change was acknowledged last.
func (s *soak) operate(stop *atomic.Bool) {
	for !stop.Load() {
		s.maybe = s.limit + 1
		run := exec.Command(testkit.Binary(s.t), "account", "set", "crew-harbour", "-max-sessions", fmt.Sprint(1000+s.maybe), "-data", s.p.Dir)
		if run.Run() == nil {
			s.limit, s.maybe = s.maybe, 0
			s.settings++
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// look holds everything against each other.
func (s *soak) look(fault string) {
	t := s.t
	var report api.AuditReport
	s.p.CLI(&report, "", "audit", "verify")
	assert.Zero(t, report.BadSeq, report.Problem)
	home := filepath.Join(s.root, "data", "files", "crew-harbour")
	var records []api.AuditRecord
	s.p.CLI(&records, "", "audit", "-action", "upload", "-most", "1000000")
	recorded := map[string]int{}
	for _, r := range records {
		if r.Outcome == "done" {
			recorded[r.Path]++
		}
	}
	told := map[string]int{}
	for _, c := range s.notes {
		s.answers += c.all
		c.all = 0
		for _, at := range c.told {
			told[at]++
		}
		for name, want := range c.there {
			if c.unsure[name] {
				continue
			}
			text, err := os.ReadFile(filepath.Join(home, name))
			if assert.NoError(t, err, "%s: %s was acknowledged", fault, name) {
				assert.Equal(t, want, digest(text), "%s: %s", fault, name)
			}
		}
		entries, _ := os.ReadDir(filepath.Join(home, c.dir))
		for _, e := range entries {
			name := c.dir + "/" + e.Name()
			_, is := c.there[name]
			assert.True(t, is || c.unsure[name], "%s: %s is there, and was deleted or never uploaded", fault, name)
			// From here on what is on the disk is known again.
			text, err := os.ReadFile(filepath.Join(home, name))
			require.NoError(t, err)
			c.there[name] = digest(text)
		}
		for name := range c.there {
			if _, err := os.Stat(filepath.Join(home, name)); err != nil {
				delete(c.there, name)
			}
		}
		clear(c.unsure)
	}
	for at, n := range told {
		assert.GreaterOrEqual(t, recorded[at], n, "%s: %d acknowledged uploads of %s are in the trail", fault, n, at)
	}
	var account api.Account
	s.p.CLI(&account, "", "account", "show", "crew-harbour")
	var history []api.Change
	s.p.CLI(&history, "", "history", "-what", "account", "-name", "crew-harbour", "-most", "1")
	if sessions := account.Settings.MaxSessions; s.limit > 0 && assert.NotNil(t, sessions) {
		now := int(*sessions) - 1000
		assert.True(t, now == s.limit || now == s.maybe, "%s: %d is in force, %d was acknowledged", fault, now, s.limit)
		assert.Contains(t, string(history[0].After), fmt.Sprintf(`"maxSessions": %d`, 1000+now), "%s: the history has what is in force", fault)
		s.limit = now
	}
	var quotas []api.Quota
	require.Eventually(t, func() bool {
		s.p.CLI(&quotas, "", "quota", "list")
		return len(quotas) == 1 && !quotas[0].Counting
	}, testkit.Patience, 100*time.Millisecond, "waited for the folder to be counted")
	held := int64(0)
	require.NoError(t, filepath.Walk(home, func(_ string, info os.FileInfo, err error) error {
		if err == nil && info.Mode().IsRegular() {
			held += info.Size()
		}
		return err
	}))
	assert.EqualValues(t, held, quotas[0].Used.Bytes, "%s: the books are right", fault)
}

func (s *soak) faults() string {
	var all []string
	for fault, n := range s.fault {
		all = append(all, fmt.Sprint(fault, " ", n))
	}
	return strings.Join(all, ", ")
}
