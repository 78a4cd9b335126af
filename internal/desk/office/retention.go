package office

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/audit"
)

const retentionSetting = "retention"

// Retention is how long audit records stay in the trail.
func (o *Office) Retention(ctx context.Context) (r keep.Retention, err error) {
	text, err := o.DB.Setting(ctx, retentionSetting)
	if err == nil && text != "" {
		err = json.Unmarshal([]byte(text), &r)
	}
	if r.Kinds == nil {
		r.Kinds = []keep.KindRetention{}
	}
	return r, err
}

// SetRetention changes it. Nothing goes before the next day's turn, or [Office.Retire].
func (o *Office) SetRetention(ctx context.Context, who Actor, r keep.Retention) error {
	if err := r.Check(); err != nil {
		return err
	}
	o.changing.Lock()
	defer o.changing.Unlock()
	before, err := o.Retention(ctx)
	if err != nil {
		return err
	}
	text, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return o.changed(ctx, who, keep.RetentionSet, retention, "", before, r, func(ctx context.Context) error { return o.DB.SaveSetting(ctx, retentionSetting, string(text)) })
}

// Retire seals what the retention lets go into archive files and takes it out of the
// trail: as far as traffic has been added up, and the collector has been told.
func (o *Office) Retire(ctx context.Context, who Actor) ([]records.AuditArchive, error) {
	o.retiring.Lock()
	defer o.retiring.Unlock()
	keeps, err := o.Retention(ctx)
	if err != nil {
		return nil, err
	}
	upTo, err := o.DB.TrafficCursor(ctx)
	if err != nil {
		return nil, err
	}
	if now := o.Collector.State(ctx); now.Address != "" {
		upTo = min(upTo, now.Sent)
	}
	upTo = min(upTo, o.Teller.Floor())
	made, err := audit.Retire(ctx, o.DB, o.Seal, &keeps, time.Now(), upTo)
	for _, a := range made {
		err = errors.Join(err, o.record(who, keep.AuditArchive, a.Name, fmt.Sprintf("%d records from %d to %d, SHA-256 %x", a.Records, a.First, a.Last, a.SHA256)))
	}
	return made, err
}

// ArchiveFile is the file of an archive that is known and there.
func (o *Office) ArchiveFile(ctx context.Context, name string) (string, error) {
	known, err := o.DB.Archives(ctx)
	if err != nil {
		return "", err
	}
	if !slices.ContainsFunc(known, func(a records.AuditArchive) bool { return a.Name == name }) {
		return "", keep.NoSuch("archive", name)
	}
	file := o.Seal.ArchiveFile(name)
	if _, err := os.Stat(file); errors.Is(err, fs.ErrNotExist) {
		return "", keep.Refuse(keep.NotFound, "the archive file is no longer there: bring it back to "+file)
	}
	return file, nil
}

// SetCollector sends audit records to a syslog collector from now on; nowhere when its
// address is empty.
func (o *Office) SetCollector(ctx context.Context, who Actor, to keep.Collector) error {
	o.changing.Lock()
	defer o.changing.Unlock()
	before := o.Collector.State(ctx).Collector
	return o.Collector.Set(ctx, to, func(write func(context.Context) error) error {
		return o.changed(ctx, who, keep.CollectorSet, collectors, "", before, to, write)
	})
}
