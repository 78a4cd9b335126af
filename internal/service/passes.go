package service

import (
	"context"
	"errors"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"urbankeep/internal/face/pass"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/traffic"
)

// passes are those with which somebody is in just now.
type passes struct {
	mu sync.Mutex
	by map[string]*allowance
}

// allowance is what all visits with one pass have moved, or are about to, and may.
type allowance struct {
	most   int64 // bytes; 0: any
	visits int   // guarded by passes.mu

	read  sync.Mutex // while the records are asked what was moved before
	known bool       // they were

	mu    sync.Mutex
	bytes int64
}

// maxVisits bounds the visits with one pass at the same time: whoever has a link has it for everybody else.
const maxVisits = 200

var errVisits = keep.Refuse(keep.TooManySessions, "too many are using this link just now: try again in a minute")

// enter counts one visit more. What was moved before is read once that is done, so that it is as much as those who have left by
// then have moved.
func (p *passes) enter(one *keep.Pass, moved func() (int64, error)) (*allowance, error) {
	p.mu.Lock()
	a := p.by[one.ID]
	if a == nil {
		if p.by == nil {
			p.by = map[string]*allowance{}
		}
		a = &allowance{most: int64(one.MaxBytes)}
		p.by[one.ID] = a
	}
	if a.visits >= maxVisits {
		p.mu.Unlock()
		return nil, errVisits
	}
	a.visits++
	p.mu.Unlock()
	a.read.Lock()
	defer a.read.Unlock()
	if a.known {
		return a, nil
	}
	bytes, err := moved()
	if err != nil {
		p.leave(one.ID, a)
		return nil, err
	}
	a.bytes, a.known = bytes, true
	return a, nil
}

func (p *passes) leave(id string, a *allowance) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if a.visits--; a.visits == 0 {
		delete(p.by, id)
	}
}

var errUsedUp = keep.Refuse(keep.Expired, "this link has been used as often as it may")

// left is how many bytes may still be moved; -1: any number.
func (a *allowance) left() int64 {
	if a.most == 0 {
		return -1
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	return max(0, a.most-a.bytes)
}

// reserve takes so many bytes, or as many as are left; all or none, with whole.
func (a *allowance) reserve(bytes int64, whole bool) (int64, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if left := max(0, a.most-a.bytes); a.most > 0 && bytes > left {
		if whole && left > 0 {
			return 0, keep.Refuse(keep.TooLarge, "the file has "+keep.SaySize(bytes)+"; this link may move "+keep.SaySize(left)+" more")
		}
		if bytes = left; left == 0 {
			return 0, errMovedAll
		}
	}
	a.bytes += bytes
	return bytes, nil
}

func (a *allowance) release(bytes int64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.bytes -= bytes
}

var errMovedAll = keep.Refuse(keep.TooLarge, "this link has moved as much as it may")

// passID is the number of the pass with which somebody came; "" for an account itself.
func (v *visit) passID() string {
	if v.pass == nil {
		return ""
	}
	return v.pass.ID
}

// watcher watches what the tree of a session does.
func (v *visit) watcher(session *traffic.Session, account string) tree.Watcher {
	if v.pass == nil {
		return session
	}
	v.watch = &passWatch{Session: session, v: v, moved: v.moved, account: account, used: v.attempt.Rehearsal != nil} // which is no use
	return v.watch
}

// passWatch counts what is done with a pass.
type passWatch struct {
	*traffic.Session
	v       *visit
	moved   *allowance
	account string

	mu   sync.Mutex
	used bool // it counts as a use already
	use  keep.PassUse
}

// Room refuses a transfer that the pass does not give any more.
func (w *passWatch) Room() error {
	if err := w.Session.Room(); err != nil {
		return err
	}
	return w.usable(context.Background())
}

// count has the first that is moved in a visit be a use of the pass, or go on with one.
func (w *passWatch) count() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.used {
		return nil
	}
	db, use := w.v.door.db, &w.use
	use.ID, use.Pass, use.Address, use.Client, use.Began = w.Session.ID(), w.v.pass.ID, w.v.visitor.Address, w.v.client, time.Now()
	before, err := db.GoneOnPass(context.Background(), use.Pass, use.Address, use.Began)
	switch {
	case err != nil:
		return err
	case before != "":
		if use.ID = before; use.Name != "" {
			err = db.TellPassUse(context.Background(), *use)
		}
	default:
		err = db.UsePass(context.Background(), *use)
	}
	if errors.Is(err, records.ErrNotFound) {
		return errUsedUp
	}
	if w.used = err == nil; w.used && before == "" {
		w.v.door.trail.Note(keep.AuditRecord{Account: w.account, Address: use.Address, Protocol: w.v.visitor.Protocol, Encrypted: w.v.visitor.Encrypted, Session: use.ID,
			Action: keep.PassUsed, Target: use.Pass, Outcome: keep.Done, Detail: visitorOf(use)})
	}
	return err
}

// visitorOf is what a visitor says of themself.
func visitorOf(use *keep.PassUse) string {
	said := strings.TrimSpace(use.Name + " " + use.Mail)
	if use.Message != "" {
		said = strings.TrimPrefix(said+": "+use.Message, ": ")
	}
	return said
}

// passesNoted is where it is kept up to when the ends of passes were recorded.
const passesNoted = "passes-noted"

// noteEnds records the passes whose time is over.
func (s *Service) noteEnds(ctx context.Context) error {
	now := time.Now().UTC()
	text, err := s.DB.Setting(ctx, passesNoted)
	if err != nil {
		return err
	}
	since, err := time.Parse(time.RFC3339Nano, text)
	if err != nil || since.After(now) {
		since = now
	}
	over, err := s.DB.PassesOver(ctx, since, now)
	if err != nil || len(over) == 0 && text != "" && now.Sub(since) < time.Hour {
		return err
	}
	for _, p := range over {
		if err := s.Trail.Record(keep.AuditRecord{Account: p.Name, Action: keep.PassEnd, Target: p.ID, Outcome: keep.Done, Detail: "its time is over"}); err != nil {
			return err
		}
	}
	return s.DB.SaveSetting(ctx, passesNoted, now.Format(time.RFC3339Nano))
}

// usable says why nothing can be moved with the pass, before anything is.
func (w *passWatch) usable(ctx context.Context) error {
	if w.moved.left() == 0 {
		return errMovedAll
	}
	w.mu.Lock()
	used := w.used
	w.mu.Unlock()
	if used || w.v.pass.MaxUses == 0 {
		return nil
	}
	now, err := w.v.door.db.Pass(ctx, w.v.pass.ID)
	if err != nil || !now.UsedUp() {
		return err
	}
	before, err := w.v.door.db.GoneOnPass(ctx, w.v.pass.ID, w.v.visitor.Address, time.Now())
	if err == nil && before == "" {
		err = errUsedUp
	}
	return err
}

// Begin puts a transfer in view.
func (w *passWatch) Begin(t tree.Transfer) tree.Meter {
	return &passMeter{Meter: w.Session.Begin(t), w: w, of: t}
}

// passMeter counts a transfer for its pass too, which bounds it.
type passMeter struct {
	tree.Meter
	w     *passWatch
	of    tree.Transfer
	bytes atomic.Int64
}

func (m *passMeter) Reserve(bytes int64, whole bool) (int64, error) {
	if err := m.w.count(); err != nil {
		return 0, err
	}
	return m.w.moved.reserve(bytes, whole)
}

func (m *passMeter) Release(bytes int64) { m.w.moved.release(bytes) }

func (m *passMeter) Moved(bytes int) {
	m.Meter.Moved(bytes)
	m.bytes.Add(int64(bytes))
}

func (m *passMeter) End(outcome keep.Outcome, reason keep.Reason) {
	m.Meter.End(outcome, reason)
	files := int64(0)
	if outcome == keep.Done && m.of.Offset+m.bytes.Load() >= m.of.Total { // else it is a piece of one
		files = 1
	}
	if err := m.w.v.door.db.MovedByPass(context.Background(), m.w.v.pass.ID, m.w.useID(), files, m.bytes.Load(), time.Now()); err != nil {
		m.w.v.door.log.Error("what was moved with a pass is not counted", "cause", err)
	}
}

func (d passDoor) Arrive(address string, encrypted bool, cut func(*keep.Fault)) pass.Visit {
	return &passVisit{d.arriveFrom(address, keep.ByPass, encrypted, cut)}
}

// passVisit is a visit as the page of passes declares it.
type passVisit struct{ *visit }

// Enter opens what a pass gives of its account's tree.
func (v *passVisit) Enter(ctx context.Context, secret, password keep.Secret) (*tree.Tree, keep.Pass, error) {
	a, p, err := v.door.accounts.ByPass(ctx, v.visitor, &v.attempt, secret, password)
	if err != nil {
		return nil, p, err
	}
	v.pass, v.scope, v.attempt.Key = &p, p.Scope(), p.ID // what is ended ends what it let in
	v.moved, err = v.door.passes.enter(&p, func() (int64, error) {
		if v.attempt.Rehearsal != nil {
			return 0, nil
		}
		now, err := v.door.db.Pass(ctx, p.ID)
		return now.Bytes, err
	})
	if err != nil {
		return nil, p, err
	}
	opened, err := v.enter(ctx, a.Within(v.scope))
	if err != nil {
		v.door.passes.leave(p.ID, v.moved)
		v.moved = nil
		return nil, p, err
	}
	if v.attempt.Rehearsal == nil {
		v.door.recheckPass(ctx, v.visit)
	}
	return opened, p, nil
}

// recheckPass closes the gap between reading a pass and putting the visit in view, in which it may have been ended.
func (d *door) recheckPass(ctx context.Context, v *visit) {
	if now, err := d.db.Pass(ctx, v.pass.ID); err != nil || now.Closed(time.Now()) != nil {
		v.cut(keep.Refuse(keep.EndedByOperator, "this link was ended"))
	}
}

// Left is how many bytes may still be moved; -1: any number.
func (v *passVisit) Left() int64 { return v.moved.left() }

// Usable says why nothing can be moved any more.
func (v *passVisit) Usable(ctx context.Context) error { return v.watch.usable(ctx) }

// Tell notes what the visitor says of themselves.
func (v *passVisit) Tell(ctx context.Context, name, mail, message string) error {
	return v.watch.tell(ctx, name, mail, message)
}

func (w *passWatch) tell(ctx context.Context, name, mail, message string) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.use.Name, w.use.Mail, w.use.Message = name, mail, message
	if !w.used {
		return nil // it is written down with the first file
	}
	return w.v.door.db.TellPassUse(ctx, w.use)
}

func (w *passWatch) useID() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.use.ID
}

func (v *passVisit) SignOut(why *keep.Fault) {
	v.visit.SignOut(why)
	if v.moved != nil {
		v.door.passes.leave(v.pass.ID, v.moved)
		v.moved = nil
	}
}
