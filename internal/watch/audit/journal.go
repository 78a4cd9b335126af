package audit

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// Journal is where a record stands between being acknowledged and being in the ledger:
// one write to a file is enough to survive the end of the process, and costs a fraction
// of a transaction. Two files take turns, so that one can be used anew once the ledger has
// what it holds.
//
// The files are laid out before they are written: what was promised room gets it, however
// full the disk is by then. What is about to be done stands in the journal before it is
// done, so that the next start finds what the end of the process cut off.
//
// Its methods are for whoever holds the trail's lock, but for those that say otherwise.
type Journal struct {
	parts    [2]part
	now      int              // the part that is written
	last     int64            // the newest record in it
	others   int64            // the newest record in the other one; 0: it is clean
	line     []byte           // not yet written
	entry    []byte           // the entry that is being made; kept for its room
	promised int64            // bytes that are kept for records that were announced
	open     map[int64][]byte // what is under way, as entries, by number
	number   int64            // of the last that was announced
}

// part is one of the two files.
type part struct {
	file  *os.File
	size  int64 // written, bytes
	room  int64 // laid out, bytes
	dirty bool  // has something that is not on the medium
	// spoiled says that a sync of it has failed: what was written may be gone, whatever a later sync says, and with it what follows.
	spoiled bool
}

const (
	journalMagic = "urbankeep journal 2\n"
	// journalTurn is how large a file may become before the other one is written, and in
	// what pieces files are laid out, bytes.
	journalTurn = 1 << 20
	// journalSpare is how much of a file that a burst made large is kept, bytes.
	journalSpare = 4 * journalTurn
	// maxEntry bounds what is read as one entry, bytes: more than any record has, so that a
	// damaged length doesn't ask for all memory.
	maxEntry = 1 << 20
	// lineLength bounds what waits in memory to be written, bytes.
	lineLength = 64 << 10
	// entryFrame is more than an entry has around what it holds: kind, length, number and sum.
	entryFrame = 32
	// detailRoom is the room that is kept for what will be said of something under way, bytes.
	detailRoom = 512
)

// The kinds of entries. A zero ends a file: it is laid out with zeros.
const (
	entryRecord = 1 // the number of what it ends (0: nothing), and what its digest covers
	entryBegun  = 2 // its number, where it is done, and a record that has no place yet
)

// sums is CRC-32C.
var sums = crc32.MakeTable(crc32.Castagnoli)

// OpenJournal opens the journal in the data folder.
func OpenJournal(dir string) (*Journal, error) {
	j := &Journal{open: map[int64][]byte{}}
	for i := range j.parts {
		f, err := os.OpenFile(journalFile(dir, i), os.O_CREATE|os.O_RDWR, 0o600)
		if err != nil {
			return nil, errors.Join(fmt.Errorf("open the journal of the audit trail: %w", err), j.Close())
		}
		info, err := f.Stat()
		if err != nil {
			return nil, errors.Join(fmt.Errorf("open the journal of the audit trail: %w", err), f.Close(), j.Close())
		}
		j.parts[i] = part{file: f, size: info.Size(), room: info.Size() / journalTurn * journalTurn}
	}
	return j, nil
}

// Close closes the files.
func (j *Journal) Close() error {
	var errs []error
	for _, p := range j.parts {
		if p.file != nil {
			errs = append(errs, p.file.Close())
		}
	}
	return errors.Join(errs...)
}

// there says what is wrong when a file of the journal is not in its place any more.
func (j *Journal) there() error {
	if j == nil {
		return nil
	}
	for _, p := range j.parts {
		named, err := os.Stat(p.file.Name())
		if held, bad := p.file.Stat(); err != nil || bad != nil || !os.SameFile(named, held) {
			return fmt.Errorf("the journal %s was removed or replaced while the service runs: what is in it would be lost with the process, so restart the service now", filepath.Base(p.file.Name()))
		}
	}
	return nil
}

// JournalGone reports whether a file of the journal is not in a data folder.
func JournalGone(dir string) bool {
	for i := range len(Journal{}.parts) {
		if _, err := os.Stat(journalFile(dir, i)); errors.Is(err, fs.ErrNotExist) {
			return true
		}
	}
	return false
}

func journalFile(dir string, i int) string {
	return filepath.Join(dir, fmt.Sprintf("audit.journal.%d", i))
}

// appendEntry adds an entry: its kind, the length of what it holds, that, and a sum of all of it.
func appendEntry(to []byte, kind byte, held []byte) []byte {
	at := len(to)
	to = append(binary.AppendUvarint(append(to, kind), uint64(len(held))), held...)
	return binary.LittleEndian.AppendUint32(to, crc32.Checksum(to[at:], sums))
}

// read reads a part's entries. bad says why what follows them is none, nil where there is
// nothing more.
func (p *part) read(each func(kind byte, held []byte) error) (bad error) {
	if _, err := p.file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	from := bufio.NewReader(p.file)
	magic, err := from.Peek(len(journalMagic))
	switch {
	case len(magic) == 0 && err == io.EOF, err == nil && len(bytes.Trim(magic, "\x00")) == 0:
		return nil // never written
	case string(magic) != journalMagic:
		return readFirst(from, each)
	}
	from.Discard(len(journalMagic))
	for {
		kind, held, err := nextEntry(from)
		if err == io.EOF {
			return nil
		}
		if err == nil {
			err = each(kind, held)
		}
		if err != nil {
			return fmt.Errorf("read %s: %w", p.file.Name(), err)
		}
	}
}

// readFirst reads the form that journals had before they were laid out: records only, each with
// its length before it and its digest behind it.
func readFirst(from *bufio.Reader, each func(kind byte, held []byte) error) error {
	for {
		size, err := binary.ReadUvarint(from)
		if err == io.EOF {
			return nil
		}
		if err != nil || size == 0 || size > maxEntry {
			return errEncoding
		}
		entry := make([]byte, size+sha256.Size)
		if _, err := io.ReadFull(from, entry); err != nil {
			return nil // the last one was not finished
		}
		if !bytes.Equal(digestOfEntry(entry[:size]), entry[size:]) {
			return errEncoding
		}
		if err := each(entryRecord, append([]byte{0}, entry[:size]...)); err != nil {
			return err
		}
	}
}

// nextEntry reads an entry; [io.EOF] where there is none.
func nextEntry(from *bufio.Reader) (kind byte, held []byte, err error) {
	head, err := from.Peek(1 + binary.MaxVarintLen32)
	if len(head) == 0 || head[0] == 0 {
		return 0, nil, io.EOF
	}
	size, n := binary.Uvarint(head[1:])
	if n <= 0 || size > maxEntry {
		return 0, nil, errEncoding
	}
	whole := make([]byte, 1+n+int(size)+4)
	if _, err = io.ReadFull(from, whole); err != nil {
		return 0, nil, io.ErrUnexpectedEOF
	}
	end := len(whole) - 4
	if binary.LittleEndian.Uint32(whole[end:]) != crc32.Checksum(whole[:end], sums) {
		return 0, nil, errEncoding
	}
	return whole[0], whole[1+n : end], nil
}

// Begun is something that the end of the process cut off.
type Begun struct {
	Record keep.AuditRecord
	Place  string // where it was done: a store and a path in it, "" for nowhere
}

// left gives what the journal still holds from an end without goodbye: the records behind a
// place of the trail in their order (prev is the digest at that place), and what was begun
// and has no record. A last entry that was not finished was never acknowledged.
func (j *Journal) left(after int64, prev []byte) (left []records.ChainedRecord, begun []Begun, bad error) {
	var found [2][]records.ChainedRecord
	under, ended := map[int64]Begun{}, map[int64]bool{}
	for i := range j.parts {
		err := j.parts[i].read(func(kind byte, held []byte) error {
			number, n := binary.Uvarint(held)
			if n <= 0 {
				return errEncoding
			}
			held = held[n:]
			switch kind {
			case entryRecord:
				r, err := decode(held)
				if err != nil {
					return err
				}
				found[i] = append(found[i], r)
				ended[int64(number)] = true
			case entryBegun:
				size, n := binary.Uvarint(held)
				if n <= 0 || size > uint64(len(held)-n) {
					return errEncoding
				}
				r, err := decode(held[n+int(size):])
				if err != nil {
					return err
				}
				under[int64(number)] = Begun{r.AuditRecord, string(held[n : n+int(size)])}
			default:
				return errEncoding
			}
			return nil
		})
		bad = errors.Join(bad, err)
	}
	if len(found[1]) > 0 && (len(found[0]) == 0 || found[1][0].Seq < found[0][0].Seq) {
		found[0], found[1] = found[1], found[0]
	}
	for number := range ended {
		delete(under, number)
	}
	for _, b := range under {
		begun = append(begun, b)
	}
	slices.SortFunc(begun, func(a, b Begun) int { return a.Record.At.Compare(b.Record.At) })
	for _, r := range append(found[0], found[1]...) {
		if r.Seq <= after {
			continue
		}
		if r.Seq != after+int64(len(left))+1 || !bytes.Equal(r.Prev, prev) {
			return left, nil, fmt.Errorf("record %d of the journal is not the one that follows", r.Seq)
		}
		left, prev = append(left, r), r.Digest
	}
	return left, begun, bad
}

// setAside keeps copies of the files for whoever wants to know what was in them.
func (j *Journal) setAside() (names []string, err error) {
	for _, p := range j.parts {
		name := p.file.Name() + time.Now().UTC().Format(".20060102T150405Z")
		text, rerr := os.ReadFile(p.file.Name())
		err = errors.Join(err, rerr, os.WriteFile(name, text, 0o600))
		names = append(names, name)
	}
	return names, err
}

// empty makes both files ones that hold nothing, and keeps them laid out. What was promised
// is forgotten.
func (j *Journal) empty() error {
	*j = Journal{parts: j.parts, open: map[int64][]byte{}}
	err := errors.Join(j.parts[0].clean(), j.parts[1].clean())
	j.parts[0].dirty, j.parts[1].dirty = false, false
	return err
}

// start makes an empty journal one that can be written.
func (j *Journal) start() error { return j.parts[0].begin(journalTurn) }

// begin makes a part one that can be written, with so much room.
func (p *part) begin(room int64) error {
	if err := p.grow(room); err != nil {
		return err
	}
	_, err := p.file.WriteAt([]byte(journalMagic), 0)
	p.size, p.dirty = int64(len(journalMagic)), true
	return err
}

// grow lays out a part up to a size at least.
func (p *part) grow(size int64) error {
	size = (size + journalTurn - 1) / journalTurn * journalTurn
	zeros := make([]byte, journalTurn)
	for at := p.room; at < size; at += journalTurn {
		if _, err := p.file.WriteAt(zeros, at); err != nil {
			return errors.Join(fmt.Errorf("lay out room in the journal: %w", err), p.file.Truncate(p.room))
		}
		p.room, p.dirty = at+journalTurn, true
	}
	return nil
}

// clean makes a part whose records the ledger has one that may be written anew. It needs no
// lock: nobody else looks at that part.
func (p *part) clean() error {
	if p.room > journalSpare {
		if err := p.file.Truncate(journalSpare); err != nil {
			return err
		}
		p.room = journalSpare
	}
	if p.size > p.room { // not laid out by us
		if err := p.file.Truncate(p.room); err != nil {
			return err
		}
	}
	zeros := make([]byte, journalTurn)
	for at := int64(0); at < min(p.size, p.room); at += journalTurn {
		if _, err := p.file.WriteAt(zeros, at); err != nil {
			return err
		}
	}
	p.size = 0
	return p.file.Sync() // an old entry must not come back after a power cut
}

// reserve keeps so many bytes for later. After an error there is no room.
func (j *Journal) reserve(size int64) error {
	p := &j.parts[j.now]
	if need := p.size + int64(len(j.line)) + j.promised + size; need > p.room {
		if err := p.grow(need); err != nil {
			return err
		}
	}
	j.promised += size
	return nil
}

// roomFor is more than a record takes that says what r says, and how it ended.
func roomFor(r *keep.AuditRecord) int64 {
	return int64(len(r.Account)+len(r.Operator)+len(r.Address)+len(r.Session)+len(r.Path)+len(r.Target)+len(r.Detail)) + recordFrame + entryFrame + detailRoom
}

// begin announces something that will be done at a place, and keeps room for its record. It
// is written at once. release or the record's add ends it.
func (j *Journal) begin(r *keep.AuditRecord, place string) (number int64, err error) {
	j.entry = binary.AppendUvarint(j.entry[:0], uint64(j.number+1))
	j.entry = append(binary.AppendUvarint(j.entry, uint64(len(place))), place...)
	j.entry = encode(j.entry, nil, r)
	size := int64(len(j.entry)) + entryFrame
	if err := j.reserve(size); err != nil {
		return 0, err
	}
	before := len(j.line)
	j.line = appendEntry(j.line, entryBegun, j.entry)
	begun := slices.Clone(j.line[before:])
	j.promised -= size
	if err := j.flush(); err != nil {
		j.line = j.line[:before]
		return 0, err
	}
	j.number++
	j.open[j.number] = begun
	return j.number, nil
}

// add takes a record that follows the digest prev, and chains it; it ends what was announced
// with a number, 0 for nothing. kept is the room that was reserved for it. It is written at
// once when it is to be durable, else with the next that is; after an error it is not taken.
func (j *Journal) add(prev []byte, r *keep.AuditRecord, durable bool, number, kept int64) (records.ChainedRecord, error) {
	j.entry = binary.AppendUvarint(j.entry[:0], uint64(number))
	at := len(j.entry)
	j.entry = encode(j.entry, prev, r)
	digest := digestOfEntry(j.entry[at:])
	need := int64(len(j.entry)) + entryFrame
	j.promised -= kept
	if err := j.reserve(need); err != nil {
		j.promised += kept
		return records.ChainedRecord{}, err
	}
	before := len(j.line)
	j.line = appendEntry(j.line, entryRecord, j.entry)
	j.promised -= need
	if durable || len(j.line) > lineLength {
		if err := j.flush(); err != nil {
			j.line = j.line[:before]
			j.promised += kept
			return records.ChainedRecord{}, err
		}
	}
	delete(j.open, number)
	j.last = r.Seq
	return records.ChainedRecord{AuditRecord: *r, Prev: prev, Digest: digest}, nil
}

// release gives back room that was kept.
func (j *Journal) release(kept int64) { j.promised -= kept }

// flush writes what was taken. After an error nothing of it counts: zeros end the file there.
func (j *Journal) flush() error {
	if len(j.line) == 0 {
		return nil
	}
	p := &j.parts[j.now]
	n, err := p.file.WriteAt(j.line, p.size)
	if err != nil {
		_, zeroed := p.file.WriteAt(make([]byte, n), p.size)
		return errors.Join(err, zeroed)
	}
	p.size += int64(n)
	p.dirty = true
	j.line = j.line[:0]
	return nil
}

// unsynced gives the parts that hold what is not on the medium, and takes them as if it were.
func (j *Journal) unsynced() (parts []*part) {
	for i := range j.parts {
		if j.parts[i].dirty {
			j.parts[i].dirty = false
			parts = append(parts, &j.parts[i])
		}
	}
	return parts
}

// spoiled reports whether what is written now can't be relied on to outlive the power.
func (j *Journal) spoiled() bool { return j.parts[j.now].spoiled }

// freed reports whether the ledger has all that the other file holds, when it has everything
// up to a record; that file is then to be cleaned.
func (j *Journal) freed(seq int64) *part {
	if j.others > 0 && j.others <= seq {
		return &j.parts[1-j.now]
	}
	return nil
}

// turn goes on in the other file when this one is long enough, or spoiled, and takes along what is under
// way. Where the other one can't be laid out, this one goes on.
func (j *Journal) turn() error {
	if j.others > 0 || !j.spoiled() && (j.parts[j.now].size <= journalTurn || j.last == 0) {
		return nil
	}
	if err := j.flush(); err != nil {
		return err
	}
	need := j.promised + int64(len(journalMagic))
	for _, begun := range j.open {
		need += int64(len(begun))
	}
	other := &j.parts[1-j.now]
	if other.begin(need+journalTurn/2) != nil {
		other.size = 0
		return nil // no room now: this one has what was promised
	}
	j.now, j.others = 1-j.now, j.last
	for _, begun := range j.open {
		j.line = append(j.line, begun...)
	}
	return j.flush()
}
