package records

import "context"

// Setting reads one setting of the service, "" when it was never made.
func (db *DB) Setting(ctx context.Context, name string) (string, error) {
	var values []string
	if err := db.read.SelectContext(ctx, &values, "SELECT value FROM setting WHERE name = ?", name); err != nil || len(values) == 0 {
		return "", err
	}
	return values[0], nil
}

// SaveSetting writes one setting.
func (db *DB) SaveSetting(ctx context.Context, name, value string) error {
	_, err := db.to(ctx).ExecContext(ctx, "INSERT OR REPLACE INTO setting (name, value) VALUES (?, ?)", name, value)
	return err
}
