package audit

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

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
}

// journalTurn is how large a file may become before the other one is written, bytes.
const journalTurn = 1 << 20

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

// left gives the records behind a place that the journal still holds, in the order of
// the trail. A last line that was not finished was never acknowledged.
func (j *Journal) left(after int64) ([]records.ChainedRecord, error) {
	var found [2][]records.ChainedRecord
	for i, f := range j.files {
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			return nil, err
		}
		for lines := bufio.NewReader(f); ; {
			text, err := lines.ReadBytes('\n')
			if err == io.EOF {
				break
			}
			if err != nil {
				return nil, err
			}
			var line archived
			if json.Unmarshal(text, &line) != nil {
				break
			}
			r, err := line.record()
			if err != nil {
				break
			}
			found[i] = append(found[i], r)
		}
	}
	if len(found[1]) > 0 && (len(found[0]) == 0 || found[1][0].Seq < found[0][0].Seq) {
		found[0], found[1] = found[1], found[0]
	}
	var left []records.ChainedRecord
	for _, r := range append(found[0], found[1]...) {
		if r.Seq <= after {
			continue
		}
		if want := after + int64(len(left)) + 1; r.Seq != want || !bytes.Equal(r.Digest, Digest(r.Prev, &r.AuditRecord)) || len(left) > 0 && !bytes.Equal(left[len(left)-1].Digest, r.Prev) {
			return left, fmt.Errorf("record %d of the journal is not the one that follows", r.Seq)
		}
		left = append(left, r)
	}
	return left, nil
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

// add takes a record. It is written at once when it is to be durable, else with the
// next that is; after an error it is not taken.
func (j *Journal) add(r *records.ChainedRecord, durable bool) error {
	line, err := json.Marshal(archivedOf(r))
	if err != nil {
		return err
	}
	before := len(j.line)
	j.line = append(append(j.line, line...), '\n')
	if durable {
		if err := j.flush(); err != nil {
			j.line = j.line[:before]
			return err
		}
	}
	j.last = r.Seq
	return nil
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
