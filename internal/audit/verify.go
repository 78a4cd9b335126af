package audit

import (
	"bytes"
	"context"
	"fmt"
)

// Report is what walking the chain found.
type Report struct {
	Checked int64  // records that are as they were written
	BadSeq  int64  // place of the first that is not; 0: all are
	Problem string // what is wrong with it
}

// verifyPage bounds the records read at once.
const verifyPage = 2000

// Verify walks the trail from its first record and stops at the first that was
// changed, removed or put in. It can't see that the newest records were cut off.
func Verify(ctx context.Context, ledger Ledger) (Report, error) {
	report, prev := Report{}, Genesis
	for {
		page, err := ledger.AuditAfter(ctx, report.Checked, verifyPage)
		if err != nil {
			return report, fmt.Errorf("read the audit trail: %w", err)
		}
		for i := range page {
			r := &page[i]
			want := report.Checked + 1
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
			report.Checked, prev = want, r.Digest
		}
		if len(page) < verifyPage {
			return report, nil
		}
	}
}
