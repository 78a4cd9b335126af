package office

import (
	"context"
	"slices"
	"strings"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/notice"
)

const (
	// dryPatience bounds how long it is looked for what a notice would have told, mostDry what is shown of it.
	dryPatience = 10 * time.Second
	mostDry     = 200
)

// DryRun is what a notice would have told in the past, the newest first.
type DryRun struct {
	Records []keep.AuditRecord
	Count   int64     // of all, up to Since
	Since   time.Time // as far as it was looked
	Whole   bool
}

// DryRun says what a notice would have told since a time.
func (o *Office) DryRun(ctx context.Context, n *keep.Notice, since, now time.Time) (run DryRun, err error) {
	m, err := n.Matcher()
	if err != nil {
		return run, err
	}
	m.Off = false
	run.Since, run.Records = since, []keep.AuditRecord{}
	q := records.AuditQuery{Actions: keep.ActionsOf(n.Events), Since: since, Limit: 1000}
	if len(n.Accounts) == 1 && !strings.ContainsAny(n.Accounts[0], "*?") {
		q.Account = n.Accounts[0]
	}
	for began := time.Now(); ; {
		found, next, err := o.DB.SearchAudit(ctx, q)
		if err != nil {
			return run, err
		}
		for i := range found {
			r := &found[i]
			if e, over := keep.EventOf(r); e != "" && m.Matches(r, e, over, notice.Sight{DB: o.DB}) {
				if run.Count++; len(run.Records) < mostDry {
					run.Records = append(run.Records, *r)
				}
			}
		}
		if next == 0 {
			run.Whole = true
			break
		}
		if q.Before = next; time.Since(began) > dryPatience {
			if len(found) > 0 {
				run.Since = found[len(found)-1].At
			}
			break
		}
	}
	if n.Expect != nil {
		return run, o.dryExpect(ctx, m, since, now, &run)
	}
	return run, nil
}

// maxMissed bounds the days that a dry run looks back for uploads that did not come.
const maxMissed = 62

// dryExpect adds what did not come.
func (o *Office) dryExpect(ctx context.Context, m *keep.Matcher, since, now time.Time, run *DryRun) error {
	names := m.Accounts
	if len(names) == 0 {
		names = []string{""}
	}
	for n, due := 0, m.Expect.Last(now); n < maxMissed && !due.IsZero() && due.After(since); n++ {
		for _, account := range names {
			came, err := o.CameFor(ctx, m, account, due.Add(-m.Expect.Within.Duration()), due)
			if err != nil {
				return err
			}
			if came.IsZero() {
				run.Count++
				run.Records = append(run.Records, keep.AuditRecord{At: due, Account: account, Action: keep.Trouble, Target: m.Name, Reason: keep.NotCome, Outcome: keep.Failed, Detail: "it had not come by then"})
			}
		}
		due = m.Expect.Last(due.Add(-time.Second))
	}
	slices.SortStableFunc(run.Records, func(a, b keep.AuditRecord) int { return b.At.Compare(a.At) })
	run.Records = run.Records[:min(len(run.Records), mostDry)]
	return nil
}

// CameFor is when the first upload between two times came that a notice expects of an account ("": of any); zero when none did.
func (o *Office) CameFor(ctx context.Context, m *keep.Matcher, account string, from, until time.Time) (first time.Time, err error) {
	_, actions := m.Expected()
	q := records.AuditQuery{Account: account, Actions: actions, Since: from, Until: until, Limit: 1000}
	for {
		found, next, err := o.DB.SearchAudit(ctx, q)
		if err != nil {
			return first, err
		}
		for i := range found {
			r := &found[i]
			if m.Brings(r) {
				first = r.At
			}
		}
		if next == 0 {
			return first, nil
		}
		q.Before = next
	}
}
