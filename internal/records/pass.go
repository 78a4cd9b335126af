package records

import (
	"context"
	"encoding/json"
	"time"

	"urbankeep/internal/keep"
)

// passRow is a pass as it is written.
type passRow struct {
	ID       string `db:"id"`
	Account  int64  `db:"account_id"`
	Kind     string `db:"kind"`
	Digest   []byte `db:"digest"`
	Paths    string `db:"paths"`
	Shows    bool   `db:"shows"`
	Asks     bool   `db:"asks"`
	Apart    bool   `db:"apart"`
	Password string `db:"password"`
	Text     string `db:"text"`
	Note     string `db:"note"`
	MaxUses  int64  `db:"max_uses"`
	MaxBytes int64  `db:"max_bytes"`
	Networks string `db:"networks"`
	Operator string `db:"operator"`
	Created  int64  `db:"created"`
	Expires  int64  `db:"expires"`
	Ended    int64  `db:"ended"`
	EndedBy  string `db:"ended_by"`
	Uses     int64  `db:"uses"`
	Bytes    int64  `db:"bytes"`
	LastUsed int64  `db:"last_used"`
}

// namedPass is one with the name of its account.
type namedPass struct {
	passRow
	Name string `db:"name"`
}

func (r passRow) pass() (keep.Pass, error) {
	p := keep.Pass{ID: r.ID, Account: r.Account, Kind: keep.PassKind(r.Kind), Digest: r.Digest, Shows: r.Shows, Asks: r.Asks, Apart: r.Apart, Password: keep.Secret(r.Password),
		Text: r.Text, Note: r.Note, MaxUses: keep.Count(r.MaxUses), MaxBytes: keep.Bytes(r.MaxBytes), Operator: r.Operator, Created: fromMicros(r.Created), Expires: fromMicros(r.Expires),
		Ended: fromMicros(r.Ended), EndedBy: r.EndedBy, Uses: r.Uses, Bytes: r.Bytes, LastUsed: fromMicros(r.LastUsed)}
	err := json.Unmarshal([]byte(r.Paths), &p.Paths)
	if err == nil {
		err = p.Networks.UnmarshalText([]byte(r.Networks))
	}
	return p, err
}

// AddPass writes a new pass.
func (db *DB) AddPass(ctx context.Context, p keep.Pass) error {
	paths, err := json.Marshal(p.Paths)
	if err != nil {
		return err
	}
	_, err = db.to(ctx).NamedExecContext(ctx, `INSERT INTO pass (id, account_id, kind, digest, paths, shows, asks, apart, password, text, note, max_uses, max_bytes, networks, operator,
			created, expires, ended, ended_by, uses, bytes, last_used)
		VALUES (:id, :account_id, :kind, :digest, :paths, :shows, :asks, :apart, :password, :text, :note, :max_uses, :max_bytes, :networks, :operator,
			:created, :expires, 0, '', 0, 0, :last_used)`,
		passRow{ID: p.ID, Account: p.Account, Kind: string(p.Kind), Digest: p.Digest, Paths: string(paths), Shows: p.Shows, Asks: p.Asks, Apart: p.Apart, Password: p.Password.Reveal(),
			Text: p.Text, Note: p.Note, MaxUses: int64(p.MaxUses), MaxBytes: int64(p.MaxBytes), Networks: p.Networks.String(), Operator: p.Operator, Created: micros(p.Created),
			Expires: micros(p.Expires), LastUsed: micros(time.Time{})})
	return err
}

// PassQuery says which passes are meant.
type PassQuery struct {
	Account string // "": of all
	Ended   bool   // also those that have ended
	After   string // the one behind which to go on, "": from the newest
	Limit   int    // 0: all
}

// NamedPass is a pass with the name of its account.
type NamedPass struct {
	keep.Pass
	Name string
}

// Passes reads passes, the newest first.
func (db *DB) Passes(ctx context.Context, q PassQuery, now time.Time) ([]NamedPass, error) {
	if q.Limit <= 0 {
		q.Limit = -1
	}
	var rows []namedPass
	err := db.read.SelectContext(ctx, &rows, `SELECT p.*, a.name FROM pass p JOIN account a ON a.id = p.account_id
		WHERE (? = '' OR a.name = ?) AND (? OR p.ended = ? AND p.expires > ?)
			AND (? = '' OR (p.created, p.id) < (SELECT created, id FROM pass WHERE id = ?))
		ORDER BY p.created DESC, p.id DESC LIMIT ?`, q.Account, q.Account, q.Ended, micros(time.Time{}), micros(now), q.After, q.After, q.Limit)
	found := make([]NamedPass, len(rows))
	for i, r := range rows {
		if err == nil {
			found[i].Name = r.Name
			found[i].Pass, err = r.pass()
		}
	}
	return found, err
}

// PassesOver reads the passes whose time ended between two times, and that nobody had ended before.
func (db *DB) PassesOver(ctx context.Context, after, until time.Time) ([]NamedPass, error) {
	var rows []namedPass
	err := db.read.SelectContext(ctx, &rows, "SELECT p.*, a.name FROM pass p JOIN account a ON a.id = p.account_id WHERE p.expires > ? AND p.expires <= ? AND p.ended = ? ORDER BY p.expires", micros(after), micros(until), micros(time.Time{}))
	found := make([]NamedPass, len(rows))
	for i, r := range rows {
		if err == nil {
			found[i].Name = r.Name
			found[i].Pass, err = r.pass()
		}
	}
	return found, err
}

// PassBy finds a pass by the digest of its secret; [ErrNotFound] when there is none.
func (db *DB) PassBy(ctx context.Context, digest []byte) (NamedPass, error) {
	return db.onePass(ctx, "p.digest = ?", digest)
}

// Pass finds one by its number.
func (db *DB) Pass(ctx context.Context, id string) (NamedPass, error) {
	return db.onePass(ctx, "p.id = ?", id)
}

func (db *DB) onePass(ctx context.Context, where string, arg any) (p NamedPass, err error) {
	var row namedPass
	if err = db.read.GetContext(ctx, &row, "SELECT p.*, a.name FROM pass p JOIN account a ON a.id = p.account_id WHERE "+where, arg); err != nil {
		return p, one(err)
	}
	p.Name = row.Name
	p.Pass, err = row.pass()
	return p, err
}

// CountPasses counts the open passes of an account.
func (db *DB) CountPasses(ctx context.Context, account int64, now time.Time) (n int, err error) {
	err = db.read.GetContext(ctx, &n, "SELECT count(*) FROM pass WHERE account_id = ? AND ended = ? AND expires > ?", account, micros(time.Time{}), micros(now))
	return n, err
}

// EndPass ends an open one; [ErrNotFound] when there is none of that number.
func (db *DB) EndPass(ctx context.Context, id, by string, now time.Time) error {
	return changed(db.to(ctx).ExecContext(ctx, "UPDATE pass SET ended = ?, ended_by = ? WHERE id = ? AND ended = ?", micros(now), by, id, micros(time.Time{})))
}

// UsePass counts a visit with which something is going to be moved, and remembers it; [ErrNotFound] when the pass has been
// used as often as it may, or has ended.
func (db *DB) UsePass(ctx context.Context, u keep.PassUse) error {
	err := changed(db.to(ctx).ExecContext(ctx, "UPDATE pass SET uses = uses + 1, last_used = ? WHERE id = ? AND ended = ? AND expires > ? AND (max_uses = 0 OR uses < max_uses)",
		micros(u.Began), u.Pass, micros(time.Time{}), micros(u.Began)))
	if err != nil {
		return err
	}
	if _, err := db.to(ctx).ExecContext(ctx, `INSERT INTO pass_use (id, pass_id, address, client, began, last, files, bytes, name, mail, message) VALUES (?, ?, ?, ?, ?, ?, 0, 0, ?, ?, ?)`,
		u.ID, u.Pass, u.Address, u.Client, micros(u.Began), micros(u.Began), u.Name, u.Mail, u.Message); err != nil {
		return err
	}
	_, err = db.to(ctx).ExecContext(ctx, "DELETE FROM pass_use WHERE id IN (SELECT id FROM pass_use WHERE pass_id = ? ORDER BY began DESC LIMIT -1 OFFSET ?)", u.Pass, keep.MaxPassUses)
	return err
}

// GoneOnPass finds the use of a pass that a visit from an address goes on with; "" when that would be another use.
func (db *DB) GoneOnPass(ctx context.Context, pass, address string, now time.Time) (use string, err error) {
	var ids []string
	err = db.read.SelectContext(ctx, &ids, "SELECT id FROM pass_use WHERE pass_id = ? AND address = ? AND last > ? AND began > ? ORDER BY last DESC LIMIT 1",
		pass, address, micros(now.Add(-keep.PassUseBreak)), micros(now.Add(-keep.PassUseLife)))
	if len(ids) == 0 {
		return "", err
	}
	return ids[0], err
}

// MovedByPass adds what a visit has moved.
func (db *DB) MovedByPass(ctx context.Context, pass, use string, files, bytes int64, now time.Time) error {
	if _, err := db.to(ctx).ExecContext(ctx, "UPDATE pass SET bytes = bytes + ?, last_used = ? WHERE id = ?", bytes, micros(now), pass); err != nil {
		return err
	}
	_, err := db.to(ctx).ExecContext(ctx, "UPDATE pass_use SET files = files + ?, bytes = bytes + ?, last = ? WHERE id = ?", files, bytes, micros(now), use)
	return err
}

// TellPassUse notes what a visitor says.
func (db *DB) TellPassUse(ctx context.Context, u keep.PassUse) error {
	_, err := db.to(ctx).ExecContext(ctx, "UPDATE pass_use SET name = ?, mail = ?, message = ? WHERE id = ?", u.Name, u.Mail, u.Message, u.ID)
	return err
}

// PassUses reads who used a pass, the newest first.
func (db *DB) PassUses(ctx context.Context, pass string) ([]keep.PassUse, error) {
	var rows []struct {
		ID      string `db:"id"`
		Pass    string `db:"pass_id"`
		Address string `db:"address"`
		Client  string `db:"client"`
		Began   int64  `db:"began"`
		Last    int64  `db:"last"`
		Files   int64  `db:"files"`
		Bytes   int64  `db:"bytes"`
		Name    string `db:"name"`
		Mail    string `db:"mail"`
		Message string `db:"message"`
	}
	err := db.read.SelectContext(ctx, &rows, "SELECT * FROM pass_use WHERE pass_id = ? ORDER BY began DESC, id", pass)
	found := make([]keep.PassUse, len(rows))
	for i, r := range rows {
		found[i] = keep.PassUse{ID: r.ID, Pass: r.Pass, Address: r.Address, Client: r.Client, Began: fromMicros(r.Began), Last: fromMicros(r.Last), Files: r.Files, Bytes: r.Bytes,
			Name: r.Name, Mail: r.Mail, Message: r.Message}
	}
	return found, err
}

// DropEndedPasses forgets the passes whose end is long past.
func (db *DB) DropEndedPasses(ctx context.Context, now time.Time) error {
	long := micros(now.Add(-keep.EndedPassLife))
	_, err := db.to(ctx).ExecContext(ctx, "DELETE FROM pass WHERE expires < ? OR ended <> ? AND ended < ?", long, micros(time.Time{}), long)
	return err
}
