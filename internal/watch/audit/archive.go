package audit

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"time"
	"unicode/utf8"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// An archive is a file of records in the order of the trail, JSON Lines (the names of
// the API, with the digests of the chain) packed by gzip (RFC 1952). A signed statement
// of what it holds stands in the records and, for whoever has only the file, beside it.

// archived is one line of an archive.
type archived struct {
	api.AuditRecord
	Prev   string            `json:"prev"`          // hexadecimal
	Digest string            `json:"digest"`        // hexadecimal
	Raw    map[string][]byte `json:"raw,omitempty"` // texts that are not UTF-8
}

func archivedOf(r *records.ChainedRecord) archived {
	line := archived{AuditRecord: api.RecordOf(&r.AuditRecord), Prev: hex.EncodeToString(r.Prev), Digest: hex.EncodeToString(r.Digest)}
	for _, text := range []struct{ name, is string }{{"account", r.Account}, {"path", r.Path}, {"target", r.Target}, {"detail", r.Detail}} {
		if !utf8.ValidString(text.is) {
			if line.Raw == nil {
				line.Raw = map[string][]byte{}
			}
			line.Raw[text.name] = []byte(text.is)
		}
	}
	return line
}

func (l *archived) record() (r records.ChainedRecord, err error) {
	a := &l.AuditRecord
	r.AuditRecord = keep.AuditRecord{Seq: a.Seq, At: a.At, Account: a.Account, Operator: a.Operator, Address: a.Address, Protocol: a.Protocol, Encrypted: a.Encrypted, Session: a.Session,
		Action: a.Action, Path: a.Path, Target: a.Target, Offset: a.Offset, Bytes: a.Bytes, Duration: time.Duration(math.Round(a.Seconds*1e6)) * time.Microsecond, Outcome: a.Outcome, Reason: a.Reason, Detail: a.Detail, Facts: a.Facts}
	if r.Hash == r.OldHash() {
		r.Hash = ""
	}
	for name, into := range map[string]*string{"account": &r.Account, "path": &r.Path, "target": &r.Target, "detail": &r.Detail} {
		if raw, ok := l.Raw[name]; ok {
			*into = string(raw)
		}
	}
	var e1, e2 error
	r.Prev, e1 = hex.DecodeString(l.Prev)
	r.Digest, e2 = hex.DecodeString(l.Digest)
	return r, errors.Join(e1, e2)
}

// gapsOf puts records that follow each other into runs.
type gapsOf []records.AuditGap

func (g *gapsOf) add(r *records.ChainedRecord) {
	if n := len(*g); n > 0 && (*g)[n-1].Last+1 == r.Seq {
		(*g)[n-1].Last, (*g)[n-1].Digest = r.Seq, r.Digest
		return
	}
	*g = append(*g, records.AuditGap{First: r.Seq, Last: r.Seq, Prev: r.Prev, Digest: r.Digest})
}

func digestOf(gaps []records.AuditGap) []byte {
	sum := sha256.New()
	for _, g := range gaps {
		fmt.Fprintf(sum, "%d %d %x %x\n", g.First, g.Last, g.Prev, g.Digest)
	}
	return sum.Sum(nil)
}

// statement is what the seal signs about an archive.
func statement(a *records.AuditArchive) string {
	return fmt.Sprintf("urbankeep-archive-1 %s %s %d %d %d %x %x", a.Name, a.Made.UTC().Format(time.RFC3339), a.First, a.Last, a.Records, a.SHA256, a.Gaps)
}

const (
	// archiveFolder lies in the data folder.
	archiveFolder = "archive"
	// unfinished begins the name of a file that is not sealed yet.
	unfinished = "unfinished-"
	// archiveRecords bounds one file.
	archiveRecords = 500_000
)

// ArchiveFile is where an archive lies, or lay.
func (s *Seal) ArchiveFile(name string) string {
	return filepath.Join(filepath.Dir(s.file), archiveFolder, name)
}

// writeArchive writes records that next gives, until it gives none, into a new file.
// Each is held to the chain first: what is not as it was written is not sealed.
func (s *Seal) writeArchive(next func() (*records.ChainedRecord, error)) (a records.AuditArchive, gaps gapsOf, err error) {
	if err := os.MkdirAll(s.ArchiveFile(""), 0o700); err != nil {
		return a, nil, err
	}
	f, err := os.CreateTemp(s.ArchiveFile(""), unfinished+"*")
	if err != nil {
		return a, nil, err
	}
	defer func() { err = errors.Join(err, ignoreClosed(f.Close()), removed(f.Name())) }()
	sum := sha256.New()
	packed := gzip.NewWriter(io.MultiWriter(f, sum))
	lines := json.NewEncoder(packed)
	for a.Records < archiveRecords {
		r, err := next()
		if err != nil {
			return a, nil, err
		}
		if r == nil {
			break
		}
		if !bytes.Equal(r.Digest, Digest(r.Prev, &r.AuditRecord)) {
			return a, nil, fmt.Errorf("record %d was changed after it was written: audit verify tells more", r.Seq)
		}
		if err := lines.Encode(archivedOf(r)); err != nil {
			return a, nil, err
		}
		if gaps.add(r); a.Records == 0 {
			a.First = r.Seq
		}
		a.Last = r.Seq
		a.Records++
	}
	if a.Records == 0 {
		return a, nil, nil
	}
	if err := errors.Join(packed.Close(), f.Sync(), f.Close()); err != nil {
		return a, nil, err
	}
	a.Made = time.Now().UTC().Truncate(time.Second)
	a.Name = fmt.Sprintf("audit-%012d-%012d-%s.jsonl.gz", a.First, a.Last, a.Made.Format("20060102T150405Z"))
	a.SHA256, a.Gaps = sum.Sum(nil), digestOf(gaps)
	a.Signed = ed25519.Sign(s.key, []byte(statement(&a)))
	if err := os.Rename(f.Name(), s.ArchiveFile(a.Name)); err != nil {
		return a, nil, err
	}
	return a, gaps, os.WriteFile(s.ArchiveFile(a.Name)+".signed", fmt.Appendf(nil, "%s %x\n", statement(&a), a.Signed), 0o600)
}

func ignoreClosed(err error) error {
	if errors.Is(err, os.ErrClosed) {
		return nil
	}
	return err
}

// sweep removes files that an end without goodbye left unfinished.
func (s *Seal) sweep() error {
	left, err := filepath.Glob(s.ArchiveFile(unfinished + "*"))
	for _, name := range left {
		err = errors.Join(err, removed(name))
	}
	return err
}

// removed removes what is still there under its unfinished name.
func removed(name string) error {
	if err := os.Remove(name); !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

// ReadArchive gives the records of an archive file, in the order of the trail.
func ReadArchive(file string, each func(*records.ChainedRecord) error) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	packed, err := gzip.NewReader(bufio.NewReaderSize(f, 1<<20))
	if err != nil {
		return err
	}
	for lines := json.NewDecoder(packed); ; {
		var line archived
		if err := lines.Decode(&line); err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
		r, err := line.record()
		if err == nil {
			err = each(&r)
		}
		if err != nil {
			return err
		}
	}
}

// Retire seals the records that a retention lets go into archive files and takes them
// out of the trail, none behind upTo, and never the newest. What an end without goodbye
// left half done is finished first.
func Retire(ctx context.Context, db *records.DB, seal *Seal, keeps *keep.Retention, now time.Time, upTo int64) (made []records.AuditArchive, err error) {
	if err := errors.Join(db.RemoveArchived(ctx), seal.sweep()); err != nil {
		return nil, err
	}
	if keeps.Shortest() == 0 {
		return nil, nil
	}
	last, err := db.LastAudit(ctx)
	if errors.Is(err, records.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	newest, err := db.AuditBefore(ctx, now.AddDate(0, 0, -keeps.Shortest()))
	if err != nil {
		return nil, err
	}
	upTo = min(upTo, last.Seq-1, newest)
	at, page := int64(0), []records.ChainedRecord(nil)
	next := func() (*records.ChainedRecord, error) {
		for len(page) == 0 && at >= 0 {
			found, seen, err := db.AuditOld(ctx, keeps, now, at, upTo, verifyPage)
			if err != nil {
				return nil, err
			}
			if page, at = found, seen; seen == 0 {
				at = -1
			}
		}
		if len(page) == 0 {
			return nil, nil
		}
		r := &page[0]
		page = page[1:]
		return r, nil
	}
	for {
		a, gaps, err := seal.writeArchive(next)
		if err != nil || a.Records == 0 {
			return made, err
		}
		if err := db.AddArchive(ctx, a, gaps); err != nil {
			return made, err
		}
		made = append(made, a)
		if err := db.RemoveArchived(ctx); err != nil {
			return made, err
		}
	}
}
