package sealed

import (
	"bufio"
	"crypto/rand"
	"errors"
	"io"
	"io/fs"
	"os"
	"sync"
	"syscall"
	"time"

	"filippo.io/age"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/whole"
	"urbankeep/internal/keep"
)

// errNotSealed refuses what somebody has put onto the disk in clear.
var errNotSealed = keep.Refuse(keep.Failure, "the file is not encrypted as this store has it, or damaged: tell the administrator")

// errElsewhere says that a file that was being written lost its name.
var errElsewhere = keep.Refuse(keep.Failure, "the file was removed, moved or replaced while it was being written: write it again")

// Open opens a file. One that is made is on the disk at once, empty, so that its name is taken; what is written
// lies in the spool until the file ends.
func (f *folder) Open(name string, flag int, mode fs.FileMode) (store.File, error) {
	if err := store.Single("open", name); err != nil {
		return nil, err
	}
	lies := f.d.names.on(name)
	flagOnDisk := os.O_RDONLY
	if flag&os.O_CREATE != 0 {
		flagOnDisk = os.O_RDWR | flag&(os.O_CREATE|os.O_EXCL)
	}
	on, err := f.on.Open(lies, flagOnDisk, mode)
	if err != nil {
		return nil, renamed(err, name)
	}
	info, err := on.Stat()
	if err == nil && info.IsDir() {
		err = &fs.PathError{Op: "open", Path: name, Err: syscall.EISDIR}
	}
	if err == nil && info.Size() == 0 && flag&os.O_CREATE != 0 { // new
		if err = f.d.seal(on); err == nil {
			info, err = on.Stat()
		}
	}
	if err != nil {
		return nil, errors.Join(err, on.Close())
	}
	o := &opened{d: f.d, first: on, on: on, info: info, lies: lies, name: name, size: sizeOf(info.Size(), headOf(io.NewSectionReader(on, 0, 1<<20)))}
	if flag&(os.O_WRONLY|os.O_RDWR) == 0 {
		// Whoever writes it may have given it another content already, and goes on: then it is known by the number of before.
		if written := f.d.files.Facts(keyOfFile(info)); written != nil {
			o.info = known{info, written.Sys()}
		}
	} else {
		if o.in, err = f.Duplicate(); err != nil {
			return nil, errors.Join(err, on.Close())
		}
	}
	return nilOr(f.d.files.Open(keyOfFile(info), flag&^os.O_EXCL, whole.Place{Size: o.size, Old: o.contents, Begin: o.begin, Scratch: f.d.scratch, Keep: true, Facts: o.facts, After: o.after, Ended: o.ended, Mode: o.setMode, Times: o.setTimes}))
}

func nilOr(f *whole.File, err error) (store.File, error) {
	if err != nil {
		return nil, err
	}
	return f, nil
}

// keyOfFile is what open files are told apart by: their numbers, where there are any.
func keyOfFile(info fs.FileInfo) any {
	if number, known := store.Number(info); known {
		return number
	}
	return new(byte)
}

// seal writes an empty content.
func (d *Disk) seal(on io.Writer) error {
	w, err := age.Encrypt(on, d.to...)
	if err == nil {
		err = w.Close()
	}
	return err
}

// opened is an open file of the disk.
type opened struct {
	d     *Disk
	first store.File   // what was there when it was opened: its number stays taken as long
	in    store.Folder // where its name is; nil when it is only read
	info  fs.FileInfo  // of that: by its number the file is known while it is open
	lies  string
	name  string

	mu       sync.Mutex
	on       store.File  // what is under the name
	size     int64       // of that
	last     fs.FileInfo // in the end
	mode     fs.FileMode // to be set with the new content; 0: as it was
	access   time.Time
	modified time.Time
}

// now is what is under the name.
func (o *opened) now() store.File {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.on
}

// known are the facts of a file by the number that it had when it was opened.
type known struct {
	fs.FileInfo
	sys any
}

func (k known) Sys() any { return k.sys }

func (o *opened) facts(size int64) fs.FileInfo {
	info, err := o.now().Stat() // its times and mode may be others by now
	if err != nil {
		info = o.info
	}
	return facts{known{info, o.info.Sys()}, o.name, size}
}

func (o *opened) after() (fs.FileInfo, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return facts{o.last, o.name, o.size}, nil
}

func (o *opened) ended() {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.last = o.info; o.on != o.first {
		if info, err := o.on.Stat(); err == nil {
			o.last = info
		}
		o.on.Close()
	}
	o.first.Close()
	if o.in != nil {
		o.in.Close()
	}
}

func (o *opened) setMode(mode fs.FileMode) error {
	if err := o.now().Chmod(mode); err != nil {
		return err
	}
	o.mode = mode
	return nil
}

func (o *opened) setTimes(access, modified time.Time) error {
	if err := store.FileTimes(o.now(), access, modified); err != nil {
		return err
	}
	if !access.IsZero() {
		o.access = access
	}
	if !modified.IsZero() {
		o.modified = modified
	}
	return nil
}

// contents decrypts what is there.
func (o *opened) contents() (whole.Contents, error) { return o.d.open(o.now()) }

func (d *Disk) open(on store.File) (whole.Contents, error) {
	info, err := on.Stat()
	if err != nil {
		return nil, err
	}
	if info.Size() == 0 { // the end of the process came between the name and the content
		return nothing{}, nil
	}
	plain, size, err := age.DecryptReaderAt(on, info.Size(), d.key.identity)
	if err != nil {
		return nil, &keep.Fault{Reason: errNotSealed.Reason, Say: errNotSealed.Say, Cause: err}
	}
	return &ahead{in: plain, size: size}, nil
}

// nothing is no contents.
type nothing struct{}

func (nothing) ReadAt([]byte, int64) (int, error) { return 0, io.EOF }
func (nothing) Close() error                      { return nil }

// begin begins a new content in the spool.
func (o *opened) begin() (whole.Sink, error) {
	spool, err := o.d.spool(true)
	if err != nil {
		return nil, err
	}
	s := &sink{o: o, spool: spool, name: rand.Text()}
	if s.on, err = spool.Open(s.name, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600); err != nil {
		return nil, errors.Join(err, spool.Close())
	}
	s.buffer = bufio.NewWriterSize(s.on, 256<<10)
	if s.WriteCloser, err = age.Encrypt(s.buffer, o.d.to...); err != nil {
		return nil, errors.Join(err, s.Drop())
	}
	return s, nil
}

// sink is a new content.
type sink struct {
	io.WriteCloser // encrypts
	o              *opened
	spool          store.Folder
	name           string
	on             store.File
	buffer         *bufio.Writer
	dropped        bool
}

func (s *sink) finish() error {
	err := s.WriteCloser.Close()
	return errors.Join(err, s.buffer.Flush())
}

// Commit gives the name the new content, if it still means the file that was opened.
func (s *sink) Commit(lasting bool) error {
	o := s.o
	if err := s.finish(); err != nil {
		return err
	}
	mode := o.mode
	if mode == 0 {
		if info, err := o.now().Stat(); err == nil {
			mode = info.Mode()
		}
	}
	if err := s.on.Chmod(mode.Perm()); err != nil {
		return err
	}
	if !o.access.IsZero() || !o.modified.IsZero() {
		if err := store.FileTimes(s.on, o.access, o.modified); err != nil {
			return err
		}
	}
	if lasting {
		if err := s.on.Sync(); err != nil {
			return err
		}
	}
	info, err := s.on.Stat()
	if err != nil {
		return err
	}
	o.d.moving.Lock()
	defer o.d.moving.Unlock()
	before, err := o.now().Stat()
	if err != nil {
		return err
	}
	there, err := o.in.(*folder).on.Lookup(o.lies)
	if errors.Is(err, fs.ErrNotExist) || err == nil && !store.Same(there, before) {
		return errElsewhere
	}
	if err != nil {
		return err
	}
	from, to := keyOfFile(before), keyOfFile(info)
	drop := o.d.files.Alias(from, to)
	if err := s.spool.Rename(s.name, o.in.(*folder).on, o.lies, true); err != nil {
		drop(to)
		return err
	}
	drop(from)
	o.mu.Lock()
	if o.on != o.first {
		o.on.Close()
	}
	o.on, o.size = s.on, sizeOf(info.Size(), headOf(io.NewSectionReader(s.on, 0, 1<<20)))
	o.mu.Unlock()
	s.dropped = true
	err = s.spool.Close()
	if lasting {
		err = errors.Join(err, store.Sync(o.in))
	}
	return err
}

func (s *sink) Back() (whole.Contents, error) {
	if err := s.finish(); err != nil {
		return nil, err
	}
	return s.o.d.open(s.on)
}

func (s *sink) Drop() error {
	if s.dropped {
		return nil
	}
	s.dropped = true
	return errors.Join(s.on.Close(), s.spool.Remove(s.name, false), s.spool.Close())
}
