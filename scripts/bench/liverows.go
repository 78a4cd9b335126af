package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/chromedp"
	"golang.org/x/crypto/ssh"

	"urbankeep/internal/api"
	"urbankeep/tests/browser"
)

// load is many live sessions that each list a folder now and then.
type load struct {
	conns []io.Closer
	over  sync.WaitGroup
	stop  chan struct{}
}

func (w *world) startLoad() (*load, error) {
	l := &load{stop: make(chan struct{})}
	for n := range liveSessions {
		client, err := w.dial(w.oursAt["sftp"])
		if err != nil {
			l.end()
			return nil, fmt.Errorf("session %d: %w", n, err)
		}
		l.conns = append(l.conns, client)
		l.over.Go(func() { l.live(client, n) })
	}
	return l, nil
}

// live lists the root again and again, in SFTP packets of its own.
func (l *load) live(client *ssh.Client, n int) {
	session, err := client.NewSession()
	if err != nil {
		return
	}
	in, err1 := session.StdinPipe()
	out, err2 := session.StdoutPipe()
	if err1 != nil || err2 != nil || session.RequestSubsystem("sftp") != nil {
		return
	}
	answers := bufio.NewReader(out)
	ask := func(packet ...byte) []byte {
		in.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(packet))), packet...))
		var head [4]byte
		if _, err := io.ReadFull(answers, head[:]); err != nil {
			return nil
		}
		body := make([]byte, binary.BigEndian.Uint32(head[:]))
		io.ReadFull(answers, body)
		return body
	}
	ask(1, 0, 0, 0, 3) // INIT, version 3
	tick := time.NewTicker(livePace)
	defer tick.Stop()
	time.Sleep(livePace * time.Duration(n) / time.Duration(liveSessions))
	for {
		opened := ask(11, 0, 0, 0, 1, 0, 0, 0, 1, '/') // OPENDIR
		if len(opened) < 9 || opened[0] != 102 {
			return
		}
		ask(append([]byte{4, 0, 0, 0, 2}, opened[5:]...)...) // CLOSE
		select {
		case <-tick.C:
		case <-l.stop:
			return
		}
	}
}

func (l *load) end() {
	close(l.stop)
	for _, c := range l.conns {
		c.Close()
	}
	l.over.Wait()
}

// under measures something while many sessions live.
func (w *world) under(do func() (float64, error)) (float64, error) {
	l, err := w.startLoad()
	if err != nil {
		return 0, err
	}
	defer l.end()
	time.Sleep(2 * time.Second)
	return do()
}

func (w *world) liveRows() []row {
	return []row{
		{name: "live stream, 1,000 sessions, against all of it", unit: "KiB/s", less: true, turns: 1, most: 50,
			ours:  func() (float64, error) { return w.under(func() (float64, error) { return w.streamed(false) }) },
			floor: func() (float64, error) { return w.under(func() (float64, error) { return w.streamed(true) }) }},
		{name: "service's CPU, 1,000 sessions, with a reader", unit: "%", less: true, turns: 1,
			ours: func() (float64, error) {
				return w.under(func() (float64, error) {
					go w.streamed(false) // ends by itself
					return w.busy()
				})
			},
			floor: func() (float64, error) { return w.under(w.busy) }},
		{name: "overview's frames (95%), 1,000 sessions, none", unit: "ms", less: true, target: 1.5, turns: 1,
			ours: func() (float64, error) { return w.under(w.frames) }, floor: w.frames},
	}
}

// streamed is how much the live stream sends once it has told everything; whole is how
// much it would be if each change were told with everything about it.
func (w *world) streamed(whole bool) (float64, error) {
	ctx, cancel := context.WithTimeout(context.Background(), liveWatch)
	defer cancel()
	response, err := control(filepath.Join(w.dir, "data")).Get("http://control/api/v1/live")
	if err != nil {
		return 0, err
	}
	defer response.Body.Close()
	go func() { <-ctx.Done(); response.Body.Close() }()
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(nil, 64<<20)
	total, one, started := 0, 0, time.Time{}
	for lines.Scan() {
		text, data := bytes.CutPrefix(lines.Bytes(), []byte("data: "))
		switch {
		case !data:
		case started.IsZero():
			var first api.Live
			if err := json.Unmarshal(text, &first); err != nil {
				return 0, err
			}
			if len(first.Sessions) < liveSessions {
				return 0, fmt.Errorf("%d sessions live", len(first.Sessions))
			}
			one, started = len(text)/len(first.Sessions), time.Now()
		default:
			total += len(text) + 8
		}
	}
	if whole {
		return float64(one*liveSessions) / livePace.Seconds() / 1024, nil
	}
	return float64(total) / 1024 / time.Since(started).Seconds(), nil
}

// busy is how much of one core the service takes.
func (w *world) busy() (float64, error) {
	before, err := cpuTime(w.ours.run.Process.Pid)
	if err != nil {
		return 0, err
	}
	time.Sleep(liveWatch)
	after, err := cpuTime(w.ours.run.Process.Pid)
	return (after - before) / liveWatch.Seconds() * 100, err
}

// cpuTime is how long a process has computed, seconds; ticks are hundredths (proc(5)).
func cpuTime(pid int) (float64, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, err
	}
	fields := strings.Fields(string(text[bytes.LastIndexByte(text, ')')+1:]))
	var user, system float64
	_, err = fmt.Sscan(fields[11]+" "+fields[12], &user, &system)
	return (user + system) / 100, err
}

// frames is how long the console's overview takes for a frame, but for one in twenty.
func (w *world) frames() (float64, error) {
	data := filepath.Join(w.dir, "data")
	add := exec.Command("bin/urbankeep", "operator", "add", "ilse", "-role", "owner", "-data", data)
	add.Stdin = strings.NewReader("a password for the bench\n")
	if out, err := add.CombinedOutput(); err != nil && !strings.Contains(string(out), "is taken") {
		return 0, fmt.Errorf("%w: %s", err, out)
	}
	tab, cancel, err := browser.Open(context.Background())
	if err != nil {
		return 0, err
	}
	defer cancel()
	base := "http://" + w.ours.console
	err = chromedp.Do(tab, chromedp.Navigate(base+"/sign-in"), chromedp.WaitVisible(chromedp.CSS("input[name=operator]")),
		chromedp.SendKeys(chromedp.CSS("input[name=operator]"), "ilse"), chromedp.SendKeys(chromedp.CSS("input[name=password]"), "a password for the bench"),
		chromedp.Click(chromedp.CSS("button[type=submit]")), chromedp.WaitVisible(chromedp.CSS("nav a")), chromedp.Sleep(3*time.Second),
		chromedp.Evaluate[chromedp.Void](`window.frames_ = []; (function next(last) { requestAnimationFrame(now => { if (last) window.frames_.push(now - last); next(now) }) })(0)`),
		chromedp.Sleep(liveWatch))
	if err != nil {
		return 0, err
	}
	times, err := chromedp.Run(tab, chromedp.Evaluate[[]float64](`window.frames_`))
	if err != nil || len(times) == 0 {
		return 0, fmt.Errorf("no frame was drawn: %w", err)
	}
	sort.Float64s(times)
	return times[len(times)*95/100], nil
}
