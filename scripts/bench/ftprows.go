package main

import (
	"crypto/tls"
	"fmt"
	"net"
	"net/textproto"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
)

const password = "a password for the bench"

// ftp makes a row of which both sides run the same thing against an address.
func (w *world) ftp(name, unit, over string, target float64, do func(url, address string) (float64, error)) row {
	return row{name: name, unit: unit, target: target,
		ours:  func() (float64, error) { return do(over+"://"+w.oursAt[over], w.oursAt[over]) },
		floor: func() (float64, error) { return do(over+"://"+w.floorFTP[over], w.floorFTP[over]) }}
}

func (w *world) ftpRows() []row {
	mib := w.mib
	get := func(url, _ string) (float64, error) {
		return timed(mib, func() error { return w.curl(url+"/large", "-o", os.DevNull) })
	}
	put := func(url, _ string) (float64, error) {
		return timed(mib, func() error { return w.curl(url+"/up", "-T", w.large) })
	}
	crowd := func(url, _ string) (float64, error) {
		return timed(mib*parallel, func() error { return w.crowd(func(int) error { return w.curl(url+"/large", "-o", os.DevNull) }) })
	}
	signIns := w.ftp("ftps sign-ins", "per s", "ftps", 0, func(_, address string) (float64, error) {
		return timed(signInRuns, func() error { return w.ftpsSignIns(address, signInRuns) })
	})
	signIns.turns = 7
	return []row{
		w.ftp("ftp download, 1 GiB", "MiB/s", "ftp", 0.95, get),
		w.ftp("ftp upload, 1 GiB", "MiB/s", "ftp", 0.9, put),
		w.ftp("ftps download, 1 GiB", "MiB/s", "ftps", 0.9, get),
		w.ftp("ftps upload, 1 GiB", "MiB/s", "ftps", 0.9, put),
		w.ftp("ftp download, 16 at once", "MiB/s", "ftp", 0, crowd),
		w.ftp("ftps download, 16 at once", "MiB/s", "ftps", 0, crowd),
		w.ftp("ftp upload, 5,000 files of 4 KiB", "files/s", "ftp", 0, func(url, _ string) (float64, error) {
			return timed(smallFiles, func() error { return w.putSmall(url) })
		}),
		w.ftp("ftp download, 5,000 files of 4 KiB", "files/s", "ftp", 0, func(url, _ string) (float64, error) {
			if err := w.putSmall(url); err != nil {
				return 0, err
			}
			return timed(smallFiles, func() error { return w.getSmall(url) })
		}),
		signIns,
		{name: "memory of an idle ftps session", unit: "KiB", less: true, turns: 1,
			ours:  func() (float64, error) { return w.idleFTPS(w.oursAt["ftps"], w.ours.run.Process.Pid) },
			floor: func() (float64, error) { return w.idleFTPS(w.floorFTP["ftps"], w.floor.Process.Pid) }},
		w.ftp("ftp MLSD, 100,000 entries", "entries/s", "ftp", 0.8, func(url, _ string) (float64, error) {
			if err := w.makeEntries(); err != nil {
				return 0, err
			}
			return timed(entries, func() error { return w.curl(url+"/"+floorMany+"/", "-X", "MLSD", "-o", os.DevNull) })
		}),
	}
}

// curl runs the real client.
func (w *world) curl(url string, args ...string) error {
	run := exec.Command("curl", append([]string{"-sS", "-k", "--user", "crew:" + password, url}, args...)...)
	if out, err := run.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

// enter signs in over implicit TLS.
func enter(address string) (net.Conn, *textproto.Conn, error) {
	conn, err := tls.Dial("tcp", address, &tls.Config{InsecureSkipVerify: true})
	if err != nil {
		return nil, nil, err
	}
	text := textproto.NewConn(conn)
	for _, step := range []struct {
		line string
		code int
	}{{"", 220}, {"USER crew", 331}, {"PASS " + password, 230}} {
		if step.line != "" {
			if err := text.PrintfLine("%s", step.line); err != nil {
				return nil, nil, err
			}
		}
		if _, _, err := text.ReadResponse(step.code); err != nil {
			return nil, nil, err
		}
	}
	return conn, text, nil
}

// ftpsSignIns signs in and out again n times, two at once.
func (w *world) ftpsSignIns(address string, n int) error {
	errs := make([]error, 2)
	var running sync.WaitGroup
	for worker := range errs {
		running.Go(func() {
			for range n / len(errs) {
				conn, text, err := enter(address)
				if err != nil {
					errs[worker] = err
					return
				}
				text.PrintfLine("QUIT")
				text.ReadResponse(221)
				conn.Close()
			}
		})
	}
	running.Wait()
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// idleFTPS is what sessions that do nothing add to a process, per session, in KiB.
func (w *world) idleFTPS(address string, pid int) (float64, error) {
	return idle(pid, idlers, func() (func() error, error) {
		conn, _, err := enter(address)
		if err != nil {
			return nil, err
		}
		return conn.Close, nil
	})
}

// lftp runs a script of the real client, on one connection in clear.
func (w *world) lftp(url string, lines ...string) error {
	script := append([]string{"set ftp:ssl-allow no", "set net:max-retries 1", "set cmd:fail-exit yes", fmt.Sprintf("open -u crew,%q %s", password, url)}, lines...)
	run := exec.Command("lftp", "-f", "/dev/stdin")
	run.Stdin = strings.NewReader(strings.Join(script, "\n") + "\n")
	if out, err := run.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

// putSmall sends 5,000 small files.
func (w *world) putSmall(url string) error {
	if err := w.makeSmall(); err != nil {
		return err
	}
	return w.lftp(url, "mput "+w.small+"/*")
}

// getSmall fetches them into a folder that is new each time.
func (w *world) getSmall(url string) error {
	back, err := os.MkdirTemp(w.dir, "back")
	if err != nil {
		return err
	}
	defer os.RemoveAll(back)
	names := make([]string, smallFiles)
	for n := range names {
		names[n] = fmt.Sprintf("f%04d", n)
	}
	return w.lftp(url, "get -O "+back+" "+strings.Join(names, " "))
}

// floorFiles puts what is to be fetched from the floor into its folder.
func (w *world) floorFiles(dir string) error {
	if err := os.MkdirAll(dir, 0o750); err != nil {
		return err
	}
	return os.Link(w.large, filepath.Join(dir, "large"))
}
