package demo

import (
	"fmt"
	"math/rand/v2"
	"sort"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/service"
)

// days is how far the history goes back.
const days = 14

// Where everyone came from: addresses that are reserved for examples (RFC 5737).
var cameFrom = map[string]string{
	"gauge-north": "192.0.2.11", "gauge-quay": "192.0.2.12", "gauge-lock": "192.0.2.13",
	"crew-harbour": "198.51.100.21", "crew-hillside": "198.51.100.34", "print-bureau": "203.0.113.8",
	"drone-contractor": "203.0.113.140", "records-desk": "192.0.2.40",
}

// stranger is who tried passwords.
const stranger = "203.0.113.77"

// past collects what happened, in any order.
type past struct {
	random  *rand.Rand
	records []keep.AuditRecord
	visits  int
}

// remember writes two weeks of history into the trail, in the order of time.
func (c *city) remember(s *service.Service) error {
	p := &past{random: rand.New(rand.NewPCG(seed, seed))}
	p.founding(c.founded())
	for d := days; d >= 0; d-- {
		p.day(c.now.AddDate(0, 0, -d).Truncate(24*time.Hour), d)
	}
	sort.SliceStable(p.records, func(i, j int) bool { return p.records[i].At.Before(p.records[j].At) })
	for _, r := range p.records {
		if r.At.Before(c.now) {
			s.Trail.Note(r)
		}
	}
	return nil
}

func (p *past) founding(at time.Time) {
	p.records = append(p.records, keep.AuditRecord{At: at.Add(-10 * time.Minute), Action: keep.ServiceStart, Outcome: keep.Done})
	for i, who := range citizens {
		p.records = append(p.records, keep.AuditRecord{At: at.Add(time.Duration(i) * 3 * time.Minute), Operator: "ilse", Address: "192.0.2.5",
			Protocol: keep.Console, Action: keep.AccountAdd, Target: who.name, Outcome: keep.Done})
	}
}

// visit is a session with some transfers.
func (p *past) visit(account string, protocol keep.Protocol, encrypted bool, at time.Time, how string, moves ...keep.AuditRecord) {
	p.visits++
	base := keep.AuditRecord{Account: account, Address: cameFrom[account], Protocol: protocol, Encrypted: encrypted,
		Session: fmt.Sprintf("HISTORY%05d", p.visits), Outcome: keep.Done}
	in := base
	in.At, in.Action, in.Detail, in.Duration = at, keep.SignIn, how, 40*time.Millisecond
	p.records = append(p.records, in)
	start := at
	for _, m := range moves {
		r := base
		r.Action, r.Path, r.Bytes, r.Outcome, r.Reason = m.Action, m.Path, m.Bytes, m.Outcome, m.Reason
		r.Duration = time.Duration(float64(m.Bytes)/float64(2<<20)*float64(time.Second)) + time.Duration(p.random.IntN(300)+20)*time.Millisecond
		at = at.Add(r.Duration + time.Second)
		r.At = at
		p.records = append(p.records, r)
	}
	out := base
	out.At, out.Action, out.Duration = at.Add(time.Second), keep.SignOut, at.Add(time.Second).Sub(start)
	p.records = append(p.records, out)
}

func moved(action keep.Action, path string, bytes int) keep.AuditRecord {
	return keep.AuditRecord{Action: action, Path: path, Bytes: int64(bytes), Outcome: keep.Done}
}

// day is one day of the city; ago counts back from today.
func (p *past) day(midnight time.Time, ago int) {
	for quarter := range 96 {
		for n, gauge := range []string{"gauge-north", "gauge-quay", "gauge-lock"} {
			at := midnight.Add(time.Duration(quarter)*15*time.Minute + time.Duration(n*7+p.random.IntN(5))*time.Second)
			p.visit(gauge, keep.FTP, false, at, "password", moved(keep.Uploading, "/"+readingName(at.Truncate(15*time.Minute)), 640))
		}
	}
	if weekday := midnight.Weekday(); weekday != time.Saturday && weekday != time.Sunday {
		p.crews(midnight, ago)
	}
	p.printing(midnight, ago)
	if ago%4 == 1 {
		p.visit("drone-contractor", keep.FTPS, true, midnight.Add(15*time.Hour), "password",
			moved(keep.Uploading, fmt.Sprintf("/flight-%02d.laz", 14-ago), 38<<20+p.random.IntN(4<<20)))
	}
	if ago == 2 {
		full := moved(keep.Uploading, "/flight-12.laz", 17<<20)
		full.Outcome, full.Reason = keep.Refused, keep.QuotaFull
		p.visit("drone-contractor", keep.FTPS, true, midnight.Add(15*time.Hour+20*time.Minute), "password", full)
	}
	if ago == 5 {
		p.guessing(midnight.Add(3*time.Hour + 12*time.Minute))
	}
}

func (p *past) crews(midnight time.Time, ago int) {
	for n, crew := range []string{"crew-harbour", "crew-hillside"} {
		at := midnight.Add(time.Duration(9+3*n)*time.Hour + time.Duration(p.random.IntN(90))*time.Minute)
		moves := []keep.AuditRecord{moved(keep.Downloading, "/basemaps/harbour-east.gpkg", 3<<20)}
		for s := range 3 + p.random.IntN(3) {
			moves = append(moves, moved(keep.Uploading, fmt.Sprintf("/scans/%s-%02d.las", midnight.Format("0102"), s+1), 18<<20+p.random.IntN(40<<20)))
		}
		if ago == 8 && n == 1 {
			moves[len(moves)-1].Outcome, moves[len(moves)-1].Reason = keep.Interrupted, keep.ClientGone
		}
		if ago == 3 && n == 0 {
			moves = append(moves, keep.AuditRecord{Action: keep.Deleting, Path: "/basemaps/canal.gpkg", Outcome: keep.Refused, Reason: keep.ReadOnlyMount})
		}
		p.visit(crew, keep.SFTP, true, at, "key", moves...)
	}
}

// printing is the nightly batch; on one night it was late.
func (p *past) printing(midnight time.Time, ago int) {
	at := midnight.Add(2*time.Hour + 10*time.Minute + time.Duration(p.random.IntN(120))*time.Second)
	if ago == 6 {
		at = at.Add(4*time.Hour + 31*time.Minute)
	}
	var moves []keep.AuditRecord
	for n := 1; n <= 12; n++ {
		moves = append(moves, moved(keep.Downloading, fmt.Sprintf("/plate-%02d.tif", n), 2<<20+n*90_000))
	}
	p.visit("print-bureau", keep.FTP, true, at, "password", moves...)
}

// guessing is a burst of failed sign-ins from one address.
func (p *past) guessing(at time.Time) {
	names := []string{"admin", "root", "test", "backup", "print-bureau", "records-desk", "ftp", "survey"}
	for n := range 140 {
		name := names[p.random.IntN(len(names))]
		detail := "no such account"
		if name == "print-bureau" || name == "records-desk" {
			detail = "wrong password"
		}
		p.visits++
		p.records = append(p.records, keep.AuditRecord{At: at.Add(time.Duration(n*2600+p.random.IntN(900)) * time.Millisecond), Account: name, Address: stranger,
			Protocol: keep.SFTP, Encrypted: true, Session: fmt.Sprintf("HISTORY%05d", p.visits), Action: keep.SignIn, Duration: time.Second,
			Outcome: keep.Refused, Reason: keep.BadCredentials, Detail: detail})
	}
}
