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
//
// With the number of a pass it comes as somebody with that.
func (o *Office) Rehearse(ctx context.Context, who Actor, name, pass string) ([]rehearse.Try, error) {
	e, err := o.Account(ctx, name)
	if err != nil {
		return nil, err
	}
	var with *keep.Pass
	folders, face := map[string]bool{}, keep.PortalFace
	if pass != "" {
		p, err := o.PassOf(ctx, e.Name, pass)
		if err != nil {
			return nil, err
		}
		if folders, err = o.there(ctx, e, keep.NewPolicy(e.Over(keep.ByPass)), p.Paths); err != nil && folders == nil {
			return nil, err
		}
		with, face = &p, keep.PassesFace
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
	r := &signin.Rehearsal{Account: e.Name, Operator: who.Operator, Folder: scratch, Pass: with}
	route := o.Book.RouteOf(e.Name)
	var stages []rehearse.Listener
	for _, l := range listeners {
		if l.Protocol == keep.Web && (!l.Serves(face) && !(with == nil && l.Serves(keep.DavFace)) || l.Redirect != "") || with != nil && l.Protocol != keep.Web {
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
		stage := rehearse.Listener{Listener: l, Dial: net.JoinHostPort(host, port), Open: gate.Admit(from) && l.Admits(from), Pass: with, Folders: folders, Route: &route}
		for _, one := range rehearse.Faced(stage) {
			secret, withdraw := o.Accounts.Issue(r)
			defer withdraw()
			one.Secret = secret
			stages = append(stages, one)
		}
	}
	defer o.Live.EndKey(e.Name, signin.KeyOfRehearsal, keep.Refuse(keep.AccountChanged, "the rehearsal is over"))
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
