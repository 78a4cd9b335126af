package office

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"

	"urbankeep/internal/desk/rehearse"
	"urbankeep/internal/keep"
	"urbankeep/internal/people/signin"
)

// scratchPrefix begins the names of scratch folders.
const scratchPrefix = "rehearsal-"

// Sweep removes the scratch folders that a process left when it was killed.
func Sweep(dir string) error {
	left, err := filepath.Glob(filepath.Join(dir, scratchPrefix+"*"))
	for _, folder := range left {
		err = errors.Join(err, os.RemoveAll(folder))
	}
	return err
}

// Rehearse signs in as an account on every running listener, with credentials that
// work once, and tries what it may and may not do, in a scratch folder that is
// removed afterwards.
func (o *Office) Rehearse(ctx context.Context, who Actor, name string) ([]rehearse.Try, error) {
	e, err := o.Account(ctx, name)
	if err != nil {
		return nil, err
	}
	listeners, err := o.DB.Listeners(ctx)
	if err != nil {
		return nil, err
	}
	gate, err := o.Gate(ctx)
	if err != nil {
		return nil, err
	}
	data, err := filepath.Abs(o.Dir)
	if err != nil {
		return nil, err
	}
	scratch, err := os.MkdirTemp(data, scratchPrefix)
	if err != nil {
		return nil, fmt.Errorf("make the scratch folder: %w", err)
	}
	defer os.RemoveAll(scratch)
	r := &signin.Rehearsal{Account: e.Name, Operator: who.Operator, Folder: scratch}
	var stages []rehearse.Listener
	for _, l := range listeners {
		if l.Protocol == keep.Web && (!l.Serves(keep.PortalFace) || l.Redirect != "") {
			continue
		}
		address, _, _ := o.Live.Watch(l.Name)
		host, port, err := net.SplitHostPort(address)
		if err != nil {
			continue // it does not listen
		}
		if ip := net.ParseIP(host); ip == nil || ip.IsUnspecified() {
			host = "127.0.0.1"
		}
		from := host // who calls an address of its own machine comes from it
		secret, withdraw := o.Accounts.Issue(r)
		defer withdraw()
		stages = append(stages, rehearse.Listener{Listener: l, Dial: net.JoinHostPort(host, port), Secret: secret, Open: gate.Admit(from) && l.Admits(from)})
	}
	tries, err := rehearse.Run(ctx, e, stages, rehearse.Scratch(scratch))
	if err != nil {
		return nil, err
	}
	differ := 0
	for _, t := range tries {
		if !t.Agrees() {
			differ++
		}
	}
	return tries, o.record(who, keep.Rehearsing, e.Name, fmt.Sprintf("%d tries, %d not as they should be", len(tries), differ))
}
