package office

import (
	"context"
	"errors"
	"time"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// BreakLock ends a lock of a WebDAV client, by what names it to operators.
func (o *Office) BreakLock(ctx context.Context, who Actor, id string) error {
	found, err := o.DB.Locks(ctx, "", time.Now())
	if err != nil {
		return err
	}
	for _, l := range found {
		if api.LockID(l.Token) != id {
			continue
		}
		err := o.recorded(ctx, who, keep.LockBreak, id, "of "+l.Account+" on "+l.Store+":"+l.Path, func(ctx context.Context) error { return o.DB.DropLock(ctx, l.Token) })
		if errors.Is(err, records.ErrNotFound) {
			break
		}
		return err
	}
	return keep.NoSuch("lock", id)
}
