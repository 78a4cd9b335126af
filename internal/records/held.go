package records

import (
	"context"
	"encoding/json"

	"urbankeep/internal/keep"
)

// Held reads the uploads that wait for their check.
func (db *DB) Held(ctx context.Context) ([]keep.Held, error) {
	var rows []string
	err := db.read.SelectContext(ctx, &rows, "SELECT definition FROM held ORDER BY id")
	found := make([]keep.Held, len(rows))
	for i, row := range rows {
		if err == nil {
			err = json.Unmarshal([]byte(row), &found[i])
		}
	}
	return found, err
}

// AddHeld writes a new one.
func (db *DB) AddHeld(ctx context.Context, h keep.Held) error {
	text, err := json.Marshal(h)
	if err != nil {
		return err
	}
	_, err = db.to(ctx).ExecContext(ctx, "INSERT INTO held (id, definition) VALUES (?, ?)", h.ID, string(text))
	return err
}

// SaveHeld writes one that has changed; one that was forgotten meanwhile does not come back.
func (db *DB) SaveHeld(ctx context.Context, h keep.Held) error {
	text, err := json.Marshal(h)
	if err != nil {
		return err
	}
	_, err = db.to(ctx).ExecContext(ctx, "UPDATE held SET definition = ? WHERE id = ?", string(text), h.ID)
	return err
}

// DropHeld forgets one.
func (db *DB) DropHeld(ctx context.Context, id string) error {
	_, err := db.to(ctx).ExecContext(ctx, "DELETE FROM held WHERE id = ?", id)
	return err
}
