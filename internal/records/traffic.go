package records

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
)

// TrafficKey is what traffic is told apart by.
type TrafficKey struct {
	At       time.Time // where the hour begins
	Account  string
	Groups   string // joined by commas
	Address  string
	Protocol string
	Action   string
	Mount    string // STORE:FOLDER, "" where none was meant
}

// TrafficSum is how much there was.
type TrafficSum struct {
	Done    int64 `db:"done"`
	Refused int64 `db:"refused"`
	Failed  int64 `db:"failed"` // or interrupted
	Up      int64 `db:"up"`     // bytes
	Down    int64 `db:"down"`   // bytes
	Micros  int64 `db:"micros"`
}

// Add adds another.
func (s *TrafficSum) Add(o TrafficSum) {
	s.Done, s.Refused, s.Failed, s.Up, s.Down, s.Micros = s.Done+o.Done, s.Refused+o.Refused, s.Failed+o.Failed, s.Up+o.Up, s.Down+o.Down, s.Micros+o.Micros
}

// trafficCursor is the setting that says up to which record traffic was added up.
const trafficCursor = "traffic-cursor"

// TrafficCursor is the last record of the trail that was added up.
func (db *DB) TrafficCursor(ctx context.Context) (int64, error) {
	text, err := db.Setting(ctx, trafficCursor)
	if err != nil || text == "" {
		return 0, err
	}
	return strconv.ParseInt(text, 10, 64)
}

// AddTraffic adds sums of hours to what is there, and notes up to which record of the
// trail that goes, all or nothing.
func (db *DB) AddTraffic(ctx context.Context, sums map[TrafficKey]TrafficSum, upTo int64) error {
	return db.change(ctx, func(tx *sqlx.Tx) error {
		for table, begins := range map[string]func(time.Time) time.Time{"traffic_hour": startOfHour, "traffic_day": startOfDay} {
			add, err := tx.PreparexContext(ctx, `INSERT INTO `+table+` VALUES (?,?,?,?,?,?,?,?,?,?,?,?) ON CONFLICT DO UPDATE SET done = done + excluded.done,
				refused = refused + excluded.refused, failed = failed + excluded.failed, bytes = bytes + excluded.bytes, micros = micros + excluded.micros`)
			if err != nil {
				return err
			}
			for k, s := range sums {
				if _, err := add.ExecContext(ctx, begins(k.At).UnixMicro(), k.Account, k.Groups, k.Address, k.Protocol, k.Action, k.Mount,
					s.Done, s.Refused, s.Failed, s.Up+s.Down, s.Micros); err != nil {
					return err
				}
			}
			add.Close()
		}
		_, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO setting (name, value) VALUES (?, ?)", trafficCursor, fmt.Sprint(upTo))
		return err
	})
}

func startOfHour(t time.Time) time.Time { return t.UTC().Truncate(time.Hour) }
func startOfDay(t time.Time) time.Time  { return t.UTC().Truncate(24 * time.Hour) }

// ForgetTrafficHours removes the hours before a time; their days stay.
func (db *DB) ForgetTrafficHours(ctx context.Context, before time.Time) error {
	_, err := db.to(ctx).ExecContext(ctx, "DELETE FROM traffic_hour WHERE at < ?", before.UnixMicro())
	return err
}

// TrafficQuery narrows what is added up. Empty fields don't narrow.
type TrafficQuery struct {
	Days     bool // from the days, not the hours
	Since    time.Time
	Until    time.Time
	Account  string
	Group    string
	Address  string
	Protocol string
	Action   string
	Mount    string
}

// TrafficRow is one line of what was added up.
type TrafficRow struct {
	At    time.Time // zero when it was not asked for
	Value string    // "" when none was asked for
	TrafficSum
}

// TrafficWords are what traffic may be broken down by.
var TrafficWords = []string{"account", "groups", "address", "protocol", "action", "mount"}

// mostTraffic bounds the lines of one answer.
const mostTraffic = 200_000

// Traffic adds up what a query asks for: for each hour (or day) where over is set,
// and each value of a word where by is one of [TrafficWords]; only the values that
// are named, when some are.
func (db *DB) Traffic(ctx context.Context, q TrafficQuery, over bool, by string, only ...string) ([]TrafficRow, error) {
	if by == "" && !over || by != "" && !slices.Contains(TrafficWords, by) {
		return nil, fmt.Errorf("traffic can't be broken down by %s", by)
	}
	table, begins := "traffic_hour", startOfHour
	if q.Days {
		table, begins = "traffic_day", startOfDay
	}
	clauses, args := []string{"at >= ?", "at < ?"}, []any{begins(q.Since).UnixMicro(), q.Until.UnixMicro()}
	for _, exact := range []struct{ column, value string }{{"account", q.Account}, {"address", q.Address}, {"protocol", q.Protocol}, {"action", q.Action}, {"mount", q.Mount}} {
		if exact.value != "" {
			clauses, args = append(clauses, exact.column+" = ?"), append(args, exact.value)
		}
	}
	if q.Group != "" {
		clauses, args = append(clauses, "instr(',' || groups || ',', ?) > 0"), append(args, ","+q.Group+",")
	}
	if len(only) > 0 {
		clause, values, err := sqlx.In(by+" IN (?)", only)
		if err != nil {
			return nil, err
		}
		clauses, args = append(clauses, clause), append(args, values...)
	}
	at, value, group := "0", "''", []string{}
	if over {
		at, group = "at", append(group, "at")
	}
	if by != "" {
		value, group = by, append(group, by)
	}
	text := "SELECT " + at + " AS at, " + value + ` AS value, sum(done) AS done, sum(refused) AS refused, sum(failed) AS failed,
		sum(iif(action = 'upload', bytes, 0)) AS up, sum(iif(action = 'download', bytes, 0)) AS down, sum(micros) AS micros
		FROM ` + table + " WHERE " + strings.Join(clauses, " AND ")
	text += " GROUP BY " + strings.Join(group, ", ") + " ORDER BY " + strings.Join(group, ", ")
	var rows []struct {
		At    int64  `db:"at"`
		Value string `db:"value"`
		TrafficSum
	}
	err := db.read.SelectContext(ctx, &rows, text+" LIMIT ?", append(args, mostTraffic)...)
	found := make([]TrafficRow, len(rows))
	for i, r := range rows {
		found[i] = TrafficRow{Value: r.Value, TrafficSum: r.TrafficSum}
		if over {
			found[i].At = fromMicros(r.At)
		}
	}
	return found, err
}
