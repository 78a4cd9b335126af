package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// both makes a row whose two sides differ in the address only.
func (w *world) both(name, unit string, target float64, do func(address string) (float64, error)) row {
	return row{name: name, unit: unit, target: target,
		ours:  func() (float64, error) { return do(w.oursAt["sftp"]) },
		floor: func() (float64, error) { return do(w.floorAt) }}
}

func (w *world) rows() []row {
	mib := w.mib
	return append([]row{
		w.both("sftp download, 1 GiB", "MiB/s", 0.9, func(address string) (float64, error) {
			return timed(mib, func() error { return w.sftp(address, "get large "+os.DevNull) })
		}),
		w.both("sftp upload, 1 GiB", "MiB/s", 0.9, func(address string) (float64, error) {
			return timed(mib, func() error { return w.sftp(address, "put "+w.large+" up") })
		}),
		w.both("sftp download, 16 at once", "MiB/s", 0.9, func(address string) (float64, error) {
			return timed(mib*parallel, func() error { return w.crowd(func(int) error { return w.sftp(address, "get large "+os.DevNull) }) })
		}),
		w.smallUp(),
		w.smallDown(),
		w.signInRow(),
		w.listing(),
	}, append(append(append(w.scpRows(), w.ftpRows()...), append(w.powerRows(), append(w.storeRows(), append(append(append(w.webRows(), w.davRows()...), w.noticeRows()...), w.houseRows()...)...)...)...), append(append(append(w.trailRows(), w.manyRows()...), w.liveRows()...), w.sourceRows()...)...)...)
}

// crowd runs something 16 times at once.
func (w *world) crowd(do func(n int) error) error {
	errs := make([]error, parallel)
	var running sync.WaitGroup
	for n := range parallel {
		running.Go(func() { errs[n] = do(n) })
	}
	running.Wait()
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

func (w *world) makeSmall() error {
	if _, err := os.Stat(w.small); err == nil {
		return nil
	}
	if err := os.Mkdir(w.small, 0o755); err != nil {
		return err
	}
	text := []byte(strings.Repeat("x", smallSize))
	for n := range smallFiles {
		if err := os.WriteFile(filepath.Join(w.small, fmt.Sprintf("f%04d", n)), text, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// smallUp's floor is the same client on the bare server, which gives the round
// trips, plus making the same files straight on the disk.
func (w *world) smallUp() row {
	return row{name: "sftp upload, 5,000 files of 4 KiB", unit: "files/s",
		ours: func() (float64, error) {
			if err := w.makeSmall(); err != nil {
				return 0, err
			}
			to := w.fresh("small")
			return timed(smallFiles, func() error { return w.sftp(w.oursAt["sftp"], "mkdir "+to, "put "+w.small+"/* "+to+"/") })
		},
		floor: func() (float64, error) {
			if err := w.makeSmall(); err != nil {
				return 0, err
			}
			straight := filepath.Join(w.dir, w.fresh("straight"))
			return timed(smallFiles, func() error {
				if err := os.CopyFS(straight, os.DirFS(w.small)); err != nil {
					return err
				}
				return w.sftp(w.floorAt, "put "+w.small+"/* /in/")
			})
		}}
}

func (w *world) smallDown() row {
	return row{name: "sftp download, 5,000 files of 4 KiB", unit: "files/s",
		ours: func() (float64, error) {
			if w.fetched == "" {
				if _, err := w.putSmallInto(w.oursAt["sftp"]); err != nil {
					return 0, err
				}
			}
			return w.fetchSmall(w.oursAt["sftp"], w.fetched+"/f", nil)
		},
		floor: func() (float64, error) { // the same requests, and reading straight from the disk
			if err := w.makeSmall(); err != nil {
				return 0, err
			}
			return w.fetchSmall(w.floorAt, floorSmall, func() error {
				for n := range smallFiles {
					if _, err := os.ReadFile(filepath.Join(w.small, fmt.Sprintf("f%04d", n))); err != nil {
						return err
					}
				}
				return nil
			})
		}}
}

// fetchSmall fetches the small files one by one, whose names begin in a way, and does something besides.
func (w *world) fetchSmall(address, begin string, besides func() error) (float64, error) {
	to := filepath.Join(w.dir, w.fresh("back"))
	if err := os.Mkdir(to, 0o755); err != nil {
		return 0, err
	}
	names := make([]string, smallFiles)
	for n := range names {
		names[n] = fmt.Sprintf("get %s%04d %s/", begin, n, to)
	}
	return timed(smallFiles, func() error {
		if besides != nil {
			if err := besides(); err != nil {
				return err
			}
		}
		return w.sftp(address, names...)
	})
}

func (w *world) dial(address string) (*ssh.Client, error) {
	text, err := os.ReadFile(w.key)
	if err != nil {
		return nil, err
	}
	signer, err := ssh.ParsePrivateKey(text)
	if err != nil {
		return nil, err
	}
	return ssh.Dial("tcp", address, &ssh.ClientConfig{User: "crew", Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)}, HostKeyCallback: ssh.InsecureIgnoreHostKey(),
		HostKeyAlgorithms: []string{ssh.KeyAlgoED25519}, Timeout: 20 * time.Second})
}

// signInRow takes many short turns: a sign-in is short, and so are the moods of a machine.
func (w *world) signInRow() row {
	r := w.both("ssh sign-ins with a key", "per s", 0.9, func(address string) (float64, error) {
		return w.signInRate(address)
	})
	r.turns = 7
	return r
}

// signIns signs in and out again n times, two at once.
func (w *world) signIns(address string, n int) error {
	errs := make([]error, 2)
	var running sync.WaitGroup
	for worker := range errs {
		running.Go(func() {
			for range n / len(errs) {
				client, err := w.dial(address)
				if err != nil {
					errs[worker] = err
					return
				}
				client.Close()
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

// idleMemory is what sessions that do nothing add to a process, per session, in KiB.
func (w *world) idleMemory(address string, pid, n int) (float64, error) {
	return idle(pid, n, func() (func() error, error) {
		client, err := w.dial(address)
		if err != nil {
			return nil, err
		}
		session, err := client.NewSession()
		if err != nil {
			return nil, err
		}
		return client.Close, session.RequestSubsystem("sftp")
	})
}

// idle opens sessions that do nothing and gives what each adds to a process, in KiB.
func idle(pid, n int, open func() (end func() error, err error)) (float64, error) {
	before, err := resident(pid)
	if err != nil {
		return 0, err
	}
	for range n {
		end, err := open()
		if err != nil {
			return 0, err
		}
		defer end()
	}
	time.Sleep(3 * time.Second)
	after, err := resident(pid)
	return (after - before) / float64(n), err
}

// resident is the resident memory of a process, in KiB (proc(5)).
func resident(pid int) (float64, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	_, rest, _ := strings.Cut(string(text), "VmRSS:")
	return strconv.ParseFloat(strings.Fields(rest)[0], 64)
}

func (w *world) listing() row {
	r := w.both("sftp ls, 100,000 entries", "entries/s", 0.6, func(address string) (float64, error) {
		if err := w.makeEntries(); err != nil {
			return 0, err
		}
		return timed(entries, func() error { return w.sftp(address, "ls -1f "+floorMany) })
	})
	r.turns = 5
	return r
}

// makeEntries makes the folder with many entries.
func (w *world) makeEntries() error {
	folder := filepath.Join(w.store, floorMany)
	if _, err := os.Stat(folder); err == nil {
		return nil
	}
	if err := os.Mkdir(folder, 0o750); err != nil {
		return err
	}
	for n := range entries {
		if err := os.WriteFile(filepath.Join(folder, fmt.Sprintf("entry-%06d", n)), nil, 0o640); err != nil {
			return err
		}
	}
	return nil
}
