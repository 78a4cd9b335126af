package audit

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"runtime"
	"slices"
	"sort"
	"strconv"
	"sync"
	"sync/atomic"

	"urbankeep/internal/records"
)

// Report is what walking the chain found.
type Report struct {
	Checked     int64  // records that are as they were written, those in archive files included
	BadSeq      int64  // place of the first that is not; 0: all are
	Problem     string // what is wrong with it
	Checkpoints int    // that agree with the chain
	Missing     int    // places where one is due and none is there
	Archived    int64  // records that are no longer in the trail itself
	Archives    int    // files that hold them and are as they were sealed
	Elsewhere   int    // archive files that were not there to be read
	Waiting     int    // newer records that are in the journal, and not in the records yet
}

// Check is what a trail is held to.
type Check struct {
	Seal      *Seal                      // nil: to its own chain only
	Elsewhere []Checkpoint               // that were kept elsewhere
	Trail     *Trail                     // that is being written, with its journal; nil: none is
	Progress  func(checked, total int64) // is told now and then; nil: nobody wants to know
}

const (
	// verifyPage bounds the records read at once.
	verifyPage = 2000
	// verifyPart is how many places of the trail one walker takes at a time.
	verifyPart = 6_000
)

// walker is one verification under way.
type walker struct {
	ledger  Ledger
	gaps    []records.AuditGap // in the order of the trail
	last    int64
	checked atomic.Int64
	tell    func(checked, total int64)
}

// Verify walks the trail from its first record, several parts at a time, and names
// the first record that was changed, removed or put in. Records that were sealed into
// archive files may be missing, if the seal signed that. With a seal it also holds the
// chain to the checkpoints that were signed, to others that were kept elsewhere, and to
// the archive files that are there: those find a trail that was cut short or made anew.
func Verify(ctx context.Context, ledger Ledger, check Check) (Report, error) {
	signed, err := ledger.Setting(ctx, signedSetting) // before the file of checkpoints, which has it first
	if err != nil {
		return Report{}, fmt.Errorf("read the audit trail: %w", err)
	}
	last, err := ledger.LastAudit(ctx)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return Report{}, fmt.Errorf("read the audit trail: %w", err)
	}
	w := &walker{ledger: ledger, last: last.Seq, tell: check.Progress}
	if w.tell == nil {
		w.tell = func(int64, int64) {}
	}
	if w.gaps, err = ledger.AuditGaps(ctx); err != nil {
		return Report{}, fmt.Errorf("read the audit trail: %w", err)
	}
	report, err := w.walkAll(ctx)
	if err != nil || report.BadSeq != 0 || check.Seal == nil {
		return report, err
	}
	if err := w.archives(ctx, check.Seal, &report); err != nil || report.BadSeq != 0 {
		return report, err
	}
	if err := w.checkpoints(ctx, check, signed, &report); err != nil || report.BadSeq != 0 || check.Trail == nil {
		return report, err
	}
	report.Waiting, _ = check.Trail.Waiting()
	if err := check.Trail.Journal.there(); err != nil {
		report.bad(w.last+1, "%v", err)
	}
	return report, nil
}

func (r *Report) bad(seq int64, format string, args ...any) {
	r.BadSeq, r.Problem = seq, fmt.Sprintf(format, args...)
}

const day = "2006-01-02 15:04:05 MST"

// checkpoints holds the trail to what was signed about it.
func (w *walker) checkpoints(ctx context.Context, check Check, newest string, report *Report) error {
	signed, problem := check.Seal.Checkpoints()
	if problem != nil {
		report.bad(1, "the file of checkpoints was changed: %v", problem)
		if len(signed) > 0 {
			report.BadSeq = signed[len(signed)-1].Seq + 1
		}
		return nil
	}
	for _, c := range append(signed, check.Elsewhere...) {
		if c.Seq > w.last {
			report.bad(w.last+1, "the trail was cut short: it ends with record %d, and record %d was there on %s", w.last, c.Seq, c.At.Format(day))
			return nil
		}
		digest, known, err := w.digestAt(ctx, c.Seq)
		if err != nil {
			return fmt.Errorf("read the audit trail: %w", err)
		}
		if !known {
			continue // it lies in an archive, which was held to what was signed about it
		}
		if !bytes.Equal(digest, c.Digest) {
			report.bad(c.Seq, "the trail was made anew: record %d is not the one that was there on %s", c.Seq, c.At.Format(day))
			return nil
		}
		report.Checkpoints++
	}
	for due := int64(checkpointRecords); due+batchLength < w.last; due += checkpointRecords {
		if !slices.ContainsFunc(signed, func(c Checkpoint) bool { return c.Seq >= due && c.Seq < due+batchLength }) {
			if report.Missing++; report.Missing == 1 {
				report.bad(due, "there is no checkpoint near record %d, where one is due: the file %s was removed or cut", due, checkpointsFile)
			}
		}
	}
	if report.BadSeq == 0 && newest != "" && !slices.ContainsFunc(signed, func(c Checkpoint) bool { return fmt.Sprint(c.Seq) == newest }) {
		at, _ := strconv.ParseInt(newest, 10, 64)
		report.bad(max(at, 1), "a checkpoint was signed at record %s, and the file %s does not have it: it was removed or cut", newest, checkpointsFile)
	}
	return nil
}

// digestAt is the digest of a record; not known when it lies within a gap.
func (w *walker) digestAt(ctx context.Context, seq int64) (digest []byte, known bool, err error) {
	if gap := w.gapOver(seq); gap != nil {
		return gap.Digest, gap.Last == seq, nil
	}
	there, err := w.ledger.AuditAfter(ctx, seq-1, 1)
	if err != nil || len(there) != 1 || there[0].Seq != seq {
		return nil, true, err
	}
	return there[0].Digest, true, nil
}

// gapOver is the gap that a place lies in, nil when it is in none.
func (w *walker) gapOver(seq int64) *records.AuditGap {
	at := sort.Search(len(w.gaps), func(i int) bool { return w.gaps[i].First > seq }) - 1
	if at < 0 || w.gaps[at].Last < seq {
		return nil
	}
	return &w.gaps[at]
}

// walkAll walks all parts and puts what was found together.
func (w *walker) walkAll(ctx context.Context) (Report, error) {
	parts := int((w.last + verifyPart - 1) / verifyPart)
	reports, errs := make([]Report, parts), make([]error, parts)
	next := make(chan int)
	var walking sync.WaitGroup
	for range min(parts, runtime.NumCPU()) {
		walking.Go(func() {
			for n := range next {
				reports[n], errs[n] = w.walk(ctx, int64(n)*verifyPart, min(w.last, int64(n+1)*verifyPart))
				w.tell(w.checked.Load(), w.last)
			}
		})
	}
	for n := range parts {
		next <- n
	}
	close(next)
	walking.Wait()
	whole := Report{}
	for n, r := range reports {
		if errs[n] != nil {
			return whole, fmt.Errorf("read the audit trail: %w", errs[n])
		}
		whole.Checked += r.Checked
		if r.BadSeq != 0 {
			whole.BadSeq, whole.Problem = r.BadSeq, r.Problem
			break
		}
	}
	return whole, nil
}

// walk checks the records after one place up to another.
func (w *walker) walk(ctx context.Context, from, to int64) (report Report, err error) {
	at, prev := from, Genesis
	if from > 0 {
		var known bool
		if prev, known, err = w.digestAt(ctx, from); err != nil {
			return report, err
		}
		if !known { // the part before looks at the gap
			gap := w.gapOver(from)
			at, prev = gap.Last, gap.Digest
		} else if prev == nil {
			return report, nil // the part before says that it is missing
		}
	}
	// skip goes over what was archived behind at.
	skip := func() bool {
		for gap := w.gapOver(at + 1); gap != nil; gap = w.gapOver(at + 1) {
			if gap.First != at+1 || !bytes.Equal(gap.Prev, prev) {
				report.bad(at+1, "what was archived from record %d on does not follow the record before it", gap.First)
				return false
			}
			at, prev = gap.Last, gap.Digest
		}
		return true
	}
	for skip() && at < to {
		page, err := w.ledger.AuditAfter(ctx, at, int(min(verifyPage, to-at)))
		if err != nil {
			return report, err
		}
		if len(page) == 0 {
			report.bad(at+1, "record %d is missing", at+1)
			return report, nil
		}
		for i := range page {
			r := &page[i]
			if !skip() {
				return report, nil
			}
			if r.Seq <= at {
				continue // archived, and not yet taken out
			}
			want := at + 1
			switch {
			case r.Seq != want:
				report.bad(want, "record %d is missing", want)
			case !bytes.Equal(r.Prev, prev):
				report.bad(want, "record %d does not follow the one before it", want)
			case !bytes.Equal(r.Digest, Digest(prev, &r.AuditRecord)):
				report.bad(want, "record %d was changed after it was written", want)
			}
			if report.BadSeq != 0 {
				return report, nil
			}
			at, prev = want, r.Digest
			report.Checked++
			w.checked.Add(1)
		}
	}
	return report, nil
}

// archives holds each gap to what was signed when it was made, and the archive files
// that are there to what they say.
func (w *walker) archives(ctx context.Context, seal *Seal, report *Report) error {
	known, err := w.ledger.Archives(ctx)
	if err != nil {
		return fmt.Errorf("read the audit trail: %w", err)
	}
	byName := map[string][]records.AuditGap{}
	for _, g := range w.gaps {
		byName[g.Archive] = append(byName[g.Archive], g)
	}
	for i := range known {
		a, gaps := &known[i], byName[known[i].Name]
		report.Archived += a.Records
		if !bytes.Equal(digestOf(gaps), a.Gaps) || !ed25519.Verify(seal.public(), []byte(statement(a)), a.Signed) {
			report.bad(a.First, "what is known of the archive %s was changed: this service's key did not sign it", a.Name)
			return nil
		}
		err := w.archiveFile(seal.ArchiveFile(a.Name), a)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			report.Elsewhere++
		case err != nil:
			report.bad(a.First, "the archive file %s is not as it was sealed: %v", a.Name, err)
			return nil
		default:
			report.Archives++
			report.Checked += a.Records
		}
		delete(byName, a.Name)
	}
	for name, gaps := range byName {
		report.bad(gaps[0].First, "record %d is missing, and there is no archive %s", gaps[0].First, name)
	}
	return nil
}

// archiveFile holds a file to its digest, and its records to their chain.
func (w *walker) archiveFile(name string, a *records.AuditArchive) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	sum := sha256.New()
	_, err = io.Copy(sum, f)
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	if !bytes.Equal(sum.Sum(nil), a.SHA256) {
		return errors.New("its SHA-256 is another one")
	}
	var gaps gapsOf
	err = ReadArchive(name, func(r *records.ChainedRecord) error {
		if !bytes.Equal(r.Digest, Digest(r.Prev, &r.AuditRecord)) {
			return fmt.Errorf("record %d was changed", r.Seq)
		}
		if n := len(gaps); n > 0 && gaps[n-1].Last+1 == r.Seq && !bytes.Equal(gaps[n-1].Digest, r.Prev) {
			return fmt.Errorf("record %d does not follow the one before it", r.Seq)
		}
		gaps.add(r)
		if w.checked.Add(1)%verifyPart == 0 {
			w.tell(w.checked.Load(), w.last)
		}
		return nil
	})
	if err == nil && !bytes.Equal(digestOf(gaps), a.Gaps) {
		err = errors.New("it does not hold the records that are missing")
	}
	return err
}
