package bucket

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"math/rand/v2"
	"sync"
	"time"

	"urbankeep/internal/files/store/scratch"
	"urbankeep/internal/files/store/whole"
)

// place is what an open file is made of. fresh says that there is no object yet.
func (b *Bucket) place(name string, o Object, fresh bool) whole.Place {
	f := &opened{b: b, name: name, o: o, there: !fresh}
	return whole.Place{New: fresh, Size: o.Size, Random: true, Old: f.read, Begin: f.begin, Scratch: b.scratch, Facts: f.facts, After: f.after, Ended: func() {}, Mode: f.setMode, Times: f.setTimes}
}

// opened is an open file.
type opened struct {
	b    *Bucket
	name string

	mu    sync.Mutex
	o     Object // what is under the name
	there bool   // or will be
	kept  Kept   // for what is written
}

func (f *opened) facts(size int64) fs.FileInfo {
	f.mu.Lock()
	defer f.mu.Unlock()
	o := f.o
	if o.Size = size; o.Modified.IsZero() {
		o.Modified = time.Now()
	}
	if !f.kept.Modified.IsZero() {
		o.Kept.Modified = f.kept.Modified
	}
	if f.kept.Mode != 0 {
		o.Kept.Mode = f.kept.Mode
	}
	return f.b.fileFacts(f.name, o)
}

func (f *opened) after() (fs.FileInfo, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if !f.there {
		return nil, wrong("stat", f.name, fs.ErrNotExist)
	}
	return f.b.fileFacts(f.name, f.o), nil
}

// setMode and setTimes are for what is written; of a file that isn't, they are set by its name.
func (f *opened) setMode(mode fs.FileMode) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.kept.Mode = mode.Perm()
	return nil
}

func (f *opened) setTimes(_, modified time.Time) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if !modified.IsZero() {
		f.kept.Modified = modified
	}
	return nil
}

// read reads what is under the name.
func (f *opened) read() (whole.Contents, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return &reader{b: f.b, o: f.o}, nil
}

// reader reads an object: on and on where it is read from its beginning to its end, bounded pieces where it is
// read here and there.
type reader struct {
	b *Bucket
	o Object

	body io.ReadCloser // nil: none is open
	at   int64         // where it stands
	ends int64         // how far it goes
	stop context.CancelFunc
	next int64 // where the read before ended
}

// How a reader goes about: how far it skips ahead in what it has open, how much it asks for where nothing
// says that it is read on, and how often it tries again.
const (
	skips   = 256 << 10
	jump    = 1 << 20
	retries = 4
)

// ReadAt reads as [io.ReaderAt] does. It is called by one goroutine at a time.
func (r *reader) ReadAt(p []byte, off int64) (n int, err error) {
	if off >= r.o.Size {
		return 0, io.EOF
	}
	want := p[:min(int64(len(p)), r.o.Size-off)]
	for try := 0; n < len(want); {
		got, err := r.readOn(want[n:], off+int64(n))
		if n += got; err == nil || n == len(want) {
			continue
		}
		r.close()
		if try++; try > retries || errors.Is(err, ErrChanged) || errors.Is(err, fs.ErrNotExist) || r.b.ctx.Err() != nil {
			if errors.Is(err, fs.ErrNotExist) {
				err = ErrChanged
			}
			return n, r.b.fault(err)
		}
		pause(r.b.ctx, try)
	}
	if r.next = off + int64(n); n < len(p) {
		err = io.EOF
	}
	return n, err
}

// pause waits before something is tried again, a little longer each time, and not for as long as others do.
func pause(ctx context.Context, try int) {
	wait := time.Duration(50<<try) * time.Millisecond
	select {
	case <-time.After(wait/2 + rand.N(wait)):
	case <-ctx.Done():
	}
}

// readOn reads from an offset on, in what is open if that leads there.
func (r *reader) readOn(p []byte, off int64) (int, error) {
	if r.body != nil && off > r.at && off-r.at <= skips && off < r.ends {
		n, err := io.CopyN(io.Discard, r.body, off-r.at)
		if r.at += n; err != nil {
			return 0, err
		}
	}
	if r.body == nil || r.at != off || r.at >= r.ends {
		r.close()
		length := int64(-1)
		if r.ends = r.o.Size; off != 0 && off != r.next {
			if length = max(int64(len(p)), jump); off+length < r.ends {
				r.ends = off + length
			} else {
				length = -1
			}
		}
		ctx, stop := context.WithCancel(r.b.ctx)
		body, err := r.b.d.Get(ctx, r.o.Key, r.o.Tag, off, length)
		if err != nil {
			stop()
			return 0, err
		}
		r.body, r.at, r.stop = body, off, stop
	}
	n, err := io.ReadFull(r.body, p[:min(int64(len(p)), r.ends-r.at)])
	r.at += int64(n)
	return n, err
}

func (r *reader) close() {
	if r.body != nil {
		r.stop()
		r.body.Close()
		r.body = nil
	}
}

func (r *reader) Close() error {
	r.close()
	return nil
}

// How large parts are, bytes: the first ones small, so that many uploads hold little; larger ones
// the longer an object gets, which may have 10,000 parts.
const (
	firstPart  = 5 << 20
	growsEvery = 1000
	inFlight   = 3
)

func partSize(n int) int64 { return firstPart << ((n - 1) / growsEvery) }

func (f *opened) begin() (whole.Sink, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	s := &sink{f: f, kept: f.o.Kept, filling: &part{memory: f.b.memory}}
	s.ctx, s.stop = context.WithCancel(f.b.ctx)
	return s, nil
}

// sink is an object that comes into being.
type sink struct {
	f       *opened
	kept    Kept
	upload  Upload // nil while all that came fits into one part
	note    string
	first   *scratch.File // a copy of the first part, whose bytes may still change
	patched bool          // and have
	n       int           // parts that were sent
	sent    int64         // bytes of them
	starts  int64         // where the part that fills begins
	filling *part

	ctx     context.Context
	stop    context.CancelFunc
	sending sync.WaitGroup
	places  chan struct{}

	mu     sync.Mutex
	failed error
}

func (s *sink) Write(b []byte) (n int, err error) {
	for n < len(b) {
		if err := s.failure(); err != nil {
			return n, err
		}
		room := partSize(s.n+1) - s.filling.size
		took, err := s.filling.write(b[n:min(int64(len(b)), int64(n)+room)])
		n += took
		switch {
		case err == errNoMemory:
			err = s.makeRoom()
		case err == nil && s.filling.size == partSize(s.n+1):
			err = s.send()
		}
		if err != nil {
			return n, err
		}
	}
	return n, nil
}

// makeRoom is for when the memory of all uploads is used up: this one's own parts may be sent by now, else it goes
// on on the disk.
func (s *sink) makeRoom() error {
	s.sending.Wait()
	if piece := s.f.b.memory.take(); piece != nil {
		s.f.b.memory.give([][]byte{piece})
		return nil
	}
	work, err := s.f.b.scratch()
	if err != nil {
		return err
	}
	if err := s.filling.toDisk(work); err != nil {
		return errors.Join(err, work.Close())
	}
	return nil
}

func (s *sink) failure() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.failed
}

func (s *sink) fails(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.failed == nil {
		s.failed = s.f.b.fault(err)
	}
}

// send has the part that is full sent, while the next one fills.
func (s *sink) send() error {
	if s.upload == nil {
		if err := s.begin(); err != nil {
			return err
		}
	}
	s.n++
	full, n := s.filling, s.n
	if n == 1 {
		if err := s.keepFirst(full); err != nil {
			return err
		}
	}
	s.sent += full.size
	s.starts += full.size
	s.filling = &part{memory: s.f.b.memory}
	select {
	case s.places <- struct{}{}:
	case <-s.ctx.Done():
		full.free()
		return s.ctx.Err()
	}
	s.sending.Go(func() {
		defer func() { <-s.places }()
		defer full.free()
		body := full.loan()
		defer body.end()
		ctx, cancel := context.WithTimeout(s.ctx, writePatience)
		defer cancel()
		if err := s.upload.Part(ctx, n, body, full.size); err != nil {
			s.fails(err)
		}
	})
	return nil
}

func (s *sink) begin() (err error) {
	ctx, cancel := s.f.b.writing()
	defer cancel()
	s.places = make(chan struct{}, inFlight)
	if s.upload, err = s.f.b.d.Begin(ctx, s.f.o.Key, s.now()); err != nil {
		return s.f.b.fault(err)
	}
	s.note, err = s.f.b.notes.add(note{Key: s.f.o.Key, Upload: s.upload.ID()})
	return err
}

// now is what is kept with the object.
func (s *sink) now() Kept {
	s.f.mu.Lock()
	defer s.f.mu.Unlock()
	kept := s.kept
	kept.Modified = s.f.kept.Modified // what is written anew is as old as that
	if s.f.kept.Mode != 0 {
		kept.Mode = s.f.kept.Mode
	}
	return kept
}

// keepFirst copies the first part to the disk: programs that go back at all mostly go back there.
func (s *sink) keepFirst(p *part) (err error) {
	if s.first, err = s.f.b.scratch(); err != nil {
		return err
	}
	_, err = io.Copy(&ender{work: s.first}, p.loan())
	return err
}

// Patch changes what is in the first part, or in the one that fills.
func (s *sink) Patch(b []byte, off int64) error {
	switch end := off + int64(len(b)); {
	case off >= s.starts:
		return s.filling.patch(b, off-s.starts)
	case s.first != nil && end <= s.first.Size():
		s.patched = true
		_, err := s.first.WriteAt(b, off)
		return err
	}
	return whole.ErrForward
}

func (s *sink) Commit(bool) error {
	if s.upload == nil {
		return s.putWhole()
	}
	if s.filling.size > 0 {
		if err := s.send(); err != nil {
			return err
		}
	}
	s.sending.Wait()
	if err := s.failure(); err != nil {
		return err
	}
	ctx, cancel := s.f.b.writing()
	defer cancel()
	if s.patched {
		if err := s.upload.Part(ctx, 1, io.NewSectionReader(s.first, 0, s.first.Size()), s.first.Size()); err != nil {
			return s.f.b.fault(err)
		}
	}
	if err := s.upload.Complete(ctx); err != nil {
		return s.f.b.fault(err)
	}
	s.upload = nil
	s.f.b.notes.drop(s.note)
	if now := s.now(); now != s.kept && (!now.Modified.IsZero() || now.Mode != s.kept.Mode) { // said after the first part was sent
		if err := s.f.b.d.Keep(ctx, Object{Key: s.f.o.Key, Size: s.sent}, now); err != nil {
			return s.f.b.fault(err)
		}
	}
	return s.done(s.sent)
}

// putWhole sends what fits into one part.
func (s *sink) putWhole() error {
	ctx, cancel := s.f.b.writing()
	defer cancel()
	size := s.filling.size
	body := s.filling.loan()
	defer body.end()
	if err := s.f.b.d.Put(ctx, s.f.o.Key, body, size, s.now()); err != nil {
		return s.f.b.fault(err)
	}
	return s.done(size)
}

// done notes what is under the name now.
func (s *sink) done(size int64) error {
	kept := s.now()
	s.free()
	s.f.mu.Lock()
	defer s.f.mu.Unlock()
	s.f.o = Object{Key: s.f.o.Key, Size: size, Modified: time.Now(), Kept: kept}
	s.f.there = true
	s.f.b.absent.drop(s.f.o.Key)
	return nil
}

// Back gives what was sent by now, while that is but one part.
func (s *sink) Back() (whole.Contents, error) {
	if s.upload == nil {
		return unsent{s.filling}, nil
	}
	return nil, whole.ErrForward
}

// unsent is a part for reading that was not sent; it is let go of by Drop.
type unsent struct{ *part }

func (unsent) Close() error { return nil }

func (s *sink) free() {
	s.stop()
	s.sending.Wait()
	s.filling.free()
	if s.first != nil {
		s.first.Close()
		s.first = nil
	}
}

func (s *sink) Drop() error {
	s.free()
	if s.upload == nil {
		return nil
	}
	upload := s.upload
	s.upload = nil
	ctx, cancel := s.f.b.asking()
	defer cancel()
	if err := upload.Abort(ctx); err != nil { // the note is kept: it is tried again
		s.f.b.log.Warn("an upload that failed is still in the bucket; it is removed later", "store", s.f.b.name, "cause", err)
		s.f.b.later(s.note, note{Key: s.f.o.Key, Upload: upload.ID()})
		return nil
	}
	s.f.b.notes.drop(s.note)
	return nil
}
