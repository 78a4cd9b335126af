package main

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
)

// scp runs the real client with the old protocol.
func (w *world) scp(args ...string) error {
	_, port, _ := net.SplitHostPort(w.oursAt["sftp"])
	out, err := exec.Command("scp", append([]string{"-O", "-q", "-r", "-P", port, "-i", w.key, "-o", "IdentitiesOnly=yes", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=" + os.DevNull}, args...)...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

// scpRows hold the old protocol against our own SFTP: nothing else of the two differs.
func (w *world) scpRows() []row {
	const at = "crew@127.0.0.1:"
	small := func(do func(to string) error) func() (float64, error) {
		return func() (float64, error) {
			if err := w.makeSmall(); err != nil {
				return 0, err
			}
			to := w.fresh("scp")
			return timed(smallFiles, func() error { return do(to) })
		}
	}
	large := func(do func() error) func() (float64, error) {
		return func() (float64, error) { return timed(w.mib, do) }
	}
	return []row{
		{name: "scp upload, 1 GiB, beside sftp", unit: "MiB/s", target: 0.95, ours: large(func() error { return w.scp(w.large, at+"up") }),
			floor: large(func() error { return w.sftp(w.oursAt["sftp"], "put "+w.large+" up") })},
		{name: "scp download, 1 GiB, beside sftp", unit: "MiB/s", target: 0.95, ours: large(func() error { return w.scp(at+"large", os.DevNull) }),
			floor: large(func() error { return w.sftp(w.oursAt["sftp"], "get large "+os.DevNull) })},
		{name: "scp upload, 5,000 files of 4 KiB, beside sftp", unit: "files/s", target: 1.5, ours: small(func(to string) error { return w.scp(w.small, at+to) }),
			floor: small(func(to string) error {
				return w.sftp(w.oursAt["sftp"], "mkdir "+to, "put "+filepath.Join(w.small, "*")+" "+to+"/")
			})},
	}
}
