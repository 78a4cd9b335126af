package main

import (
	"fmt"
	"path/filepath"
	"strings"
)

// houseRows compare the service with itself: where rules and limits are many with
// where there are none.
func (w *world) houseRows() []row {
	return []row{
		{name: "ssh sign-ins, 100,000 accounts against one", unit: "per s", target: 0.9, turns: 7,
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

func (w *world) startCrowd() (err error) {
	if w.crowded, err = launch(filepath.Join(w.dir, "crowd"), 21100); err != nil {
		return err
	}
	if err := addGroups(w.crowded.dir); err != nil {
		return err
	}
	const columns = "account,groups,note,mounts,grants,quota-bytes\n"
	roster := strings.Builder{}
	for n := range crowdAccounts {
		name := fmt.Sprintf("account-%06d", n)
		if n == crowdAccounts/2 {
			name = "crew"
		}
		if roster.Len() == 0 {
			roster.WriteString(columns)
		}
		fmt.Fprintf(&roster, "%s,\"group-%04d,group-%04d\",scans of ward %d,/=files:{account},/=full,100GiB\n", name, n%crowdGroups, (n+1)%crowdGroups, n%97)
		if n == crowdAccounts-1 || n%mostRoster == mostRoster-1 {
			if _, err := w.crowded.cli(roster.String(), "account", "import", "-", "-json"); err != nil {
				return err
			}
			roster.Reset()
		}
	}
	if err := w.crowded.do([]string{"key", "add", "crew", w.key + ".pub"}); err != nil {
		return err
	}
	at, err := w.crowded.at()
	w.crowdedAt = at["sftp"]
	return err
}

// mostRoster is how many lines one import may have.
const mostRoster = 20_000
