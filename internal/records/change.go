package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"urbankeep/internal/keep"
)

// Change is one change of the settings by an operator.
type Change struct {
	ID       int64
	At       time.Time
	Operator string
	Address  string
	Action   keep.Action
	What     string // the kind of thing: "account", "group", "listener" and so on
	Name     string // which; "" where there is one of the kind
	Before   string // JSON; "": it was not there
	After    string // JSON; "": it is gone
	Undoes   int64  // the change that this one took back; 0: none
	UndoneBy int64  // the newest that took this one back; 0: none
}

type changeRow struct {
	ID       int64  `db:"id"`
	At       int64  `db:"at"`
	Operator string `db:"operator"`
	Address  string `db:"address"`
	Action   string `db:"action"`
	What     string `db:"what"`
	Name     string `db:"name"`
	Before   string `db:"before"`
	After    string `db:"after"`
	Undoes   *int64 `db:"undoes"`
	UndoneBy *int64 `db:"undone_by"`
}

func (r changeRow) change() Change {
	c := Change{ID: r.ID, At: fromMicros(r.At), Operator: r.Operator, Address: r.Address, Action: keep.Action(r.Action), What: r.What, Name: r.Name, Before: r.Before, After: r.After}
	if r.Undoes != nil {
		c.Undoes = *r.Undoes
	}
	if r.UndoneBy != nil {
		c.UndoneBy = *r.UndoneBy
	}
	return c
}

// AddChange writes a change and gives its number.
func (db *DB) AddChange(ctx context.Context, c Change) (id int64, err error) {
	row := changeRow{At: micros(c.At), Operator: c.Operator, Address: c.Address, Action: string(c.Action), What: c.What, Name: c.Name, Before: c.Before, After: c.After}
	if c.Undoes != 0 {
		row.Undoes = &c.Undoes
	}
	return id, db.change(ctx, func(tx *sqlx.Tx) error {
		result, err := tx.NamedExecContext(ctx, `INSERT INTO change (at, operator, address, action, what, name, before, after, undoes)
			VALUES (:at, :operator, :address, :action, :what, :name, :before, :after, :undoes)`, row)
		if err == nil {
			id, err = result.LastInsertId()
		}
		return err
	})
}

const selectChange = "SELECT change.*, (SELECT max(id) FROM change AS later WHERE later.undoes = change.id) AS undone_by FROM change "

// Change reads one change.
func (db *DB) Change(ctx context.Context, id int64) (Change, error) {
	var row changeRow
	err := db.read.GetContext(ctx, &row, selectChange+"WHERE id = ?", id)
	return row.change(), one(err)
}

// Changes reads changes of one kind of thing ("": of all), of one thing ("": of all),
// that stand before a number (0: the newest), newest first.
func (db *DB) Changes(ctx context.Context, what, name string, before int64, limit int) ([]Change, error) {
	var rows []changeRow
	err := db.read.SelectContext(ctx, &rows, selectChange+"WHERE (?1 = '' OR what = ?1) AND (?2 = '' OR name = ?2) AND (?3 = 0 OR id < ?3) ORDER BY id DESC LIMIT ?4", what, name, before, limit)
	found := make([]Change, len(rows))
	for i, row := range rows {
		found[i] = row.change()
	}
	return found, err
}
