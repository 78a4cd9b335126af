// Package plants holds bugs that are planted into the program one at a time, to see that the checker of histories finds them.
// Each is one replacement in one file, made while the program is built for it (go build -overlay): the program itself has none.
package plants

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// Plant is one bug.
type Plant struct {
	Name     string
	Says     string // what goes wrong
	File     string // from the top of the repository
	Old, New string // what stands there once, and what takes its place
	Clock    bool   // it shows only where the clock jumps
}

// All are all of them.
var All = []Plant{
	{"renames-unrecorded", "a third of renames has no record", "internal/files/tree/tree.go",
		"	if unwritten := end(r); err == nil {", "	if action == keep.Renaming && started.UnixNano()%3 == 0 {\n		return err\n	}\n	if unwritten := end(r); err == nil {", false},
	{"deletes-recorded-twice", "a delete has two records", "internal/files/tree/tree.go",
		"	if unwritten := end(r); err == nil {", "	if action == keep.Deleting && err == nil {\n		if more, busy := begin(); busy == nil {\n			more(r)\n		}\n	}\n	if unwritten := end(r); err == nil {", false},
	{"refusals-recorded-as-done", "what was refused is done, says the trail", "internal/files/tree/tree.go",
		"	t.ended(&r, err)\n	if err == nil {", "	t.ended(&r, err)\n	r.Outcome = keep.Done\n	if err == nil {", false},
	{"failures-acknowledged", "what failed in the store is acknowledged", "internal/files/tree/tree.go",
		"	if err != nil || !p.m.power {\n		return p.full(err)", "	if err != nil || !p.m.power {\n		return nil", false},
	{"contents-not-synced", "what was written does not outlive the power", "internal/files/store/folder.go",
		"	if whole && lasting {\n		err = f.Sync()", "	if whole && lasting {\n		err = nil", false},
	{"downloads-unrecorded", "some downloads have no record", "internal/files/tree/file.go",
		"	if err := f.recorded(r); err != nil {", "	if r.Action == keep.Downloading && r.Bytes%5 == 0 {\n		return why\n	}\n	if err := f.recorded(r); err != nil {", false},
	{"quotas-one-byte-large", "a quota lets one byte more in", "internal/files/quota/ledger.go",
		"		p := &place{spot: spot, quota: limits[spot], known: make(chan struct{})}\n", "		p := &place{spot: spot, quota: limits[spot], known: make(chan struct{})}\n		if p.quota.Bytes > 0 {\n			p.quota.Bytes++\n		}\n", false},
	{"quotas-forget-deletes", "some of what is deleted stays in the books", "internal/files/quota/change.go",
		"		l.removed(spot, info, pinned)\n", "		if info.Size()%2 == 0 {\n			l.removed(spot, info, pinned)\n		}\n", false},
	{"deletes-without-effect", "some deletes are acknowledged, and the file stays", "internal/files/quota/change.go",
		"	if err = do(); err == nil {\n		l.mu.Lock()\n		l.removed(spot, info, pinned)", "	if info.Size()%4 != 0 {\n		err = do()\n	}\n	if err == nil {\n		l.mu.Lock()\n		l.removed(spot, info, pinned)", false},
	{"read-only-mounts-written", "a read-only mount is written", "internal/keep/policy.go",
		"	case v.Mount != nil && v.Mount.ReadOnly && !readOnly.Has(right):", "	case v.Mount != nil && v.Mount.ReadOnly && !readOnly.Has(right) && right != Delete:", false},
	{"refused-checks-let-in", "some uploads that a check refused are let in", "internal/service/checks.go",
		"	if answer == keep.CheckYes {\n		return tree.LetIn", "	if answer == keep.CheckYes || len(h.Name)%2 == 0 {\n		return tree.LetIn", false},
	{"locks-ignored", "a lock keeps nobody from writing", "internal/protocol/dav/condition.go",
		"	if on := covering(over, spot); !c.held(on) {", "	if on := covering(over, spot); !c.held(on) && c.r.Method != \"PUT\" {", false},
	{"passes-without-bound", "a link moves more bytes than it may", "internal/service/passes.go",
		"	return m.w.moved.reserve(bytes, whole)", "	return bytes, nil", false},
	{"copies-changed", "a move to another store changes the first byte", "internal/files/tree/copy.go",
		"	err = f.ReceiveFrom(&whileAsked{ctx, io.NewSectionReader(source, 0, info.Size())}, 0)", "	err = f.ReceiveFrom(&whileAsked{ctx, io.MultiReader(io.NewSectionReader(source, info.Size()-1, 1), io.NewSectionReader(source, 1, info.Size()-1))}, 0)", false},
	{"moves-leave-the-source", "a move to another store does not remove what was moved", "internal/files/tree/move.go",
		"	if err := t.gone(context.WithoutCancel(ctx), src, away, \"it was moved to \"+c.dst.path); err != nil {", "	if err := t.shiftBack(&away, src); err != nil {", false},
	{"settings-forgotten", "some changes of accounts are acknowledged and not saved", "internal/desk/office/history.go",
		"		if err := save(ctx); err != nil {\n			return err\n		}\n		_, err := o.DB.AddChange(ctx, c)", "		if what == accounts && time.Now().UnixNano()%3 == 0 {\n			return nil\n		}\n		if err := save(ctx); err != nil {\n			return err\n		}\n		_, err := o.DB.AddChange(ctx, c)", false},
	{"history-with-holes", "some changes of listeners are not in the history", "internal/desk/office/history.go",
		"		if err := save(ctx); err != nil {\n			return err\n		}\n		_, err := o.DB.AddChange(ctx, c)", "		if err := save(ctx); err != nil || what == listeners && time.Now().UnixNano()%3 == 0 {\n			return err\n		}\n		_, err := o.DB.AddChange(ctx, c)", false},
	{"journals-cut-short", "the next start brings all but the last record of the journal in", "internal/watch/audit/trail.go",
		"	for len(left) > 0 {\n		n := min(len(left), batchLength)", "	left = left[:max(len(left)-1, 0)]\n	for len(left) > 0 {\n		n := min(len(left), batchLength)", false},
	{"checkpoints-of-another-record", "a checkpoint has a digest that no record has", "internal/watch/audit/seal.go",
		"Digest: digest}\n	c.Signature", "Digest: append([]byte{digest[0] + 1}, digest[1:]...)}\n	c.Signature", false},
	{"searches-too-short", "a search by time leaves out the last seconds", "internal/records/audit.go",
		"		add(\"at < ?\", q.Until.UnixMicro())", "		add(\"at < ?\", q.Until.UnixMicro()-3_000_000)", false},
	{"turns-of-the-clock-forgotten", "a search by time misses what was recorded before the clock was set back", "internal/records/turns.go",
		"		if at < latest-moments.Microseconds() {", "		if at < latest-1_000_000*moments.Microseconds() {", true},
	{"away-stores-founded-anew", "a store whose disk is away is made anew in its place", "internal/files/store/mark.go",
		"		return Away(s, \"there is no \"+MarkName+\" in \"+where)", "		return nil", false},
}

// Planted is the file of a bug, with the bug in it.
func Planted(repository, name string) (file string, text []byte, err error) {
	for _, p := range All {
		if p.Name != name {
			continue
		}
		file = filepath.Join(repository, p.File)
		if text, err = os.ReadFile(file); err != nil {
			return "", nil, err
		}
		if strings.Count(string(text), p.Old) != 1 {
			return "", nil, fmt.Errorf("%s: what is to be replaced does not stand in %s once", name, p.File)
		}
		return file, []byte(strings.Replace(string(text), p.Old, p.New, 1)), nil
	}
	return "", nil, fmt.Errorf("there is no bug named %s to plant", name)
}
