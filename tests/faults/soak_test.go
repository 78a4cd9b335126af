//go:build linux

package faults_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/plants"
	"urbankeep/tests/testkit"
)

var (
	soakFor  = flag.Duration("soak-for", 20*time.Second, "how `long` the checker of histories runs")
	soakSeed = flag.Uint64("soak-seed", 0, "the seed of a run that is to be repeated; 0: another one")
	soakTime = flag.Bool("soak-clock", false, "whether the clock jumps too; the program is built anew for it")
	soakBug  = flag.String("soak-plant", "", "the `name` of a bug that is planted into the program; see tests/plants")
)

// TestHistoriesAgree is a checker of histories. Clients upload, overwrite, rename, delete and
// fetch over FTPS, SFTP, WebDAV and the portal (uploads of one request and in pieces), each in a folder of its own (half of them in a store on another disk), and move files from one
// store to the other; others come close to a quota, try what they may not, have uploads checked, hold locks, use passes
// (soakers_test.go). All note every answer; an operator changes an account and a listener and notes those. Meanwhile faults come at random: kills, power cuts (the service goes on from a copy of the
// image), a full disk, a store's disk that goes away and comes back, a clock that is set on or back, clients that leave in the middle, ends in good order.
// After each of them the clients' notes, the disks, the trail and its searches by time, the books of the quotas and the history are held against each other.
func TestHistoriesAgree(t *testing.T) {
	seed := *soakSeed
	if seed == 0 {
		seed = rand.Uint64()
	}
	t.Logf("seed %d: make soak SEED=%d runs it again", seed, seed)
	s := &soak{t: t, r: rand.New(rand.NewPCG(seed, 1)), faults: []string{"kill", "kill", "power", "power", "full", "away", "leave", "stop"}, fault: map[string]int{},
		disk: newDisk(t), far: newDisk(t)}
	overlay := map[string]string{}
	if *soakBug != "" {
		file, planted, err := plants.Planted("../..", *soakBug)
		require.NoError(t, err)
		overlay[file] = string(planted)
	}
	switch {
	case *soakTime:
		s.clock = newClock(t, overlay)
		s.faults = append(s.faults, "clock", "clock")
	case *soakBug != "":
		built(t, overlay)
	default:
		t.Parallel()
	}
	s.root, s.there = s.disk.root, testkit.Folder(t)
	s.far.run("mount", "--bind", s.far.root, s.there)
	t.Cleanup(func() { exec.Command("umount", "-l", s.there).Run() })
	s.start()
	s.p.CLI(nil, "", "store", "add", "far", s.there)
	s.p.AddAccount()
	s.p.CLI(nil, "", "account", "set", "crew-harbour", "-quota-bytes", "1GiB", "-mount", "/far=far:crew,bytes=1GiB")
	s.settings = []*setting{
		{what: "account", name: "crew-harbour", show: []string{"account", "show", "crew-harbour"}, is: func(n int) string { return fmt.Sprintf(`"maxSessions": %d`, 1000+n) },
			set: func(n int) []string { return []string{"-max-sessions", fmt.Sprint(1000 + n)} }},
		{what: "listener", name: "sftp", show: []string{"listener", "list"}, is: func(n int) string { return fmt.Sprintf(`"banner": "greeting %d"`, n) },
			set: func(n int) []string { return []string{"-banner", fmt.Sprint("greeting ", n)} }},
	}
	for w := range soakers {
		c := &note{there: map[string]string{}, unsure: map[string]bool{}, acts: map[string]*tally{}, dir: []string{"", "far/"}[w%2] + fmt.Sprintf("c%d", w), r: rand.New(rand.NewPCG(seed, uint64(w+2)))}
		c.face = []string{"ftps", "sftp", "dav", "portal"}[w/2%4]
		s.notes = append(s.notes, c)
	}
	s.others(seed)
	for began := time.Now(); time.Since(began) < *soakFor && !t.Failed(); {
		s.round()
	}
	uploads := 0
	for _, c := range s.notes {
		uploads += c.told
	}
	t.Logf("%d rounds (%v): %d answers noted, %d of them acknowledged uploads; %d changes of settings", s.rounds, s.fault, s.answers, uploads, s.changes)
	s.p.Run.Process.Kill()
	s.p.Run.Wait()
}

// soakers is how many clients there are.
const soakers = 8

// soak is one run of the checker.
type soak struct {
	t         *testing.T
	r         *rand.Rand
	disk, far *disk       // of the data folder and its store; of another store
	root      string      // where the first is mounted now
	there     string      // where the other is, unless it is away
	clock     *clock      // nil: it does not jump
	jumped    atomic.Bool // it did, since the last look: what ends after a day may have ended
	p         *testkit.Process

	notes    []*note
	apart    []*apart // who tries one thing only
	settings []*setting
	faults   []string       // that come, each as often as it stands there
	fault    map[string]int // how often each came
	rounds   int
	answers  int
	changes  int
}

// setting is one number that the operator changes, and what it knows of it.
type setting struct {
	what, name string
	show       []string // the command that shows what is in force
	set        func(n int) (flags []string)
	is         func(n int) (json string)
	told       int // which the operator was told is set
	maybe      int // which it was not told about; 0: none
}

// note is what one client knows: each name's content as far as it was told, and the names of
// which it does not know because no answer came.
type note struct {
	dir     string
	face    string // over what it works
	browser browser
	r       *rand.Rand
	n       int
	there   map[string]string // name: digest of its content
	unsure  map[string]bool
	acts    map[string]*tally // of each thing done to a path
	told    int               // uploads that were acknowledged
	all     int
}

// tally is how often one thing was done to one path: for certain, and perhaps.
type tally struct{ done, maybe int }

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
	for _, a := range s.apart {
		work.Go(func() {
			for !stop.Load() {
				a.step(s.p)
				a.all++
			}
		})
	}
	work.Go(func() { s.operate(&stop) })
	time.Sleep(time.Duration(500+s.r.IntN(1500)) * time.Millisecond)
	fault := s.faults[s.r.IntN(len(s.faults))]
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
	case "away":
		s.away()
	case "clock": // days on or back, while everybody works on
		s.jumped.Store(true)
		s.clock.set(s.t, time.Duration(s.r.IntN(100)-50)*time.Hour)
		time.Sleep(700 * time.Millisecond)
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
	switch fault {
	case "full", "away", "clock":
		s.p.Run.Process.Kill()
	}
	s.p.Run.Wait()
	s.start()
	s.look(fault)
	s.jumped.Store(false)
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

// away takes the other store's disk away for a moment.
func (s *soak) away() {
	s.far.run("umount", "-l", s.there)
	time.Sleep(700 * time.Millisecond)
	entries, err := os.ReadDir(s.there)
	assert.NoError(s.t, err)
	assert.Empty(s.t, entries, "away: something was made where the disk should be")
	s.far.run("mount", "--bind", s.far.root, s.there)
	time.Sleep(300 * time.Millisecond)
}

// step makes a client do one thing, and note the answer.
func (c *note) step(p *testkit.Process) {
	c.n++
	c.all++
	name := fmt.Sprintf("%s/f%d", c.dir, c.r.IntN(12))
	known := !c.unsure[name]
	_, was := c.there[name]
	switch what := c.r.IntN(20); {
	case what < 10: // upload, maybe over what is there
		content := bytes.Repeat(fmt.Appendf(nil, "%s %d %d\n", name, c.n, c.r.Uint64()), 1+c.r.IntN(2000))
		c.unsure[name] = true
		if c.note("upload", name, "", c.put(p, name, content)) == yes {
			delete(c.unsure, name)
			c.there[name] = digest(content)
			c.told++
		}
	case what < 12:
		c.unsure[name] = true
		switch c.note("delete", name, "", c.remove(p, name)) {
		case yes:
			delete(c.unsure, name)
			delete(c.there, name)
		case no:
			if known {
				delete(c.unsure, name) // nothing has changed
			}
		default:
			if known && !was {
				delete(c.unsure, name) // there was nothing to delete, and is nothing
			}
		}
	case what < 16: // rename to a name of its own; over WebDAV half of them to the other store
		to := fmt.Sprintf("%s/r%d", c.dir, c.n)
		move := "rename"
		if c.face == "dav" && what < 14 {
			to, move = fmt.Sprintf("%s/r%d", c.across(), c.n), ""
			dav(p, "crew-harbour", "MKCOL", c.across(), nil)
			for act, at := range map[string]string{"download": name, "upload": to, "delete": name} { // it is a copy, and a delete
				c.note(act, at, "", unknown)
			}
		}
		c.unsure[name], c.unsure[to] = true, true
		answer := c.rename(p, name, to)
		if move != "" {
			c.note(move, name, to, answer)
		}
		switch {
		case answer == yes:
			delete(c.unsure, to)
			delete(c.unsure, name)
			if was, ok := c.there[name]; ok && known {
				c.there[to] = was
			} else {
				c.unsure[to] = true
			}
			delete(c.there, name)
		case known && (answer == no || !was):
			delete(c.unsure, name)
			delete(c.unsure, to)
		}
	default: // fetch, and compare
		out, answer := c.fetch(p, name)
		if (c.face == "dav" || c.face == "portal") && answer == yes {
			c.note("download", name, "", unknown) // nothing comes behind the last byte: a kill can be between that and its record
		} else {
			c.note("download", name, "", answer)
		}
		if want, is := c.there[name]; answer == yes && known && is && digest(out) != want {
			c.there[name] = "fetched something else: " + digest(out)
		}
	}
}

func digest(content []byte) string { return fmt.Sprintf("%x", sha256.Sum256(content)) }

// operate changes the settings again and again, and keeps which change was acknowledged last.
func (s *soak) operate(stop *atomic.Bool) {
	for !stop.Load() {
		for _, one := range s.settings {
			one.maybe = one.told + 1
			run := exec.Command(testkit.Binary(s.t), append([]string{one.what, "set", one.name, "-data", s.p.Dir}, one.set(one.maybe)...)...)
			if run.Run() == nil {
				one.told, one.maybe = one.maybe, 0
				s.changes++
			}
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
	homes := map[bool]string{false: filepath.Join(s.root, "data", "files", "crew-harbour"), true: filepath.Join(s.there, "crew")}
	at := func(name string) string {
		below, far := strings.CutPrefix(name, "far/")
		return filepath.Join(homes[far], below)
	}
	var records, uploads []api.AuditRecord
	s.p.CLI(&records, "", "audit", "-action", "upload,delete,rename,download", "-account", "crew-harbour", "-most", "10000000")
	recorded := map[string]int{}
	for _, r := range records {
		if r.Outcome == "done" && !r.Piece {
			recorded[strings.TrimSpace(string(r.Action)+" "+r.Path+" "+r.Target)]++
		}
		if r.Action == "upload" {
			uploads = append(uploads, r)
		}
	}
	s.searches(uploads)
	for _, c := range s.notes {
		s.answers += c.all
		c.all = 0
		for act, n := range c.acts {
			assert.True(t, n.done <= recorded[act] && recorded[act] <= n.done+n.maybe, "%s: %q was done %d to %d times, and the trail has it %d times", fault, act, n.done, n.done+n.maybe, recorded[act])
		}
		for name, want := range c.there {
			if c.unsure[name] {
				continue
			}
			text, err := os.ReadFile(at(name))
			if assert.NoError(t, err, "%s: %s was acknowledged", fault, name) {
				assert.Equal(t, want, digest(text), "%s: %s", fault, name)
			}
		}
		for _, name := range c.names(at) {
			_, is := c.there[name]
			assert.True(t, is || c.unsure[name], "%s: %s is there, and was deleted or never uploaded", fault, name)
			// From here on what is on the disk is known again.
			text, err := os.ReadFile(at(name))
			require.NoError(t, err)
			c.there[name] = digest(text)
		}
		for name := range c.there {
			if _, err := os.Stat(at(name)); err != nil {
				delete(c.there, name)
			}
		}
		clear(c.unsure)
	}
	for _, a := range s.apart {
		s.answers += a.all
		a.all = 0
		a.look(fault)
	}
	for _, one := range s.settings {
		var now json.RawMessage
		s.p.CLI(&now, "", one.show...)
		var history []api.Change
		s.p.CLI(&history, "", "history", "-what", one.what, "-name", one.name, "-most", "1")
		if one.told == 0 && one.maybe == 0 {
			continue
		}
		in := one.told
		if one.maybe > 0 && strings.Contains(string(now), one.is(one.maybe)) {
			in = one.maybe
		}
		if in == 0 {
			continue // the first change did not come through
		}
		assert.Contains(t, string(now), one.is(in), "%s: the change of the %s that was acknowledged is in force", fault, one.what)
		assert.Contains(t, string(history[0].After), one.is(in), "%s: the history of the %s has what is in force", fault, one.what)
		one.told, one.maybe = in, 0
	}
	var quotas []api.Quota
	require.Eventually(t, func() bool {
		s.p.CLI(&quotas, "", "quota", "list")
		return len(quotas) == 3 && !slices.ContainsFunc(quotas, func(q api.Quota) bool { return q.Counting })
	}, testkit.Patience, 100*time.Millisecond, "waited for the folders to be counted")
	for _, quota := range quotas {
		held := int64(0)
		folder := homes[quota.Store == "far"]
		if quota.Folder == "tight" {
			folder = filepath.Join(s.root, "data", "files", "tight")
		}
		require.NoError(t, filepath.Walk(folder, func(_ string, info os.FileInfo, err error) error {
			if err == nil && info.Mode().IsRegular() {
				held += info.Size()
			}
			if errors.Is(err, fs.ErrNotExist) { // nobody has come that far yet
				return nil
			}
			return err
		}))
		assert.EqualValues(t, held, quota.Used.Bytes, "%s: the books of %s are right", fault, quota.Folder)
	}
}

// searches asks for the uploads of some time, and counts them.
func (s *soak) searches(all []api.AuditRecord) {
	if len(all) == 0 {
		return
	}
	since, until := all[s.r.IntN(len(all))].At, all[s.r.IntN(len(all))].At
	if until.Before(since) {
		since, until = until, since
	}
	want := map[int64]bool{}
	for _, r := range all {
		if !r.At.Before(since) && r.At.Before(until) {
			want[r.Seq] = true
		}
	}
	var found []api.AuditRecord
	s.p.CLI(&found, "", "audit", "-action", "upload", "-account", "crew-harbour", "-since", since.Format(time.RFC3339Nano), "-until", until.Format(time.RFC3339Nano), "-most", "1000000")
	got := map[int64]bool{}
	for _, r := range found {
		got[r.Seq] = true
	}
	assert.Equal(s.t, want, got, "uploads since %s, until %s", since, until)
}
