package office

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/desk/mover"
	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// moveSetting is where it is kept which store moves to which, so that it goes on after a break.
const moveSetting = "store-move"

// moves is the move that goes on, if one does.
type moves struct {
	mu    sync.Mutex
	now   *move
	ended api.StoreMove // how the last one ended
	work  sync.WaitGroup
}

type move struct {
	from, to string
	who      Actor
	tally    mover.Tally
	phase    string
	stop     context.CancelFunc
}

// moveFacts is a move as it is kept.
type moveFacts struct {
	From, To, Operator string
}

// errMoving refuses sign-ins while the last files are brought.
var errMoving = keep.Refuse(keep.StoreAway, "the files of this account are moving to another place: try again in a minute")

// pair gives both stores of a move and opens them.
func (o *Office) pair(ctx context.Context, from, to string) (m mover.Mover, err error) {
	a, err := o.storeNamed(ctx, from)
	if err != nil {
		return m, err
	}
	b, err := o.storeNamed(ctx, to)
	if err != nil {
		return m, err
	}
	if a.Name == b.Name {
		return m, &keep.FieldError{Field: "to", Say: "name another store"}
	}
	if m.From, err = o.Stores.Look(a, "."); err != nil {
		return m, err
	}
	m.Lasting = b.Durability == keep.Power
	if m.To, err = o.Stores.Look(b, "."); err != nil {
		m.From.Close()
	}
	return m, err
}

// leading are the accounts and groups whose own mounts lead into a store.
func (o *Office) leading(ctx context.Context, name string) (accounts, groups []string, err error) {
	users, err := o.StoreUsers(ctx, name)
	for _, who := range users {
		if group, is := cutGroup(who); is {
			groups = append(groups, group)
		} else {
			accounts = append(accounts, who)
		}
	}
	return accounts, groups, err
}

func cutGroup(who string) (string, bool) {
	const start = "group "
	if len(who) > len(start) && who[:len(start)] == start {
		return who[len(start):], true
	}
	return who, false
}

// PlanMove says what moving a store to another would bring, and changes nothing.
func (o *Office) PlanMove(ctx context.Context, from, to string) (plan api.StoreMove, err error) {
	plan = api.StoreMove{From: from, To: to, Phase: "planned"}
	m, err := o.pair(ctx, from, to)
	if err != nil {
		return plan, err
	}
	defer m.From.Close()
	defer m.To.Close()
	m.Tally = new(mover.Tally)
	left, err := m.Count(ctx)
	if err != nil {
		return plan, err
	}
	if opened, err := o.clears(ctx, from, to); err != nil {
		return plan, err
	} else if opened {
		plan.Say = "the contents will lie in clear in " + to + ", which is not sealed"
	}
	plan.Files, plan.Bytes, plan.Left = m.Tally.Files.Load(), m.Tally.Bytes.Load(), left
	if plan.MountedBy, err = o.StoreUsers(ctx, from); err != nil {
		return plan, err
	}
	plan.Users = len(plan.MountedBy)
	plan.MountedBy = plan.MountedBy[:min(plan.Users, api.MostUsers)]
	users, err := o.StoreUsers(ctx, to)
	if len(users) > 0 {
		return plan, &keep.FieldError{Field: "to", Say: "the store " + to + " is in use by the mounts of " + listed(users, "") + ", and all that isn't in " + from + " would go: move to an empty store"}
	}
	if space, known := store.SpaceOf(m.To); known == nil && int64(space.FreeBytes) < plan.Bytes {
		return plan, &keep.FieldError{Field: "to", Say: fmt.Sprintf("it has room for %s, and %s would come", keep.SaySize(int64(space.FreeBytes)), keep.SaySize(plan.Bytes))}
	}
	return plan, err
}

// clears reports whether what is sealed in one store would not be in another.
func (o *Office) clears(ctx context.Context, from, to string) (bool, error) {
	a, err := o.storeNamed(ctx, from)
	if err != nil {
		return false, err
	}
	b, err := o.storeNamed(ctx, to)
	return a.Kind == keep.Sealed && b.Kind != keep.Sealed, err
}

// StartMove begins to move a store to another; it goes on by itself, and after a break of the service too.
func (o *Office) StartMove(ctx context.Context, who Actor, from, to string) (api.StoreMove, error) {
	plan, err := o.PlanMove(ctx, from, to)
	if err != nil {
		return plan, err
	}
	o.moving.mu.Lock()
	defer o.moving.mu.Unlock()
	if o.moving.now != nil {
		return plan, keep.Refuse(keep.InUse, "the store "+o.moving.now.from+" is being moved: wait for that, or stop it (store move "+o.moving.now.from+" -stop)")
	}
	text, err := json.Marshal(moveFacts{from, to, who.Operator})
	if err != nil {
		return plan, err
	}
	err = o.recorded(ctx, who, keep.StoreMove, from, "to "+to, func(ctx context.Context) error { return o.DB.SaveSetting(ctx, moveSetting, string(text)) })
	if err != nil {
		return plan, err
	}
	o.begin(who, from, to)
	return o.moveNow(), nil
}

// begin has the work done. The caller holds the lock.
func (o *Office) begin(who Actor, from, to string) {
	ctx, stop := context.WithCancel(context.Background())
	one := &move{from: from, to: to, who: who, phase: "copying", stop: stop}
	o.moving.now = one
	o.moving.work.Go(func() {
		err := o.carryOver(ctx, one)
		o.moving.mu.Lock()
		defer o.moving.mu.Unlock()
		if one.phase = "done"; err != nil {
			one.phase = "failed"
		}
		o.moving.ended = o.moveNow()
		if err != nil && ctx.Err() == nil { // not because the service ends
			o.DB.SaveSetting(context.Background(), moveSetting, "")
		}
		if err != nil {
			o.moving.ended.Say = reasonOf(err)
			o.Log.Error("a store was not moved", "store", from, "to", to, "cause", err)
		}
		o.moving.now = nil
		stop()
	})
}

// ResumeMove goes on with what a break of the service left.
func (o *Office) ResumeMove(ctx context.Context) error {
	text, err := o.DB.Setting(ctx, moveSetting)
	if err != nil || text == "" {
		return err
	}
	var kept moveFacts
	if err := json.Unmarshal([]byte(text), &kept); err != nil {
		return err
	}
	o.moving.mu.Lock()
	defer o.moving.mu.Unlock()
	o.begin(Actor{Operator: kept.Operator, Role: keep.Owner, Protocol: keep.Local}, kept.From, kept.To)
	return nil
}

// EndMoves stops what goes on, to be gone on with at the next start.
func (o *Office) EndMoves() {
	o.moving.mu.Lock()
	if o.moving.now != nil {
		o.moving.now.stop()
	}
	o.moving.mu.Unlock()
	o.moving.work.Wait()
}

// StopMove ends a move for good; nothing was switched, and what was copied stays.
func (o *Office) StopMove(ctx context.Context, who Actor, from string) (api.StoreMove, error) {
	o.moving.mu.Lock()
	one := o.moving.now
	o.moving.mu.Unlock()
	if one == nil || one.from != from {
		return api.StoreMove{}, keep.Refuse(keep.NotFound, "the store "+from+" is not being moved")
	}
	if err := o.recorded(ctx, who, keep.StoreMove, from, "stopped", func(ctx context.Context) error { return o.DB.SaveSetting(ctx, moveSetting, "") }); err != nil {
		return api.StoreMove{}, err
	}
	o.EndMoves()
	return o.Move(from)
}

// Move tells of the move of a store: of the one that goes on, or how the last one ended.
func (o *Office) Move(from string) (api.StoreMove, error) {
	o.moving.mu.Lock()
	defer o.moving.mu.Unlock()
	switch {
	case o.moving.now != nil && o.moving.now.from == from:
		return o.moveNow(), nil
	case o.moving.ended.From == from:
		return o.moving.ended, nil
	}
	return api.StoreMove{}, keep.Refuse(keep.NotFound, "the store "+from+" is not being moved")
}

// moveNow is how far it is. The caller holds the lock.
func (o *Office) moveNow() api.StoreMove {
	m := o.moving.now
	t := &m.tally
	return api.StoreMove{From: m.from, To: m.to, Phase: m.phase, Files: t.Files.Load(), Bytes: t.Bytes.Load(), CopiedFiles: t.Copied.Load(), CopiedBytes: t.CopiedBytes.Load(), SameFiles: t.Same.Load(), Left: t.LinksLeft.Load()}
}

// maxPasses bounds how often it is gone through a store before everybody has to leave it for a moment.
const maxPasses = 5

// carryOver copies while the service runs, pass after pass; then everybody leaves for the last one, and the
// mounts are switched.
func (o *Office) carryOver(ctx context.Context, one *move) error {
	m, err := o.pair(ctx, one.from, one.to)
	if err != nil {
		return err
	}
	defer m.From.Close()
	defer m.To.Close()
	m.Tally = &one.tally
	touched := o.Ledger.Touch(one.from)
	defer touched.End()
	m.Touched = touched.Take
	if _, err := m.Count(ctx); err != nil {
		return err
	}
	for range maxPasses {
		before := one.tally.Copied.Load()
		if err := m.Pass(ctx, false); err != nil {
			return err
		}
		if one.tally.Copied.Load() == before {
			break
		}
	}
	o.moving.mu.Lock()
	one.phase = "closing"
	o.moving.mu.Unlock()
	o.Stores.Hold(one.from, errMoving)
	defer o.Stores.Hold(one.from, nil)
	if err := o.everybodyOut(ctx, one.from); err != nil {
		return err
	}
	patience, enough := context.WithTimeout(ctx, outPatience)
	defer enough()
	letGo, err := o.Ledger.Still(patience, one.from, errMoving)
	if err != nil {
		return fmt.Errorf("changes in the store did not end: %w", err)
	}
	defer letGo()
	if err := o.nothingHalfDone(ctx, one.from); err != nil {
		return err
	}
	if err := m.Pass(ctx, true); err != nil {
		return err
	}
	return o.switchMounts(ctx, one)
}

// nothingHalfDone refuses to leave a store in which a deed was cut off: its pieces are put right where they lie.
func (o *Office) nothingHalfDone(ctx context.Context, name string) error {
	deeds, err := o.DB.Deeds(ctx)
	for _, d := range deeds {
		if slices.ContainsFunc([]keep.Spot{d.From, d.To, d.Old, d.Source, d.Away}, func(spot keep.Spot) bool { return spot.Store == name }) {
			return keep.Refuse(keep.InUse, "something that was cut off in the store is not put right yet: start the service once more, then move it")
		}
	}
	return err
}

// outPatience bounds how long it is waited until the sessions have ended that use a store.
const outPatience = time.Minute

// everybodyOut ends the sessions of all accounts that see a store.
func (o *Office) everybodyOut(ctx context.Context, name string) error {
	all, err := o.DB.AllAccounts(ctx)
	if err != nil {
		return err
	}
	var inside []string
	for _, a := range all {
		e, err := o.DB.Resolve(ctx, a)
		if err != nil {
			return err
		}
		if slices.ContainsFunc(keep.NewPolicy(e).Mounts(), func(m keep.Mount) bool { return m.Store == name }) {
			inside = append(inside, a.Name)
			o.Live.EndAll(a.Name, errMoving)
		}
	}
	for end := time.Now().Add(outPatience); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if !slices.ContainsFunc(inside, func(account string) bool { return len(o.Traffic.SessionsOf(account)) > 0 }) {
			return nil
		}
	}
	return errors.New("the sessions that use the store did not end")
}

// switchMounts has all mounts of the old store lead to the new one, and what hangs on its places go along: all of that or nothing.
func (o *Office) switchMounts(ctx context.Context, one *move) error {
	o.changing.Lock()
	defer o.changing.Unlock()
	accounts, groups, err := o.leading(ctx, one.from)
	if err != nil {
		return err
	}
	say := fmt.Sprintf("to %s, done: %d files verified", one.to, one.tally.Copied.Load()+one.tally.Same.Load())
	err = o.Live.MoveStore(ctx, one.from, one.to, func() error {
		return o.recorded(ctx, one.who, keep.StoreMove, one.from, say, func(ctx context.Context) error {
			for _, name := range groups {
				if err := o.leadGroup(ctx, one, name); err != nil {
					return fmt.Errorf("group %s: %w", name, err)
				}
			}
			for _, name := range accounts {
				if err := o.leadAccount(ctx, one, name); err != nil {
					return fmt.Errorf("account %s: %w", name, err)
				}
			}
			return errors.Join(o.DB.MoveStore(ctx, one.from, one.to), o.DB.SaveSetting(ctx, moveSetting, ""))
		})
	})
	if err != nil {
		return err
	}
	return o.Arrange(ctx)
}

// lead has mounts lead to where a store moves.
func (one *move) lead(mounts []keep.Mount) []keep.Mount {
	led := slices.Clone(mounts)
	for i := range led {
		if led[i].Store == one.from {
			led[i].Store = one.to
		}
	}
	return led
}

func (o *Office) leadGroup(ctx context.Context, one *move, name string) error {
	before, err := o.Group(ctx, name)
	if err != nil {
		return err
	}
	g := *before
	g.Mounts, g.Changed = one.lead(before.Mounts), time.Now().UTC()
	if err := o.DB.SaveGroup(ctx, &g); err != nil {
		return err
	}
	return o.noteChange(ctx, one.who, keep.GroupSet, groups, name, groupFacts(before), groupFacts(&g))
}

func (o *Office) leadAccount(ctx context.Context, one *move, name string) error {
	a, err := o.DB.Account(ctx, name)
	if err != nil {
		return err
	}
	before := factsOf(a)
	a.Mounts, a.Changed = one.lead(a.Mounts), time.Now().UTC()
	if err := o.DB.SaveAccount(ctx, a); err != nil {
		return err
	}
	return o.noteChange(ctx, one.who, keep.AccountSet, accounts, name, before, factsOf(a))
}
