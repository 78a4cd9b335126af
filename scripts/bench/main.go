// Command bench measures Urban Keep beside its floor, in turn, with the same
// clients, and prints a table. Ratios are what counts: machines differ, and drift.
package main

import (
	"bufio"
	"errors"
	"flag"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"
)

func main() {
	tiny := flag.Bool("tiny", false, "run each row with next to nothing, to see that it can be run")
	against := flag.String("against", "", "a `file` with what an earlier run printed, whose ratios are shown too")
	flag.Parse()
	if *tiny {
		beTiny()
	}
	err := readEarlier(*against)
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
	switch flag.Arg(0) {
	case "floor":
		err = serveFloor()
	case "webfloor":
		err = serveWebFloor()
	case "objects":
		err = serveObjects()
	case "long":
		var length time.Duration
		if length, err = time.ParseDuration(flag.Arg(1)); err == nil {
			err = runLong(length)
		}
	default:
		err = bench(flag.Args())
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// earlier are the ratios of an earlier run, by row.
var earlier = map[string]float64{}

// line is what is printed of a row: its name, two figures with their units, and the ratio.
var line = regexp.MustCompile(`^(.+?)\s+[\d.]+ \S+(?: s)?\s+[\d.]+ \S+(?: s)?\s+(\d+\.\d\d)\s`)

func readEarlier(file string) error {
	if file == "" {
		return nil
	}
	text, err := os.ReadFile(file)
	for _, one := range strings.Split(string(text), "\n") {
		if found := line.FindStringSubmatch(one); found != nil {
			ratio, _ := strconv.ParseFloat(found[2], 64)
			earlier[found[1]] = ratio
		}
	}
	if err == nil && len(earlier) == 0 {
		err = fmt.Errorf("%s holds no rows", file)
	}
	return err
}

// row is one measurement: a figure of ours, of the floor, and what the ratio
// should be at least (faster is more).
type row struct {
	name string
	unit string
	// run gives a figure; more is better, but for sizes.
	ours, floor func() (float64, error)
	target      float64
	less        bool    // less is better: the ratio may be at most the target
	most        float64 // what our figure may be at most; 0: anything
	turns       int     // how often both are measured, one after the other; 0: usualTurns
}

// usualTurns is enough for what takes seconds; what takes less needs more of them.
const usualTurns = 3

func bench(only []string) error {
	dir, err := os.MkdirTemp(memory(), "bench")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	w := &world{dir: dir}
	if err := w.start(); err != nil {
		return err
	}
	defer w.stop()
	fmt.Printf("%-44s %14s %14s %7s  %-13s %s\n", "row", "urban keep", "floor", "ratio", "its turns", "target")
	wanted, err := regexp.Compile(strings.Join(only, "|"))
	if err != nil {
		return err
	}
	for _, r := range w.rows() {
		if !wanted.MatchString(r.name) {
			continue
		}
		if err := r.measure(); err != nil {
			return fmt.Errorf("%s: %w", r.name, err)
		}
	}
	return nil
}

// memory is a folder in memory, where there is one: what is measured is the
// program, not how the disk happens to be doing.
func memory() string {
	if info, err := os.Stat("/dev/shm"); err == nil && info.IsDir() {
		return "/dev/shm"
	}
	return ""
}

// measure takes both in turn and prints the medians, the ratio pair by pair.
func (r row) measure() error {
	n := r.turns
	if n == 0 {
		n = usualTurns
	}
	n = min(n, mostTurns)
	var ours, floor, ratio []float64
	for turn := range n {
		var f, o float64
		var errs [2]error
		measure := []func(){func() { f, errs[0] = r.floor() }, func() { o, errs[1] = r.ours() }}
		measure[turn%2]()
		measure[1-turn%2]()
		if err := errors.Join(errs[:]...); err != nil {
			return err
		}
		ours, floor, ratio = append(ours, o), append(floor, f), append(ratio, o/f)
	}
	verdict, sign := "", "≥"
	if r.less {
		sign = "≤"
	}
	lowest, highest := median(ratio), median(ratio)
	for _, one := range ratio {
		lowest, highest = min(lowest, one), max(highest, one)
	}
	if r.target > 0 {
		verdict = fmt.Sprintf("%s %.2f", sign, r.target)
		switch m := median(ratio); {
		case (!r.less || m <= r.target) && (r.less || m >= r.target):
		case lowest <= r.target && r.target <= highest: // its turns lie further apart than it is from the target
			verdict += "  noisy"
		default:
			verdict += "  missed"
		}
	}
	if r.most > 0 {
		verdict += fmt.Sprintf("  ≤ %.0f %s", r.most, r.unit)
		if median(ours) > r.most {
			verdict += "  missed"
		}
	}
	before := ""
	if was, known := earlier[r.name]; known {
		before = fmt.Sprintf("  was %.2f", was)
	}
	fmt.Printf("%-44s %14s %14s %7.2f  %-13s %s%s\n", r.name, figure(median(ours), r.unit), figure(median(floor), r.unit), median(ratio), fmt.Sprintf("%.2f to %.2f", lowest, highest), verdict, before)
	return nil
}

func median(v []float64) float64 {
	sort.Float64s(v)
	return v[len(v)/2]
}

func figure(v float64, unit string) string {
	switch {
	case v >= 100:
		return fmt.Sprintf("%.0f %s", v, unit)
	default:
		return fmt.Sprintf("%.2f %s", v, unit)
	}
}

// world is both servers and what their clients need.
type world struct {
	dir          string
	ours         *running
	floor        *exec.Cmd
	oursAt       map[string]string // addresses by listener
	floorAt      string
	floorFTP     map[string]string // addresses by protocol
	key          string
	mib          int    // size of the large file
	made         int    // names that were given by fresh
	fetched      string // a folder of small files to fetch; "" until there is one
	large, small string
	store        string   // our account's home on disk
	crowded      *running // a service with many accounts; nil until it is needed
	crowdedAt    string
	trails       trails
	disk         durable
	elsewhere    elsewhere
	web          overWeb
	teller       teller
	directory    directory
}

func (w *world) start() error {
	w.key = filepath.Join(w.dir, "key")
	if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", w.key).CombinedOutput(); err != nil {
		return fmt.Errorf("ssh-keygen: %w: %s", err, out)
	}
	var err error
	if w.ours, err = launch(filepath.Join(w.dir, "data"), 21000); err != nil {
		return err
	}
	if err := w.account(); err != nil {
		return err
	}
	// The floors promise nothing of a power cut: see powerRows.
	if err := w.ours.do([]string{"store", "set", "files", "-durability", "process"}, []string{"audit", "durability", "process"}); err != nil {
		return err
	}
	return w.startFloor()
}

func (w *world) account() (err error) {
	if _, err := w.ours.cli(password+"\n", "account", "add", "crew", "-home", "files:crew", "-password", "-encryption=optional", "-protocols", "all,scp", "-key", w.key+".pub"); err != nil {
		return err
	}
	if w.oursAt, err = w.ours.at(); err != nil {
		return err
	}
	w.store = filepath.Join(w.ours.dir, "files", "crew")
	w.mib = largeMiB
	w.large = filepath.Join(w.dir, "large")
	w.small = filepath.Join(w.dir, "small")
	if err := writeLarge(w.large, w.mib); err != nil {
		return err
	}
	if err := os.MkdirAll(w.store, 0o750); err != nil {
		return err
	}
	return os.Link(w.large, filepath.Join(w.store, "large"))
}

func writeLarge(name string, mib int) error {
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	defer f.Close()
	block := make([]byte, 1<<20)
	for i := range block {
		block[i] = byte(i * 7)
	}
	for range mib {
		if _, err := f.Write(block); err != nil {
			return err
		}
	}
	return nil
}

func (w *world) startFloor() error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	w.floor = exec.Command(self, "floor")
	folder := filepath.Join(w.dir, "floor")
	if err := w.floorFiles(folder); err != nil {
		return err
	}
	w.floor.Env = append(os.Environ(), fmt.Sprintf("FLOOR_SIZE=%d", w.mib<<20), "FLOOR_FOLDER="+folder, "FLOOR_MANY="+filepath.Join(w.store, floorMany))
	out, err := w.floor.StdoutPipe()
	if err != nil {
		return err
	}
	if err := w.floor.Start(); err != nil {
		return err
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	words := strings.Fields(line)
	if err != nil || len(words) != 3 {
		return fmt.Errorf("the floor did not start: %q: %w", line, err)
	}
	w.floorAt, w.floorFTP = words[0], map[string]string{"ftp": words[1], "ftps": words[2]}
	return nil
}

func (w *world) stop() {
	w.trails.close()
	w.disk.stop()
	if w.elsewhere.sealed != "" {
		os.RemoveAll(w.elsewhere.sealed)
	}
	w.ours.end()
	w.crowded.end()
	for _, p := range []*exec.Cmd{w.floor, w.elsewhere.objects, w.web.floor, w.directory.run} {
		if p != nil && p.Process != nil {
			p.Process.Signal(syscall.SIGTERM)
			p.Wait()
		}
	}
}

// timed runs something and gives how often a second it would fit, times amount.
func timed(amount int, do func() error) (float64, error) {
	started := time.Now()
	err := do()
	return float64(amount) / time.Since(started).Seconds(), err
}

// fresh gives a name that nothing has yet: turns come in changing order, and each side makes folders of its own.
func (w *world) fresh(name string) string {
	w.made++
	return fmt.Sprintf("%s%d", name, w.made)
}

// sftp runs a batch of the real client.
func (w *world) sftp(address string, lines ...string) error {
	return w.sftpAs("crew", address, lines...)
}

func (w *world) sftpAs(account, address string, lines ...string) error {
	_, port, _ := net.SplitHostPort(address)
	run := exec.Command("sftp", "-q", "-b", "-", "-P", port, "-i", w.key, "-o", "IdentitiesOnly=yes", "-o", "StrictHostKeyChecking=no",
		"-o", "UserKnownHostsFile="+os.DevNull, account+"@127.0.0.1")
	run.Stdin = strings.NewReader(strings.Join(lines, "\n") + "\n")
	if out, err := run.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}
