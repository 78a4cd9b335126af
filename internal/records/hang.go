package records

import (
	"context"
	"encoding/json"
	"strings"

	"urbankeep/internal/keep"
)

// hangs are the tables of what hangs on places of stores, with the columns that say where; see [tree.Hangings].
var hangs = []struct{ table, column string }{
	{"dav_lock", "path"}, {"dav_property", "path"}, {"upload", "folder"}, {"binned", "lies_in"}, {"binned", "was_in"},
}

// at is [below] for a column of another name.
func at(column string) string { return strings.ReplaceAll(below, "path", column) }

// Hanging reports whether anything hangs at a spot, or below it.
func (db *DB) Hanging(ctx context.Context, spot keep.Spot) (any bool, err error) {
	if !db.hanging.Load() {
		return false, nil
	}
	for _, h := range hangs {
		if any, err = db.hangs(ctx, h.table, h.column, "", spot); any || err != nil {
			break
		}
	}
	return any, err
}

func (db *DB) hangs(ctx context.Context, table, column, and string, spot keep.Spot) (found bool, err error) {
	err = db.read.GetContext(ctx, &found, "SELECT EXISTS (SELECT 1 FROM "+table+" WHERE store = ? AND "+at(column)+and+")", append([]any{spot.Store}, belowArgs(spot.Path)...)...)
	return found, err
}

// Uploading reports whether uploads that are not whole yet lie in a folder or below it, Binned whether things do that were deleted.
func (db *DB) Uploading(ctx context.Context, spot keep.Spot) (bool, error) {
	return db.hangs(ctx, "upload", "folder", " AND NOT done", spot)
}

// BinnedIn reports whether things that were deleted and can be put back lie in a folder or below it.
func (db *DB) BinnedIn(ctx context.Context, spot keep.Spot) (bool, error) {
	return db.hangs(ctx, "binned", "lies_in", "", spot)
}

// Deeds reads those that are under way, or were cut off.
func (db *DB) Deeds(ctx context.Context) ([]keep.Deed, error) {
	var rows []string
	err := db.read.SelectContext(ctx, &rows, "SELECT definition FROM deed ORDER BY id")
	found := make([]keep.Deed, len(rows))
	for i, row := range rows {
		if err == nil {
			err = json.Unmarshal([]byte(row), &found[i])
		}
	}
	return found, err
}

// SaveDeed writes one.
func (db *DB) SaveDeed(ctx context.Context, d keep.Deed) error {
	text, err := json.Marshal(d)
	if err != nil {
		return err
	}
	_, err = db.to(ctx).ExecContext(ctx, "INSERT OR REPLACE INTO deed (id, definition) VALUES (?, ?)", d.ID, string(text))
	return err
}

// DropDeed forgets one.
func (db *DB) DropDeed(ctx context.Context, id string) error {
	_, err := db.to(ctx).ExecContext(ctx, "DELETE FROM deed WHERE id = ?", id)
	return err
}

// Moved has what hung at one spot and below it hang at another, for good nowhere where that is the zero one. What hung there is
// gone, but for locks on the very spot: whoever holds one holds it still. Locks don't go along (RFC 4918, section 7.5); with taken, one
// on the very spot that is left stays too: something else has that now.
func (db *DB) Moved(ctx context.Context, from, to keep.Spot, taken bool) error {
	if !db.hanging.Load() {
		return nil
	}
	return db.Together(ctx, func(ctx context.Context) error {
		run := func(query string, args ...any) error {
			_, err := db.to(ctx).ExecContext(ctx, query, args...)
			return err
		}
		from1, to1 := append([]any{from.Store}, belowArgs(from.Path)...), append([]any{to.Store}, belowArgs(to.Path)...)
		if err := run("DELETE FROM dav_lock WHERE store = ? AND "+below+" AND NOT (? AND path = ?)", append(from1[:len(from1):len(from1)], taken, from.Path)...); err != nil {
			return err
		}
		if to == (keep.Spot{}) {
			return run("DELETE FROM dav_property WHERE store = ? AND "+below, from1...)
		}
		if err := run("DELETE FROM dav_lock WHERE store = ? AND "+below+" AND path <> ?", append(to1[:len(to1):len(to1)], to.Path)...); err != nil {
			return err
		}
		if err := run("DELETE FROM dav_property WHERE store = ? AND "+below, to1...); err != nil {
			return err
		}
		// What is below keeps the rest of its path.
		moved := func(column string) string { return column + " = ? || substr(" + column + ", ?)" }
		tail := len([]rune(from.Path)) + 1
		if err := run("UPDATE dav_property SET store = ?, parent = CASE WHEN path = ? THEN ? ELSE ? || substr(parent, ?) END, "+moved("path")+" WHERE store = ? AND "+below,
			append([]any{to.Store, from.Path, to.Folder().Path, to.Path, tail, to.Path, tail}, from1...)...); err != nil {
			return err
		}
		for _, h := range hangs[2:] {
			if h.column == "was_in" && from.Store != to.Store {
				continue // what lies in a bin stays in its store
			}
			if err := run("UPDATE "+h.table+" SET store = ?, "+moved(h.column)+" WHERE store = ? AND "+at(h.column), append([]any{to.Store, to.Path, tail}, from1...)...); err != nil {
				return err
			}
		}
		return nil
	})
}

// MoveStore has what hangs on all places of one store, and is held in it, hang on the same places of another. What hung there is
// gone: that store had nothing that is used.
func (db *DB) MoveStore(ctx context.Context, from, to string) error {
	return db.Together(ctx, func(ctx context.Context) error {
		for n, h := range hangs {
			if n > 0 && hangs[n-1].table == h.table {
				continue
			}
			if _, err := db.to(ctx).ExecContext(ctx, "DELETE FROM "+h.table+" WHERE store = ?", to); err != nil {
				return err
			}
			if _, err := db.to(ctx).ExecContext(ctx, "UPDATE "+h.table+" SET store = ? WHERE store = ?", to, from); err != nil {
				return err
			}
		}
		_, err := db.to(ctx).ExecContext(ctx, "UPDATE held SET definition = json_set(definition, '$.Store', ?) WHERE json_extract(definition, '$.Store') = ?", to, from)
		return err
	})
}

// lookHanging looks once whether anything hangs anywhere.
func (db *DB) lookHanging(ctx context.Context) error {
	for _, h := range hangs {
		var any bool
		if err := db.read.GetContext(ctx, &any, "SELECT EXISTS (SELECT 1 FROM "+h.table+")"); err != nil {
			return err
		}
		if any {
			db.hanging.Store(true)
		}
	}
	return nil
}
