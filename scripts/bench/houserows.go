package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// houseRows compare the service with itself: where rules and limits are many with
// where there are none.
func (w *world) houseRows() []row {
	return []row{
		{name: "ssh sign-ins, 2,000 accounts against one", unit: "per s", target: 0.9, turns: 7,
			ours: func() (float64, error) {
				return w.inTheCrowd(func(at string) (float64, error) { return w.signInRate(at) })
			},
			floor: func() (float64, error) { return w.signInRate(w.oursAt["sftp"]) }},
		{name: "sftp upload of 4 KiB files, with a quota", unit: "files/s", target: 0.9,
			ours: func() (float64, error) {
				return w.inTheCrowd(w.putSmallInto)
			},
			floor: func() (float64, error) { return w.putSmallInto(w.oursAt["sftp"]) }},
	}
}

func (w *world) signInRate(address string) (float64, error) {
	return timed(signInRuns, func() error { return w.signIns(address, signInRuns) })
}

// putSmallInto sends the small files to a folder that is new each time.
func (w *world) putSmallInto(address string) (float64, error) {
	if err := w.makeSmall(); err != nil {
		return 0, err
	}
	to := w.fresh("small")
	if address == w.oursAt["sftp"] {
		defer func() { w.fetched = to }()
	}
	return timed(smallFiles, func() error { return w.sftp(address, "mkdir "+to, "put "+w.small+"/* "+to+"/") })
}

// inTheCrowd measures on a service with many accounts, which is started the first
// time; the account that signs in has a quota.
func (w *world) inTheCrowd(do func(address string) (float64, error)) (float64, error) {
	if w.crowded == nil {
		if err := w.startCrowd(); err != nil {
			return 0, fmt.Errorf("a service with %d accounts: %w", crowdAccounts, err)
		}
	}
	return do(w.crowdedAt)
}

func (w *world) startCrowd() error {
	data := filepath.Join(w.dir, "crowd")
	w.crowded = exec.Command("bin/urbankeep", "serve", "-data", data, "-console", "127.0.0.1:0", "-ftp", "127.0.0.1:0", "-ftps", "127.0.0.1:0",
		"-sftp", "127.0.0.1:0", "-passive", "21100-21199", "-grace", "1s")
	out, err := w.crowded.StdoutPipe()
	if err != nil {
		return err
	}
	if err := w.crowded.Start(); err != nil {
		return err
	}
	for lines := bufio.NewScanner(out); lines.Scan(); {
		if strings.HasPrefix(lines.Text(), "ready") {
			break
		}
	}
	cli := func(stdin string, args ...string) ([]byte, error) {
		run := exec.Command("bin/urbankeep", append(args, "-data", data)...)
		run.Stdin, run.Stderr = strings.NewReader(stdin), os.Stderr
		return run.Output()
	}
	for g := range crowdGroups {
		args := []string{"group", "add", fmt.Sprintf("group-%03d", g), "-max-sessions", "100"}
		for n := range crowdGrants {
			args = append(args, "-grant", fmt.Sprintf("/district-%02d/%03d=add-only;never=*.exe;days=mon-fri", n, g))
		}
		if _, err := cli("", args...); err != nil {
			return err
		}
	}
	var roster strings.Builder
	roster.WriteString("account,groups,mounts,grants,quota-bytes\n")
	for n := range crowdAccounts {
		name := fmt.Sprintf("account-%04d", n)
		if n == crowdAccounts/2 {
			name = "crew"
		}
		fmt.Fprintf(&roster, "%s,\"group-%03d,group-%03d\",/=files:{account},/=full,100GiB\n", name, n%crowdGroups, (n+1)%crowdGroups)
	}
	if _, err := cli(roster.String(), "account", "import", "-", "-json"); err != nil {
		return err
	}
	if _, err := cli("", "key", "add", "crew", w.key+".pub"); err != nil {
		return err
	}
	text, err := cli("", "status", "-json")
	if err != nil {
		return err
	}
	var status struct {
		Listeners []struct{ Name, Listening string }
	}
	if err := json.Unmarshal(text, &status); err != nil {
		return err
	}
	for _, l := range status.Listeners {
		if l.Name == "sftp" {
			w.crowdedAt = l.Listening
		}
	}
	return nil
}
