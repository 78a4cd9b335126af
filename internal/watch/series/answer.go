package series

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// Query asks for traffic over time.
type Query struct {
	records.TrafficQuery
	By   string         // one of [Words], "" for no breakdown
	Step string         // "hour", "day", "" for what suits the time that is asked for
	Zone *time.Location // in which days begin and times are shown; nil: UTC
	Path string         // only below this path of the tree; needs By file
}

// Words are what traffic may be broken down by.
var Words = []string{"account", "group", "address", "protocol", "action", "mount", "file"}

// Point is how much there was in one hour or day.
type Point struct {
	At time.Time
	records.TrafficSum
}

// Row is how much of it one account, group or so had.
type Row struct {
	Value   string
	Account string // whose file it is, where rows are files
	records.TrafficSum
	Points []Point // of the rows that had the most only
}

// Answer is traffic over time.
type Answer struct {
	Since, Until time.Time // as far as it goes
	Step         string
	Zone         *time.Location
	Total        records.TrafficSum
	Points       []Point // one for each hour or day
	Rows         []Row   // those with the most bytes first
	Cut          bool    // there is more than is told
}

const (
	// hourly is up to which time hours are shown where nothing is said.
	hourly = 3 * 24 * time.Hour
	// mostPoints bounds the hours or days of an answer.
	mostPoints = 2400
	// mostRows bounds its rows, topRows those that have points of their own.
	mostRows = 1000
	topRows  = 8
	// mostRead bounds the records that are read for one answer by file, and
	// filePatience how long that takes.
	mostRead     = 200_000
	filePatience = 3 * time.Second
)

// Ask answers a question. What is wrong with it is a [*keep.FieldError].
func (b *Book) Ask(ctx context.Context, q Query) (*Answer, error) {
	if q.By != "" && !slices.Contains(Words, q.By) {
		return nil, &keep.FieldError{Field: "by", Say: "use " + strings.Join(Words, ", ")}
	}
	a, err := q.frame()
	if err != nil {
		return nil, err
	}
	if _, err := b.catchUp(ctx, askPages); err != nil {
		return nil, err
	}
	if q.By == "file" {
		return a, b.files(ctx, &q, a)
	}
	if q.Path != "" {
		return nil, &keep.FieldError{Field: "path", Say: "a path can only be asked for by file"}
	}
	if a.Points, err = b.points(ctx, &q, a, ""); err != nil {
		return nil, err
	}
	for _, p := range a.Points {
		a.Total.Add(p.TrafficSum)
	}
	if q.By == "" {
		return a, nil
	}
	return a, b.rows(ctx, &q, a)
}

// frame settles times, step and zone.
func (q *Query) frame() (*Answer, error) {
	if q.Zone == nil {
		q.Zone = time.UTC
	}
	if !q.Since.Before(q.Until) {
		return nil, &keep.FieldError{Field: "since", Say: "it must be before until"}
	}
	if q.Step == "" {
		q.Step = "day"
		if q.Until.Sub(q.Since) <= hourly {
			q.Step = "hour"
		}
	}
	if q.Step != "day" && q.Step != "hour" {
		return nil, &keep.FieldError{Field: "step", Say: "use hour or day"}
	}
	if time.Since(q.Since) > HoursKept {
		if q.Step == "hour" {
			return nil, &keep.FieldError{Field: "step", Say: fmt.Sprintf("hours are told apart for %d days: ask for days, or for a later time", HoursKept/24/time.Hour)}
		}
		q.Days, q.Zone = true, time.UTC
	}
	q.Since, q.Until = q.Since.In(q.Zone), q.Until.In(q.Zone)
	a := &Answer{Since: q.begin(q.Since), Until: q.Until, Step: q.Step, Zone: q.Zone}
	q.Since = a.Since
	if a.Until.Sub(a.Since) > mostPoints*q.least() {
		return nil, &keep.FieldError{Field: "since", Say: fmt.Sprintf("that are more than %d %ss: ask for a shorter time, or for days", mostPoints, q.Step)}
	}
	return a, nil
}

func (q *Query) least() time.Duration {
	if q.Step == "hour" {
		return time.Hour
	}
	return 24 * time.Hour
}

// begin is where the hour or day of a time begins.
func (q *Query) begin(t time.Time) time.Time {
	if q.Step == "hour" {
		return t.Truncate(time.Hour)
	}
	year, month, day := t.In(q.Zone).Date()
	return time.Date(year, month, day, 0, 0, 0, 0, q.Zone)
}

func (q *Query) next(t time.Time) time.Time {
	if q.Step == "hour" {
		return t.Add(time.Hour)
	}
	return t.AddDate(0, 0, 1)
}

// timeline turns sums by their time into one point for each hour or day.
func (q *Query) timeline(a *Answer, sums map[time.Time]records.TrafficSum) []Point {
	var points []Point
	for at := a.Since; at.Before(a.Until); at = q.next(at) {
		points = append(points, Point{at, sums[at.UTC()]})
	}
	return points
}

// column is what the records call a word.
func column(by string) string {
	if by == "group" {
		return "groups"
	}
	return by
}

// points are the hours or days, of one value where by is a word.
func (b *Book) points(ctx context.Context, q *Query, a *Answer, by string, only ...string) ([]Point, error) {
	rows, err := b.db.Traffic(ctx, q.TrafficQuery, true, by, only...)
	sums := map[time.Time]records.TrafficSum{}
	for _, r := range rows {
		at := q.begin(r.At).UTC()
		sum := sums[at]
		sum.Add(r.TrafficSum)
		sums[at] = sum
	}
	return q.timeline(a, sums), err
}

func (b *Book) rows(ctx context.Context, q *Query, a *Answer) error {
	found, err := b.db.Traffic(ctx, q.TrafficQuery, false, column(q.By))
	if err != nil {
		return err
	}
	sums, members := map[string]records.TrafficSum{}, map[string][]string{}
	for _, r := range found {
		values := []string{r.Value}
		if q.By == "group" {
			values = strings.Split(r.Value, ",")
		}
		for _, value := range values {
			if q.By == "group" && q.Group != "" && value != q.Group {
				continue
			}
			sum := sums[value]
			sum.Add(r.TrafficSum)
			sums[value], members[value] = sum, append(members[value], r.Value)
		}
	}
	for value, sum := range sums {
		a.Rows = append(a.Rows, Row{Value: value, TrafficSum: sum})
	}
	a.order()
	for i := range a.Rows[:min(len(a.Rows), topRows)] {
		if a.Rows[i].Points, err = b.points(ctx, q, a, column(q.By), members[a.Rows[i].Value]...); err != nil {
			return err
		}
	}
	return nil
}

// order puts the rows with the most bytes first, then the most operations.
func (a *Answer) order() {
	slices.SortFunc(a.Rows, func(x, y Row) int {
		return cmp.Or(cmp.Compare(y.Up+y.Down, x.Up+x.Down), cmp.Compare(y.Done+y.Refused+y.Failed, x.Done+x.Refused+x.Failed), cmp.Compare(x.Value, y.Value), cmp.Compare(x.Account, y.Account))
	})
	if len(a.Rows) > mostRows {
		a.Rows, a.Cut = a.Rows[:mostRows], true
	}
}

// files reads the records themselves, the newest first: files are too many to be added
// up for ever. Where that would take long, the answer goes back as far as it came.
func (b *Book) files(ctx context.Context, q *Query, a *Answer) error {
	search := records.AuditQuery{Account: q.Account, Address: q.Address, Protocol: q.Protocol, PathBelow: q.Path, Since: q.Since, Until: q.Until, Limit: 2000}
	if q.Action != "" {
		search.Actions = []keep.Action{keep.Action(q.Action)}
	}
	type file struct{ account, path string }
	sums, over := map[file]records.TrafficSum{}, map[file]map[time.Time]records.TrafficSum{}
	all := map[time.Time]records.TrafficSum{}
	started, read := time.Now(), 0
	for {
		page, next, err := b.db.SearchAudit(ctx, search)
		if err != nil {
			return err
		}
		for i := range page {
			r := &page[i]
			if r.Path == "" || !counts(r) {
				continue
			}
			if account, groups, mount := b.belongs(ctx, r); q.Account != "" && account != q.Account || q.Mount != "" && mount != q.Mount ||
				q.Group != "" && !slices.Contains(strings.Split(groups, ","), q.Group) {
				continue
			}
			key, at, sum := file{r.Account, r.Path}, q.begin(r.At).UTC(), sumOf(r)
			if over[key] == nil {
				over[key] = map[time.Time]records.TrafficSum{}
			}
			for _, into := range []map[time.Time]records.TrafficSum{over[key], all} {
				s := into[at]
				s.Add(sum)
				into[at] = s
			}
			s := sums[key]
			s.Add(sum)
			sums[key] = s
			a.Total.Add(sum)
		}
		read += len(page)
		if search.Before = next; next == 0 {
			break
		}
		if read >= mostRead || time.Since(started) > filePatience {
			a.Cut = true
			if len(page) > 0 {
				a.Since = q.begin(page[len(page)-1].At)
			}
			break
		}
	}
	a.Points = q.timeline(a, all)
	for key, sum := range sums {
		a.Rows = append(a.Rows, Row{Value: key.path, Account: key.account, TrafficSum: sum})
	}
	a.order()
	for i := range a.Rows[:min(len(a.Rows), topRows)] {
		a.Rows[i].Points = q.timeline(a, over[file{a.Rows[i].Account, a.Rows[i].Value}])
	}
	return nil
}
