package audit

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// Journal is where a record stands between being acknowledged and being in the ledger:
// one write to a file is enough to survive the end of the process, and costs a fraction
// of a transaction. Two files take turns, so that one can be emptied once the ledger has
// what it holds. Its methods are for whoever holds the trail's lock.
type Journal struct {
	files  [2]*os.File
	now    int    // the file that is written
	size   int64  // of it, bytes
	last   int64  // the newest record in it
	others int64  // the newest record in the other one; 0: it is empty
	line   []byte // not yet written
	entry  []byte // the record being added; kept for its room
}

// journalTurn is how large a file may become before the other one is written, bytes.
const journalTurn = 1 << 20

// maxEntry bounds what is read as one entry, bytes: more than any record has, so that a
// damaged length doesn't ask for all memory.
const maxEntry = 1 << 20

// OpenJournal opens the journal in the data folder.
func OpenJournal(dir string) (*Journal, error) {
	j := &Journal{}
	for i := range j.files {
		f, err := os.OpenFile(filepath.Join(dir, fmt.Sprintf("audit.journal.%d", i)), os.O_CREATE|os.O_RDWR|os.O_APPEND, 0o600)
		if err != nil {
			return nil, errors.Join(fmt.Errorf("open the journal of the audit trail: %w", err), j.Close())
		}
		j.files[i] = f
	}
	return j, nil
}

// Close closes the files.
func (j *Journal) Close() error {
	var errs []error
	for _, f := range j.files {
		if f != nil {
			errs = append(errs, f.Close())
		}
	}
	return errors.Join(errs...)
}

// An entry of the journal is the length of what a record's digest covers (uvarint), that,
// and the digest: a chained record is encoded once, for both.

// next reads an entry. io.EOF, io.ErrUnexpectedEOF or another error ends what can be read.
func next(from *bufio.Reader) (r records.ChainedRecord, err error) {
	size, err := binary.ReadUvarint(from)
	if err != nil {
		return r, err
	}
	if size > maxEntry {
		return r, errEncoding
	}
	entry := make([]byte, size+sha256.Size)
	if _, err := io.ReadFull(from, entry); err != nil {
		return r, io.ErrUnexpectedEOF
	}
	if r, err = decode(entry[:size]); err == nil && !bytes.Equal(r.Digest, entry[size:]) {
		err = errEncoding
	}
	return r, err
}

// left gives the records behind a place of the trail that the journal still holds, in
// their order; prev is the digest at that place. A last entry that was not finished was
// never acknowledged.
func (j *Journal) left(after int64, prev []byte) (left []records.ChainedRecord, bad error) {
	var found [2][]records.ChainedRecord
	for i, f := range j.files {
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			return nil, err
		}
		from := bufio.NewReader(f)
		r, err := next(from)
		for ; err == nil; r, err = next(from) {
			found[i] = append(found[i], r)
		}
		if err != io.EOF && err != io.ErrUnexpectedEOF {
			bad = fmt.Errorf("read %s: %w", f.Name(), err)
		}
	}
	if len(found[1]) > 0 && (len(found[0]) == 0 || found[1][0].Seq < found[0][0].Seq) {
		found[0], found[1] = found[1], found[0]
	}
	for _, r := range append(found[0], found[1]...) {
		if r.Seq <= after {
			continue
		}
		if r.Seq != after+int64(len(left))+1 || !bytes.Equal(r.Prev, prev) {
			return left, fmt.Errorf("record %d of the journal is not the one that follows", r.Seq)
		}
		left, prev = append(left, r), r.Digest
	}
	return left, bad
}

// setAside keeps copies of the files for whoever wants to know what was in them.
func (j *Journal) setAside() (names []string, err error) {
	for _, f := range j.files {
		name := f.Name() + time.Now().UTC().Format(".20060102T150405Z")
		text, rerr := os.ReadFile(f.Name())
		err = errors.Join(err, rerr, os.WriteFile(name, text, 0o600))
		names = append(names, name)
	}
	return names, err
}

// empty empties both files.
func (j *Journal) empty() error {
	j.now, j.size, j.last, j.others, j.line = 0, 0, 0, 0, nil
	return errors.Join(j.files[0].Truncate(0), j.files[1].Truncate(0))
}

// add takes a record that follows the digest prev, and chains it. It is written at once
// when it is to be durable, else with the next that is; after an error it is not taken.
func (j *Journal) add(prev []byte, r *keep.AuditRecord, durable bool) (records.ChainedRecord, error) {
	j.entry = encode(j.entry[:0], prev, r)
	digest := sha256.Sum256(j.entry)
	before := len(j.line)
	j.line = append(append(binary.AppendUvarint(j.line, uint64(len(j.entry))), j.entry...), digest[:]...)
	if durable {
		if err := j.flush(); err != nil {
			j.line = j.line[:before]
			return records.ChainedRecord{}, err
		}
	}
	j.last = r.Seq
	return records.ChainedRecord{AuditRecord: *r, Prev: prev, Digest: digest[:]}, nil
}

// flush writes what was taken. After an error nothing of it counts: the file is cut back.
func (j *Journal) flush() error {
	if len(j.line) == 0 {
		return nil
	}
	n, err := j.files[j.now].Write(j.line)
	if err != nil {
		return errors.Join(err, j.files[j.now].Truncate(j.size))
	}
	j.size += int64(n)
	j.line = j.line[:0]
	return nil
}

// free is told up to which record the ledger has everything.
func (j *Journal) free(seq int64) error {
	if j.others > 0 && j.others <= seq {
		if err := j.files[1-j.now].Truncate(0); err != nil {
			return err
		}
		j.others = 0
	}
	if j.others == 0 && j.size > journalTurn {
		if err := j.flush(); err != nil {
			return err
		}
		j.now, j.size, j.others = 1-j.now, 0, j.last
	}
	return nil
}
