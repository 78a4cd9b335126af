package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

const (
	longSamples = 12 // lines of the table
	longIdlers  = 200
	longFile    = 8 << 20 // bytes
)

// long is a service under mixed load for a long time: what it holds at the beginning and at the end.
type long struct {
	*world
	done atomic.Int64 // pieces of work
	mu   sync.Mutex
	took []time.Duration // sign-ins since the last line
}

// runLong prints what a service holds, line by line, while everything is done to it that clients do.
func runLong(length time.Duration) (err error) {
	dir, err := os.MkdirTemp(memory(), "long")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	w := &world{dir: dir}
	if err := w.start(); err != nil {
		return err
	}
	defer w.stop()
	l := &long{world: w}
	if err := errors.Join(w.makeSmall(), os.Truncate(w.large, longFile), w.ours.do([]string{"account", "set", "crew", "-max-sessions", "1000", "-idle-time", "24h"}, []string{"limits", "set", "-sessions", "1000", "-sessions-per-address", "1000"})); err != nil {
		return err
	}
	for range longIdlers {
		client, err := w.dial(w.oursAt["sftp"])
		if err != nil {
			return err
		}
		defer client.Close()
	}
	ctx, stop := context.WithTimeout(context.Background(), length+time.Second) // the last line comes before its end
	defer stop()
	var work sync.WaitGroup
	pieces := l.work(ctx)
	faults := make(chan error, len(pieces))
	for n, one := range pieces {
		work.Go(func() {
			for round := 0; ctx.Err() == nil; round++ {
				if err := one(n, round); err != nil && ctx.Err() == nil {
					faults <- fmt.Errorf("round %d of worker %d: %w", round, n, err)
					stop()
					return
				}
				l.done.Add(1)
			}
		})
	}
	fmt.Printf("%8s %12s %11s %12s %9s %18s %18s\n", "after", "memory", "goroutines", "descriptors", "work", "sign-in, median", "99 of 100")
	tick := time.NewTicker(length / longSamples)
	defer tick.Stop()
	for began, last := time.Now(), time.Now(); ctx.Err() == nil; {
		select {
		case <-tick.C:
			if err := l.line(began, last); err != nil {
				return err
			}
			last = time.Now()
		case <-ctx.Done():
		}
	}
	work.Wait()
	select {
	case err = <-faults:
	default:
	}
	return err
}

// work is what goes on side by side; each is done again and again, in a round that is numbered.
func (l *long) work(ctx context.Context) []func(n, round int) error {
	sftp := func(n, _ int) error {
		to := fmt.Sprintf("sftp-%d", n)
		return l.sftp(l.oursAt["sftp"], "-mkdir "+to, "put "+l.small+"/f00* "+to+"/", "get "+to+"/f0000 "+os.DevNull, "ls -l "+to, "put "+l.large+" "+to+"/large", "get "+to+"/large "+os.DevNull, "rename "+to+"/large "+to+"/moved", "rm "+to+"/*")
	}
	ftps := func(n, _ int) error {
		url := fmt.Sprintf("ftps://%s/ftps-%d", l.oursAt["ftps"], n)
		return errors.Join(l.curl(url, "-T", l.large), l.curl(url, "-o", os.DevNull), l.curl("ftps://"+l.oursAt["ftps"]+"/", "-o", os.DevNull))
	}
	ftp := func(int, int) error {
		return l.lftp("ftp://"+l.oursAt["ftp"], "mput -O / "+l.small+"/f01*", "mrm f01*")
	}
	dav := func(n, _ int) error {
		url := fmt.Sprintf("http://%s/dav/dav-%d", l.ours.console, n)
		return errors.Join(l.curl(url, "-f", "-T", l.large, "-o", os.DevNull), l.curl(url, "-f", "-o", os.DevNull), l.curl(url, "-f", "-X", "DELETE"))
	}
	desk := func(_, round int) error {
		for _, path := range []string{"/accounts", "/audit?limit=200", "/sessions", "/traffic?by=account", "/checkup"} {
			if _, err := answered(l.ours.dir, path); err != nil {
				return err
			}
		}
		return l.ours.do([]string{"account", "set", "crew", "-note", fmt.Sprint("round ", round)})
	}
	watch := func(int, int) error { // a reader of what is live, who leaves after a while
		run := exec.CommandContext(ctx, "bin/urbankeep", "session", "watch", "-json", "-data", l.ours.dir)
		out, err := run.StdoutPipe()
		if err != nil {
			return err
		}
		if err := run.Start(); err != nil {
			return err
		}
		for lines, n := bufio.NewReader(out), 0; n < 50; n++ {
			if _, err := lines.ReadString('\n'); err != nil {
				break
			}
		}
		run.Process.Kill()
		run.Wait()
		return nil
	}
	signIn := func(int, int) error {
		began := time.Now()
		client, err := l.dial(l.oursAt["sftp"])
		if err != nil {
			return err
		}
		l.mu.Lock()
		l.took = append(l.took, time.Since(began))
		l.mu.Unlock()
		time.Sleep(200 * time.Millisecond)
		return client.Close()
	}
	return []func(int, int) error{sftp, sftp, ftps, ftp, dav, desk, watch, signIn}
}

// line tells of now.
func (l *long) line(began, last time.Time) error {
	pid := l.ours.run.Process.Pid
	kept, err1 := resident(pid)
	open, err2 := os.ReadDir(fmt.Sprintf("/proc/%d/fd", pid))
	routines, err3 := l.metric("go_goroutines")
	if err := errors.Join(err1, err2, err3); err != nil {
		return err
	}
	l.mu.Lock()
	took := l.took
	l.took = nil
	l.mu.Unlock()
	slices.Sort(took)
	at := func(part float64) string {
		if len(took) == 0 {
			return "-"
		}
		return took[int(part*float64(len(took)-1))].Round(100 * time.Microsecond).String()
	}
	fmt.Printf("%8s %8.0f MiB %11s %12d %5.1f /s %18s %18s\n", time.Since(began).Round(time.Second), kept/1024, routines, len(open), float64(l.done.Swap(0))/time.Since(last).Seconds(), at(0.5), at(0.99))
	return nil
}

// metric is a figure for Prometheus.
func (l *long) metric(name string) (string, error) {
	response, err := control(l.ours.dir).Get("http://control/metrics")
	if err != nil {
		return "", err
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	for line := range strings.Lines(string(text)) {
		if value, is := strings.CutPrefix(line, name+" "); is {
			return strings.TrimSpace(value), nil
		}
	}
	return "", errors.Join(err, fmt.Errorf("%s has no %s", filepath.Base(l.ours.dir), name))
}
