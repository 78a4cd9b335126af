package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// manyRows are about many of everything: accounts, groups, idle sessions, records at the start.
func (w *world) manyRows() []row {
	page := func(name, path string) row {
		return row{name: name, unit: "ms", less: true, most: 100, turns: 5,
			ours: func() (float64, error) {
				return w.inTheCrowd(func(string) (float64, error) { return answered(filepath.Join(w.dir, "crowd"), path) })
			},
			floor: func() (float64, error) { return answered(filepath.Join(w.dir, "data"), path) }}
	}
	return []row{
		page("first page, 100,000 accounts against one", "/accounts"),
		page("found by a part of a name, the same", "/accounts?text=077777"),
		page("first page of 5,000 groups, the same", "/groups"),
		{name: "memory of 5,000 idle sftp sessions, each", unit: "KiB", target: 1.5, less: true, turns: 1,
			ours:  func() (float64, error) { return w.idleCrowd(w.ownService) },
			floor: func() (float64, error) { return w.idleCrowd(w.ownFloor) }},
		{name: "ssh sign-ins beside 5,000 sessions and none", unit: "per s", target: 0.9, turns: 1,
			ours:  func() (float64, error) { return w.besideCrowd(manyIdlers) },
			floor: func() (float64, error) { return w.besideCrowd(0) }},
		{name: "start, 10M records against none", unit: "ms", less: true, most: 3000, turns: 3,
			ours: func() (float64, error) {
				if err := w.needTrails(); err != nil {
					return 0, err
				}
				dir := filepath.Join(w.dir, "many")
				w.trails.many.Close()
				defer func() { w.trails.many, _ = records.Open(context.Background(), dir) }()
				return w.started(dir)
			},
			floor: func() (float64, error) { return w.started(filepath.Join(w.dir, "none")) }},
	}
}

// answered is how long the service on a data folder takes for an answer, in milliseconds.
func answered(dir, path string) (float64, error) {
	client := control(dir)
	began := time.Now()
	response, err := client.Get("http://control/api/v1" + path)
	if err != nil {
		return 0, err
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	if err == nil && response.StatusCode != http.StatusOK {
		err = fmt.Errorf("%s: %s", path, text)
	}
	return float64(time.Since(began).Microseconds()) / 1000, err
}

// ask has the service on a data folder do something.
func ask(dir, path string, what any) error {
	text, err := json.Marshal(what)
	if err != nil {
		return err
	}
	response, err := control(dir).Post("http://control/api/v1"+path, "application/json", bytes.NewReader(text))
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if answer, _ := io.ReadAll(response.Body); response.StatusCode >= 300 {
		return fmt.Errorf("%s: %s", path, answer)
	}
	return nil
}

// addGroups makes the groups of a crowded house.
func addGroups(dir string) error {
	for g := range crowdGroups {
		group := api.GroupNew{Name: fmt.Sprintf("group-%04d", g), Settings: map[string]json.RawMessage{"maxSessions": json.RawMessage("100")}}
		for n := range crowdGrants {
			grant, err := keep.ParseGrant(fmt.Sprintf("/district-%02d/%03d=add-only;never=*.exe;days=mon-fri", n, g%1000))
			if err != nil {
				return err
			}
			group.Grants = append(group.Grants, grant)
		}
		if err := ask(dir, "/groups", group); err != nil {
			return err
		}
	}
	return nil
}

// own is a process that nobody has used yet and that serves SFTP.
type own struct {
	address string
	pid     int
	end     func()
}

// ownService has room for all that come.
func (w *world) ownService() (own, error) {
	r, err := launch(filepath.Join(w.dir, w.fresh("own")), 21300)
	if err != nil {
		return own{}, err
	}
	many := fmt.Sprint(2*manyIdlers + 100)
	err = r.do([]string{"account", "add", "crew", "-home", "files:crew", "-key", w.key + ".pub", "-max-sessions", many}, []string{"limits", "set", "-sessions", many, "-sessions-per-address", many})
	at, wrong := r.at()
	if err = errors.Join(err, wrong); err != nil {
		r.end()
	}
	return own{at["sftp"], r.run.Process.Pid, r.end}, err
}

func (w *world) ownFloor() (own, error) {
	self, err := os.Executable()
	if err != nil {
		return own{}, err
	}
	run := exec.Command(self, "floor")
	out, err := run.StdoutPipe()
	if err != nil {
		return own{}, err
	}
	if err := run.Start(); err != nil {
		return own{}, err
	}
	end := func() { run.Process.Kill(); run.Wait() }
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		end()
	}
	address, _, _ := strings.Cut(line, " ")
	return own{address, run.Process.Pid, end}, err
}

func (w *world) idleCrowd(start func() (own, error)) (float64, error) {
	o, err := start()
	if err != nil {
		return 0, err
	}
	defer o.end()
	return w.idleMemory(o.address, o.pid, manyIdlers)
}

// besideCrowd measures sign-ins while so many idle sessions live.
func (w *world) besideCrowd(n int) (rate float64, err error) {
	o, err := w.ownService()
	if err != nil {
		return 0, err
	}
	defer o.end()
	for range n {
		client, err := w.dial(o.address)
		if err != nil {
			return 0, err
		}
		defer client.Close()
	}
	return w.signInRate(o.address)
}

// started is how long a service takes from its beginning until it is ready, in milliseconds. What only its first start
// does is done before.
func (w *world) started(dir string) (took float64, err error) {
	for range 2 {
		r, err := launch(dir, 21400)
		if err != nil {
			return 0, err
		}
		took = float64(r.took.Microseconds()) / 1000
		r.end()
	}
	return took, nil
}
