package audit

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"runtime"
	"sync"

	"urbankeep/internal/records"
)

// Report is what walking the chain found.
type Report struct {
	Checked     int64  // records that are as they were written
	BadSeq      int64  // place of the first that is not; 0: all are
	Problem     string // what is wrong with it
	Checkpoints int    // that agree with the chain
}

const (
	// verifyPage bounds the records read at once.
	verifyPage = 2000
	// verifyPart is how many records one walker takes at a time.
	verifyPart = 6_000
)

// Verify walks the trail from its first record, several parts at a time, and names
// the first record that was changed, removed or put in. With a seal it also holds the
// chain to the checkpoints that were signed, and to others that were kept elsewhere:
// those find a trail that was cut short or made anew.
func Verify(ctx context.Context, ledger Ledger, seal *Seal, elsewhere ...Checkpoint) (Report, error) {
	last, err := ledger.LastAudit(ctx)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return Report{}, fmt.Errorf("read the audit trail: %w", err)
	}
	report, err := walkAll(ctx, ledger, last.Seq)
	if err != nil || report.BadSeq != 0 || seal == nil {
		return report, err
	}
	signed, problem := seal.Checkpoints()
	if problem != nil {
		report.BadSeq, report.Problem = 1, "the file of checkpoints was changed: "+problem.Error()
		if len(signed) > 0 {
			report.BadSeq = signed[len(signed)-1].Seq + 1
		}
		return report, nil
	}
	for _, c := range append(signed, elsewhere...) {
		if c.Seq > last.Seq {
			report.BadSeq, report.Problem = last.Seq+1, fmt.Sprintf("the trail was cut short: it ends with record %d, and record %d was there on %s", last.Seq, c.Seq, c.At.Format("2006-01-02 15:04:05 MST"))
			return report, nil
		}
		there, err := ledger.AuditAfter(ctx, c.Seq-1, 1)
		if err != nil {
			return report, fmt.Errorf("read the audit trail: %w", err)
		}
		if len(there) != 1 || !bytes.Equal(there[0].Digest, c.Digest) {
			report.BadSeq, report.Problem = c.Seq, fmt.Sprintf("the trail was made anew: record %d is not the one that was there on %s", c.Seq, c.At.Format("2006-01-02 15:04:05 MST"))
			return report, nil
		}
		report.Checkpoints++
	}
	return report, nil
}

// walkAll walks all parts and puts what was found together.
func walkAll(ctx context.Context, ledger Ledger, last int64) (Report, error) {
	parts := int((last + verifyPart - 1) / verifyPart)
	reports, errs := make([]Report, parts), make([]error, parts)
	next := make(chan int)
	var walking sync.WaitGroup
	for range min(parts, runtime.NumCPU()) {
		walking.Go(func() {
			for n := range next {
				reports[n], errs[n] = walk(ctx, ledger, int64(n)*verifyPart, min(last, int64(n+1)*verifyPart))
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
func walk(ctx context.Context, ledger Ledger, from, to int64) (Report, error) {
	report, prev, at := Report{}, Genesis, from
	if from > 0 {
		before, err := ledger.AuditAfter(ctx, from-1, 1)
		if err != nil {
			return report, err
		}
		if len(before) == 1 && before[0].Seq == from { // else the part before says so
			prev = before[0].Digest
		}
	}
	for at < to {
		page, err := ledger.AuditAfter(ctx, at, int(min(verifyPage, to-at)))
		if err != nil {
			return report, err
		}
		for i := range page {
			r := &page[i]
			want := at + 1
			switch {
			case r.Seq != want:
				report.BadSeq, report.Problem = want, fmt.Sprintf("record %d is missing", want)
			case !bytes.Equal(r.Prev, prev):
				report.BadSeq, report.Problem = want, fmt.Sprintf("record %d does not follow the one before it", want)
			case !bytes.Equal(r.Digest, Digest(prev, &r.AuditRecord)):
				report.BadSeq, report.Problem = want, fmt.Sprintf("record %d was changed after it was written", want)
			}
			if report.BadSeq != 0 {
				return report, nil
			}
			at, prev = want, r.Digest
			report.Checked++
		}
		if len(page) == 0 {
			report.BadSeq, report.Problem = at+1, fmt.Sprintf("record %d is missing", at+1)
			return report, nil
		}
	}
	return report, nil
}
