package quota

import (
	"errors"
	"io/fs"
	"sync"
	"time"

	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// File is a file that is open for writing, however often. Its size is what it
// was let grow to: never less than what is on the disk.
type File struct {
	l  *Ledger
	id fileID

	// guarded by l.mu:
	spot    Spot
	size    int64
	opens   int
	changes int   // of size and opens
	gone    bool  // it has no name any more; its bytes go with the last close
	taken   int64 // of these, what went with the name already

	cut sync.RWMutex // held by whoever writes, alone by whoever cuts
}

// Open opens a file for writing at a path and follows it until it is closed; new
// says that a name comes about. open gives the opened file's facts, as often as it
// is asked.
func (l *Ledger) Open(spot Spot, new bool, open func() (stat func() (fs.FileInfo, error), err error)) (f *File, err error) {
	follow := func() error {
		stat, err := open()
		if err == nil {
			f, err = l.track(spot, new, stat)
		}
		return err
	}
	if new {
		if err = l.Make(spot, follow); err == nil {
			l.tick(f.id)
		}
		return f, err
	}
	c, err := l.enter(spot)
	if err != nil {
		return nil, err
	}
	defer c.leave()
	defer l.hold(spot)() // it must not be moved between its opening and its being known
	err = follow()
	return f, err
}

// looking is a look at the facts of a file that is to be followed.
type looking struct {
	spot  Spot
	stale bool // a file was let go meanwhile that it may have been
}

// track follows a file until it is let go. The caller holds the names. Of a new file
// nothing can be known yet: what has its identity is one that has just been removed.
func (l *Ledger) track(spot Spot, new bool, stat func() (fs.FileInfo, error)) (*File, error) {
	look := &looking{spot: spot}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.looking[look] = struct{}{}
	defer delete(l.looking, look)
	for {
		look.stale = false
		l.mu.Unlock()
		info, err := stat()
		l.mu.Lock()
		if err != nil {
			return nil, err
		}
		id, names := identify(info, spot)
		f := l.open[id]
		if look.stale && f == nil {
			continue // its size may be another one by now
		}
		if f == nil || new {
			f = &File{l: l, id: id, spot: spot, size: info.Size()}
			if names == 0 { // removed between its opening and now
				f.gone, f.taken = true, f.size
			}
			l.open[id] = f
		}
		f.opens++
		f.changes++
		return f, nil
	}
}

// lastTick is how long the clock of a file system may stand still, maxFreed bounds the numbers that are remembered for so long.
const (
	lastTick = 20 * time.Millisecond
	maxFreed = 1024
)

// freed notes that a file's number is free for another, if the file was changed so lately that the other could have its time too.
// The caller holds mu.
func (l *Ledger) freed(id fileID, info fs.FileInfo) {
	changed, known := store.Changed(info)
	if !known || time.Since(time.Unix(0, changed)) > lastTick {
		return
	}
	if len(l.free) >= maxFreed || l.free == nil {
		l.free = map[fileID]time.Time{}
	}
	l.free[id] = time.Now()
}

// tick waits until a new file that has got the number of one that has just gone can be told from it by its times.
func (l *Ledger) tick(id fileID) {
	l.mu.Lock()
	since, again := l.free[id]
	delete(l.free, id)
	l.mu.Unlock()
	if again && id.spot == (Spot{}) {
		time.Sleep(min(lastTick, lastTick-time.Since(since)))
	}
}

// ErrNever says, as what [File.Close] is told, that the file never came to be whole, so that nothing has its name.
var ErrNever = errors.New("the file never came to be")

// Close ends one opening. stat tells the size on the disk, so that what was
// reserved and not written is given back.
func (f *File) Close(stat func() (fs.FileInfo, error)) {
	if f == nil {
		return
	}
	if c, err := f.enter(); err == nil { // else it is being counted for long, or all ends: the next count will know
		defer c.leave()
	}
	f.let(stat)
}

// let ends one opening.
func (f *File) let(stat func() (fs.FileInfo, error)) {
	if f == nil {
		return
	}
	l := f.l
	l.mu.Lock()
	defer l.mu.Unlock()
	for {
		if f.opens > 1 {
			f.opens--
			return
		}
		var info fs.FileInfo
		var err error
		if !f.gone {
			seen := f.changes
			l.mu.Unlock()
			info, err = stat()
			l.mu.Lock()
			if f.changes != seen || f.opens > 1 {
				continue
			}
		}
		f.last(info, err)
		return
	}
}

// last forgets a file that nobody has open any more; info and err are what was seen of it. The caller holds mu.
func (f *File) last(info fs.FileInfo, err error) {
	f.opens = 0
	if f.l.open[f.id] == f {
		delete(f.l.open, f.id)
	}
	for look := range f.l.looking {
		if look.spot.Store == f.spot.Store && (f.id.spot == (Spot{}) || f.id.spot == look.spot) {
			look.stale = true
		}
	}
	places := f.l.over(f.spot)
	switch {
	case f.gone:
		add(places, f.taken-f.size, 0)
	case errors.Is(err, ErrNever):
		add(places, -f.size, -1)
		f.size = 0
	case err == nil && info.Size() != f.size:
		add(places, info.Size()-f.size, 0)
		f.size = info.Size()
	}
}

// enter is the ledger's for where the file is; it may be moved while one waits.
func (f *File) enter() (*change, error) {
	for {
		f.l.mu.Lock()
		spot := f.spot
		f.l.mu.Unlock()
		c, err := f.l.enter(spot)
		if err != nil {
			return nil, err
		}
		f.l.mu.Lock()
		still := f.spot == spot
		f.l.mu.Unlock()
		if still {
			return c, nil
		}
		c.leave()
	}
}

// Write writes n bytes at an offset, at the file's end when it is negative: it asks
// for room and has as many written as fit. When that is not all of them, the fault
// says so.
func (f *File) Write(offset int64, n int, write func(fits int) (int, error)) (int, error) {
	f.cut.RLock()
	defer f.cut.RUnlock()
	fits, full := f.grow(offset, n)
	if fits == 0 && full != nil {
		return 0, full
	}
	wrote, err := write(fits)
	if err == nil {
		err = full
	}
	return wrote, err
}

// grow makes room, and gives how many of n bytes fit.
func (f *File) grow(offset int64, n int) (fits int, err error) {
	l := f.l
	l.mu.Lock()
	if offset >= 0 && offset+int64(n) <= f.size || l.nested[f.spot.Store] == 0 {
		f.size = max(f.size, f.at(offset)+int64(n))
		f.changes++
		l.mu.Unlock()
		return n, nil
	}
	l.mu.Unlock()
	c, err := f.enter()
	if err != nil {
		return 0, err
	}
	defer c.leave()
	l.mu.Lock()
	defer l.mu.Unlock()
	places := l.over(f.spot)
	at := f.at(offset)
	bytes, _, tightest := room(places)
	end := min(at+int64(n), max(f.size+max(bytes, 0), f.size))
	fits = int(max(0, end-at))
	if fits < n && tightest != nil {
		err = full(tightest.quota.Bytes)
	}
	if fits > 0 && end > f.size {
		add(places, end-f.size, 0)
		f.size = end
		f.changes++
	}
	return fits, err
}

// at is where a write begins. The caller holds mu.
func (f *File) at(offset int64) int64 {
	if offset < 0 {
		return f.size
	}
	return offset
}

// Resize cuts or extends the file by resize, if it fits whole.
func (f *File) Resize(size int64, resize func() error) error {
	l := f.l
	f.cut.Lock()
	defer f.cut.Unlock()
	c, err := f.enter()
	if err != nil {
		return err
	}
	defer c.leave()
	l.mu.Lock()
	f.changes++
	places := l.over(f.spot)
	more := size - f.size
	if bytes, _, tightest := room(places); more > 0 && tightest != nil && more > bytes {
		l.mu.Unlock()
		return full(tightest.quota.Bytes)
	}
	if more > 0 {
		add(places, more, 0)
		f.size = size
	}
	l.mu.Unlock()
	err = resize()
	l.mu.Lock()
	defer l.mu.Unlock()
	f.changes++
	if err == nil && more < 0 {
		add(l.over(f.spot), more, 0)
		f.size = size
	}
	if err != nil && more > 0 {
		add(l.over(f.spot), -more, 0)
		f.size -= more
	}
	return err
}

// Fits refuses a file of so many bytes at a path that could not be whole, where
// what is there now has so many.
func (l *Ledger) Fits(spot Spot, bytes, now int64) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if free, _, tightest := room(l.over(spot)); tightest != nil && bytes-now > free {
		return keep.Refuse(keep.QuotaFull, "the file does not fit: of the quota of "+keep.SaySize(int64(tightest.quota.Bytes))+" there are "+keep.SaySize(max(0, free))+" left")
	}
	return nil
}

// FitsAll refuses so many bytes in so many new files and folders at a path that could not all come there.
func (l *Ledger) FitsAll(spot Spot, bytes, files int64) error {
	if err := l.Fits(spot, bytes, 0); err != nil {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if _, free, _ := room(l.over(spot)); files > free {
		return errFilesFull
	}
	return nil
}
