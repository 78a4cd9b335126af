package main

import (
	"fmt"
	"os"
	"path/filepath"
)

// durable is a service on a real disk, where it costs something to outlive a power cut. Its
// account crew is in a store of mode power, the account quick in one of mode process.
type durable struct {
	service *running
	at      string
}

// powerRows measure what power mode costs, beside process mode in the same run.
func (w *world) powerRows() []row {
	small := func(mode string) func() (float64, error) {
		return func() (float64, error) {
			if err := w.makeSmall(); err != nil {
				return 0, err
			}
			to := w.fresh("small")
			return w.durably(mode, min(durableFiles, smallFiles), func(as string) error {
				return w.sftpAs(as, w.disk.at, "mkdir "+to, fmt.Sprintf("put %s/f00* %s/", w.small, to))
			})
		}
	}
	large := func(mode string) func() (float64, error) {
		return func() (float64, error) {
			return w.durably(mode, w.mib, func(as string) error { return w.sftpAs(as, w.disk.at, "put "+w.large+" large") })
		}
	}
	signIns := func(mode string) func() (float64, error) {
		return func() (float64, error) {
			return w.durably(mode, signInRuns, func(string) error { return w.signIns(w.disk.at, signInRuns) })
		}
	}
	return []row{
		{name: "power beside process, 100 files of 4 KiB", unit: "files/s", ours: small("power"), floor: small("process")},
		{name: "power beside process, sftp upload, 1 GiB", unit: "MiB/s", ours: large("power"), floor: large("process")},
		{name: "power beside process, ssh sign-ins", unit: "per s", ours: signIns("power"), floor: signIns("process")},
	}
}

// durableFiles is how many of the small files have a name that begins with f00.
const durableFiles = 100

// durably times something with one mode for the trail, as the account of the store of that mode.
func (w *world) durably(mode string, amount int, do func(account string) error) (float64, error) {
	if err := w.startDurable(); err != nil {
		return 0, err
	}
	if err := w.disk.service.do([]string{"audit", "durability", mode}); err != nil {
		return 0, err
	}
	account := map[string]string{"power": "crew", "process": "quick"}[mode]
	return timed(amount, func() error { return do(account) })
}

func (w *world) startDurable() error {
	if w.disk.service != nil {
		return nil
	}
	dir, err := os.MkdirTemp("", "bench-disk")
	if err != nil {
		return err
	}
	if w.disk.service, err = launch(filepath.Join(dir, "data"), 21200); err != nil {
		return err
	}
	at, err := w.disk.service.at()
	if w.disk.at = at["sftp"]; err != nil {
		return err
	}
	return w.disk.service.do(
		[]string{"store", "add", "quick", filepath.Join(dir, "quick")}, []string{"store", "set", "quick", "-durability", "process"},
		[]string{"account", "add", "crew", "-home", "files:crew", "-key", w.key + ".pub"}, []string{"account", "add", "quick", "-home", "quick:quick"}, []string{"key", "add", "quick", w.key + ".pub", "-shared"})
}

func (d *durable) stop() {
	if d.service != nil {
		d.service.run.Process.Kill()
		d.service.run.Wait()
		os.RemoveAll(filepath.Dir(d.service.dir))
	}
}
