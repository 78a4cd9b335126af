package office

import (
	"context"
	"io"

	"urbankeep/internal/desk/backup"
	"urbankeep/internal/keep"
)

// Backup writes everything the service knows, but not the stored files.
func (o *Office) Backup(ctx context.Context, who Actor, w io.Writer) error {
	if err := o.record(who, keep.BackingUp, "", ""); err != nil {
		return err
	}
	o.Trail.Settle(ctx)
	_, err := backup.Write(ctx, w, o.Dir, o.DB)
	return err
}
