package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"os/exec"
	"strings"
	"syscall"
	"time"
)

// running is a service in a process of its own.
type running struct {
	dir     string
	run     *exec.Cmd
	console string
	took    time.Duration // from its beginning until it was ready
}

// launch starts a service on a data folder and waits until it is ready. Its passive ports, from first on, are none that the
// system gives to clients for their own end (ip(7), ip_local_port_range).
func launch(dir string, first int) (*running, error) {
	r := &running{dir: dir, run: exec.Command("bin/urbankeep", "serve", "-data", dir, "-console", "127.0.0.1:0", "-ftp", "127.0.0.1:0", "-ftps", "127.0.0.1:0",
		"-sftp", "127.0.0.1:0", "-passive", fmt.Sprintf("%d-%d", first, first+99), "-grace", "1s")}
	out, err := r.run.StdoutPipe()
	if err != nil {
		return nil, err
	}
	began := time.Now()
	if err := r.run.Start(); err != nil {
		return nil, fmt.Errorf("%w: run make build first", err)
	}
	for lines := bufio.NewScanner(out); lines.Scan(); {
		if rest, ready := strings.CutPrefix(lines.Text(), "ready: console http://"); ready {
			r.took = time.Since(began)
			r.console, _, _ = strings.Cut(rest, " ")
			return r, nil
		}
	}
	r.end()
	return nil, fmt.Errorf("the service on %s did not start", dir)
}

// do runs commands of our client, each of which must succeed.
func (r *running) do(commands ...[]string) error {
	for _, args := range commands {
		if _, err := r.cli("", args...); err != nil {
			return err
		}
	}
	return nil
}

func (r *running) cli(stdin string, args ...string) ([]byte, error) {
	run := exec.Command("bin/urbankeep", append(args, "-data", r.dir)...)
	var complaint strings.Builder
	run.Stdin, run.Stderr = strings.NewReader(stdin), &complaint
	out, err := run.Output()
	if err != nil {
		err = fmt.Errorf("%v: %w: %s", args, err, complaint.String())
	}
	return out, err
}

// at are the addresses of its listeners, by name.
func (r *running) at() (map[string]string, error) {
	text, err := r.cli("", "status", "-json")
	if err != nil {
		return nil, err
	}
	var status struct {
		Listeners []struct{ Name, Listening string }
	}
	found := map[string]string{}
	err = json.Unmarshal(text, &status)
	for _, l := range status.Listeners {
		found[l.Name] = l.Listening
	}
	return found, err
}

func (r *running) end() {
	if r == nil || r.run.Process == nil {
		return
	}
	r.run.Process.Signal(syscall.SIGTERM)
	r.run.Wait()
}
