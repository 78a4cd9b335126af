package records

import (
	"context"
	"fmt"
	"strings"
	"sync"

	"urbankeep/internal/keep"
)

type groupRow struct {
	ID       int64                   `db:"id"`
	Name     string                  `db:"name"`
	Note     string                  `db:"note"`
	Settings document[keep.Settings] `db:"settings"`
	Mounts   document[[]keep.Mount]  `db:"mounts"`
	Grants   document[[]keep.Grant]  `db:"grants"`
	Created  int64                   `db:"created"`
	Changed  int64                   `db:"changed"`
}

// groups remembers what there is until one is changed.
type groups struct {
	mu     sync.Mutex
	known  []*keep.Group          // nil: to be read
	byName map[string]*keep.Group // in lower case
}

// Groups gives all groups, by name. The caller must not change them.
func (db *DB) Groups(ctx context.Context) ([]*keep.Group, error) {
	db.groups.mu.Lock()
	defer db.groups.mu.Unlock()
	err := db.readGroups(ctx)
	return db.groups.known, err
}

// readGroups reads them where that is to be done. The caller holds the lock.
func (db *DB) readGroups(ctx context.Context) error {
	if db.groups.known != nil {
		return nil
	}
	var rows []groupRow
	if err := db.read.SelectContext(ctx, &rows, "SELECT * FROM account_group ORDER BY name"); err != nil {
		return err
	}
	found, byName := make([]*keep.Group, len(rows)), map[string]*keep.Group{}
	for i, r := range rows {
		found[i] = &keep.Group{ID: r.ID, Name: r.Name, Note: r.Note, Settings: r.Settings.it, Mounts: r.Mounts.it, Grants: r.Grants.it,
			Created: fromMicros(r.Created), Changed: fromMicros(r.Changed)}
		byName[strings.ToLower(r.Name)] = found[i]
	}
	db.groups.known, db.groups.byName = found, byName
	return nil
}

// Group finds one group, in any case of its name. The caller must not change it.
func (db *DB) Group(ctx context.Context, name string) (*keep.Group, error) {
	db.groups.mu.Lock()
	defer db.groups.mu.Unlock()
	if err := db.readGroups(ctx); err != nil {
		return nil, err
	}
	if g := db.groups.byName[strings.ToLower(name)]; g != nil {
		return g, nil
	}
	return nil, ErrNotFound
}

// Members names up to limit accounts that are in a group, by name, and says how many there are in all.
func (db *DB) Members(ctx context.Context, group string, limit int) (names []string, all int, err error) {
	err = db.read.SelectContext(ctx, &names, "SELECT name FROM member JOIN account ON account.id = account_id WHERE group_name = ? ORDER BY name LIMIT ?", group, limit)
	if err == nil {
		err = db.read.GetContext(ctx, &all, "SELECT count(*) FROM member WHERE group_name = ?", group)
	}
	return names, all, err
}

// Resolve puts an account and its groups together; see [keep.Resolve].
func (db *DB) Resolve(ctx context.Context, a *keep.Account) (*keep.Effective, error) {
	list := make([]*keep.Group, len(a.Groups))
	for i, name := range a.Groups {
		g, err := db.Group(ctx, name)
		if err != nil {
			return nil, fmt.Errorf("group %s of account %s: %w", name, a.Name, err)
		}
		list[i] = g
	}
	return keep.Resolve(a, list)
}

// forgetGroups makes the next reader read them.
func (db *DB) forgetGroups() {
	db.groups.mu.Lock()
	db.groups.known = nil
	db.groups.mu.Unlock()
	db.holders.forget()
}

// SaveGroup writes a group, new (no ID yet) or changed; [ErrTaken] when its name is.
func (db *DB) SaveGroup(ctx context.Context, g *keep.Group) error {
	defer db.forgetGroups()
	row := groupRow{ID: g.ID, Name: g.Name, Note: g.Note, Settings: document[keep.Settings]{g.Settings}, Mounts: document[[]keep.Mount]{g.Mounts},
		Grants: document[[]keep.Grant]{g.Grants}, Created: micros(g.Created), Changed: micros(g.Changed)}
	if g.ID != 0 {
		return changed(db.to(ctx).NamedExecContext(ctx, `UPDATE account_group SET note = :note, settings = :settings, mounts = :mounts, grants = :grants, changed = :changed
			WHERE id = :id`, row))
	}
	result, err := db.to(ctx).NamedExecContext(ctx, `INSERT INTO account_group (name, note, settings, mounts, grants, created, changed)
		VALUES (:name, :note, :settings, :mounts, :grants, :created, :changed)`, row)
	if err != nil {
		return taken(err)
	}
	g.ID, err = result.LastInsertId()
	return err
}

// DeleteGroup removes a group that no account is in.
func (db *DB) DeleteGroup(ctx context.Context, id int64) error {
	defer db.forgetGroups()
	return changed(db.to(ctx).ExecContext(ctx, "DELETE FROM account_group WHERE id = ?", id))
}
