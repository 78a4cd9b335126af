package quota

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// Spot is a path in a store.
type Spot = keep.Spot

// Ledger counts what the places hold.
//
// Every change of what is in a store happens between enter and leave; who needs a
// store to stand still enters it alone. No store and no database is asked anything
// while the lock of the books is held: one that does not answer holds up nobody else.
type Ledger struct {
	db     *records.DB
	log    *slog.Logger
	stores func(ctx context.Context) ([]keep.Store, error)
	told   func(Difference)
	look   Looker

	changes atomic.Uint64 // counts what was changed, from a time on that no other process had

	mu     sync.Mutex // guards what follows; held for moments only
	places map[Spot]*place
	nested map[string]int // how many places a store has
	below  map[Spot]int   // how many lie below a folder
	open   map[fileID]*File
	free   map[fileID]time.Time // numbers of files that have just gone

	running map[*change]struct{}
	alone   map[string]*change     // who has a store alone, or waits for that
	still   map[string]error       // why nothing changes in a store
	touched *Touched               // nil: nobody wants to know
	looking map[*looking]struct{}  // files that are about to be followed
	walks   map[string]*sync.Mutex // of each store: one count at a time
	pending map[string][]*place    // of each store: to be counted, by one goroutine that ends when none is left

	quit chan struct{}
	work sync.WaitGroup
}

// place is one folder with a quota.
type place struct {
	spot    Spot
	quota   keep.Quota
	bytes   int64
	files   int64
	names   sync.Mutex    // held while a name comes, goes or moves; see [Ledger.hold]
	known   chan struct{} // closed when bytes and files are right
	noting  chan struct{} // closed when the records are written, which is being done; nil: it is not
	settled bool          // the records have bytes and files
	unknown bool          // it could not be counted, so bytes and files are not right
	changed time.Time
	counted time.Time
}

// Difference is what counting found that the ledger did not know.
type Difference struct {
	Spot                                         Spot
	BytesBefore, FilesBefore, BytesNow, FilesNow int64
}

// Differs reports whether the count was wrong.
func (d Difference) Differs() bool { return d.BytesBefore != d.BytesNow || d.FilesBefore != d.FilesNow }

// String says what differs.
func (d Difference) String() string {
	return fmt.Sprintf("%d bytes in %d files were known, %d bytes in %d files are there", d.BytesBefore, d.FilesBefore, d.BytesNow, d.FilesNow)
}

const (
	// settleAfter is how long a place must be quiet before it is written down.
	settleAfter = 5 * time.Second
	// maxWait bounds how long anybody waits for a place to be counted.
	maxWait = 30 * time.Second
	// recountEvery is how often every place is counted anew: files may be changed
	// behind the service's back.
	recountEvery = 24 * time.Hour
	// recountSoon is when one is counted again that could not be.
	recountSoon = time.Minute
)

// Unlimited is a ledger without any place: everything fits.
func Unlimited() *Ledger {
	l := &Ledger{places: map[Spot]*place{}, nested: map[string]int{}, below: map[Spot]int{}, open: map[fileID]*File{},
		running: map[*change]struct{}{}, alone: map[string]*change{}, still: map[string]error{}, looking: map[*looking]struct{}{},
		walks: map[string]*sync.Mutex{}, pending: map[string][]*place{}}
	l.changes.Store(uint64(time.Now().UnixNano()))
	return l
}

// Changes is another number after each change of what is in any store, and after each start.
func (l *Ledger) Changes() uint64 { return l.changes.Load() }

// Writing reports whether a file of a disk is open for writing.
func (l *Ledger) Writing(info fs.FileInfo) bool {
	if _, known := store.Number(info); !known {
		return false
	}
	id, _ := identify(info, Spot{})
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.open[id] != nil
}

// Looker opens a folder of a store when it is there.
type Looker func(s keep.Store, folder string) (store.Folder, error)

// Open makes a ledger; Arrange gives it its places. told hears of differences that
// counting finds.
func Open(db *records.DB, look Looker, log *slog.Logger, told func(Difference)) *Ledger {
	l := Unlimited()
	l.db, l.look, l.log, l.stores, l.told = db, look, log, db.Stores, told
	l.quit = make(chan struct{})
	l.work.Go(l.keepBooks)
	return l
}

// Close writes down what the places hold. Nothing may change any more.
func (l *Ledger) Close() {
	close(l.quit)
	l.work.Wait()
	l.settle(0)
}

// Arrange says which folders have which quotas now; others have none.
func (l *Ledger) Arrange(ctx context.Context, limits map[Spot]keep.Quota) error {
	limits = maps.Clone(limits)
	l.mu.Lock()
	for spot := range l.places {
		if _, stays := limits[spot]; !stays {
			limits[spot] = keep.Quota{}
		}
	}
	l.mu.Unlock()
	return l.Rearrange(ctx, limits)
}

// Rearrange changes the quotas of some folders; a folder that is given none has none from now on. Only one such
// call may run at a time.
func (l *Ledger) Rearrange(ctx context.Context, limits map[Spot]keep.Quota) error {
	var fresh []Spot
	l.mu.Lock()
	for spot, quota := range limits {
		if l.places[spot] == nil && quota.Limited() {
			fresh = append(fresh, spot)
		}
	}
	l.mu.Unlock()
	settled, err := l.settled(ctx, fresh)
	if err != nil {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	var gone []*place
	for spot, quota := range limits {
		switch p := l.places[spot]; {
		case p == nil:
		case quota.Limited():
			p.quota = quota
		default:
			gone = append(gone, p)
		}
	}
	if err := l.drop(gone); err != nil {
		return err
	}
	for _, spot := range fresh {
		p := &place{spot: spot, quota: limits[spot], known: make(chan struct{})}
		l.places[spot] = p
		l.nest(spot, +1)
		if r, ok := settled[spot]; ok && r.Settled {
			p.bytes, p.files, p.settled, p.counted = r.Bytes, r.Files, true, time.UnixMicro(r.Counted)
			close(p.known)
			continue
		}
		l.ask(p)
	}
	return nil
}

// drop forgets places, which change unseen from now on. The caller holds mu.
func (l *Ledger) drop(places []*place) error {
	for n := 0; n < len(places); n++ {
		if noting := places[n].noting; noting != nil {
			l.mu.Unlock()
			<-noting
			l.mu.Lock()
			n = -1 // the ones before may be noted again
		}
	}
	settled := slices.DeleteFunc(slices.Clone(places), func(p *place) bool { return !p.settled })
	return l.note(places, func() error { return l.unsettle(settled) }, func(p *place) {
		delete(l.places, p.spot)
		l.nest(p.spot, -1)
	})
}

// manyPlaces is from how many on it is quicker to read what was settled of all places.
const manyPlaces = 100

// settled gives what was written down of places.
func (l *Ledger) settled(ctx context.Context, spots []Spot) (map[Spot]records.Place, error) {
	var known []records.Place
	var err error
	if len(spots) > manyPlaces {
		known, err = l.db.Places(ctx)
	} else {
		for _, spot := range spots {
			some, wrong := l.db.PlaceAt(ctx, spot.Store, spot.Path)
			known, err = append(known, some...), errors.Join(err, wrong)
		}
	}
	found := map[Spot]records.Place{}
	for _, p := range known {
		found[Spot{Store: p.Store, Path: p.Folder}] = p
	}
	return found, err
}

// nest counts a place that comes or goes. The caller holds mu.
func (l *Ledger) nest(spot Spot, by int) {
	l.nested[spot.Store] += by
	for at := spot.Path; at != "."; {
		at = path.Dir(at)
		above := Spot{Store: spot.Store, Path: at}
		if l.below[above] += by; l.below[above] == 0 {
			delete(l.below, above)
		}
	}
}

// ask has a place counted. The caller holds mu.
func (l *Ledger) ask(p *place) {
	waiting, counts := l.pending[p.spot.Store]
	l.pending[p.spot.Store] = append(waiting, p)
	if !counts {
		l.work.Go(func() { l.count(p.spot.Store) })
	}
}

// Doubt has every place counted anew, in the background: what was written down of them may
// be from before the end of the power.
func (l *Ledger) Doubt() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, p := range l.places {
		select {
		case <-p.known:
			l.ask(p)
		default: // is asked for
		}
	}
}

// Tighter is the quota that keeps to both; zero is no limit.
func Tighter(a, b keep.Quota) keep.Quota {
	return keep.Quota{Bytes: smaller(a.Bytes, b.Bytes), Files: smaller(a.Files, b.Files)}
}

func smaller[T keep.Bytes | keep.Count](a, b T) T {
	if a == 0 || b != 0 && b < a {
		return b
	}
	return a
}

// Nested reports whether a place lies below a folder of a store, so that where a
// path really leads makes a difference to what is counted.
func (l *Ledger) Nested(folder Spot) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.below[folder] > 0
}

// Holds reports whether a place lies at a path or below it: moving that would
// move the place away from its quota.
func (l *Ledger) Holds(spot Spot) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.places[spot] != nil || l.below[spot] > 0
}

// within reports whether a relative path is a folder or below it.
func within(folder, at string) bool {
	return folder == "." || at == folder || len(at) > len(folder) && at[:len(folder)] == folder && at[len(folder)] == '/'
}

// over lists the places that hold an entry: those of the folders above it. The
// caller holds mu.
func (l *Ledger) over(spot Spot) []*place {
	if l.nested[spot.Store] == 0 {
		return nil
	}
	var found []*place
	for at := spot.Path; at != "."; {
		at = path.Dir(at)
		if p := l.places[Spot{Store: spot.Store, Path: at}]; p != nil {
			found = append(found, p)
		}
	}
	return found
}

// hold keeps the names in the places of paths to the caller: what is at a path
// stays there between a look and a change. It locks the outermost places only, in
// the order of their paths.
func (l *Ledger) hold(spots ...Spot) (release func()) {
	l.mu.Lock()
	var outer []*place
	for _, spot := range spots {
		if over := l.over(spot); len(over) > 0 && !slices.Contains(outer, over[len(over)-1]) {
			outer = append(outer, over[len(over)-1])
		}
	}
	l.mu.Unlock()
	slices.SortFunc(outer, func(a, b *place) int {
		return strings.Compare(a.spot.Store+"/"+a.spot.Path, b.spot.Store+"/"+b.spot.Path)
	})
	for _, p := range outer {
		p.names.Lock()
	}
	return func() {
		for _, p := range outer {
			p.names.Unlock()
		}
	}
}

// room is how many bytes and names fit into all the places; negative is none at
// all. The caller holds mu.
func room(places []*place) (bytes, files int64, tightest *place) {
	bytes, files = maxBytes, maxBytes
	for _, p := range places {
		most := int64(p.quota.Bytes)
		if most == 0 || most > maxBytes {
			most = maxBytes // however much a quota allows, the books must hold it
		}
		if most-p.bytes < bytes || tightest == nil {
			bytes, tightest = most-p.bytes, p
		}
		if p.quota.Files > 0 {
			files = min(files, int64(p.quota.Files)-p.files)
		}
	}
	return bytes, files, tightest
}

// MaxFile is the largest file that is taken, bytes (8 PiB): more than file systems hold
// that anybody has, and little enough that sums of files can't wrap around.
const MaxFile = 1 << 53

// maxBytes is the most that the books of one folder hold; sums stop there.
const maxBytes = 1 << 62

// CheckEnd refuses to write n bytes at an offset where no file may reach.
func CheckEnd(offset, n int64) error {
	if offset > MaxFile || max(offset, 0)+n > MaxFile {
		return keep.Refuse(keep.TooLarge, "a file can't be larger than 8 PiB here")
	}
	return nil
}

// more adds two amounts, which stop at the most that the books hold.
func more(a, b int64) int64 { return min(a+min(b, maxBytes), maxBytes) }

func full(bytes keep.Bytes) *keep.Fault {
	return keep.Refuse(keep.QuotaFull, fmt.Sprintf("the quota of %s is used up; what fits is kept", keep.SaySize(int64(bytes))))
}

var errFilesFull = keep.Refuse(keep.QuotaFull, "the quota of files is used up: remove some first")

func add(places []*place, bytes, files int64) {
	for _, p := range places {
		p.bytes = more(p.bytes, bytes)
		p.files += files
	}
}

// Use is what a place holds.
type Use struct {
	Store, Folder string
	Quota         keep.Quota
	Used          keep.Quota
	Counted       time.Time // zero: never
	Counting      bool      // Used is not yet known
}

func (p *place) use() Use {
	u := Use{Store: p.spot.Store, Folder: p.spot.Path, Quota: p.quota, Used: keep.Quota{Bytes: keep.Bytes(p.bytes), Files: keep.Count(p.files)}, Counted: p.counted}
	select {
	case <-p.known:
	default:
		u.Counting = true
	}
	return u
}

// Uses tells of every place.
func (l *Ledger) Uses() []Use {
	l.mu.Lock()
	defer l.mu.Unlock()
	found := make([]Use, 0, len(l.places))
	for _, p := range l.places {
		found = append(found, p.use())
	}
	return found
}

// Over tells of the places that hold what lies in a folder, the folder's own first.
func (l *Ledger) Over(folder Spot) []Use {
	l.mu.Lock()
	defer l.mu.Unlock()
	var found []Use
	for _, p := range l.over(Spot{Store: folder.Store, Path: path.Join(folder.Path, "x")}) {
		found = append(found, p.use())
	}
	return found
}

// settle writes down the places that have been quiet for so long.
func (l *Ledger) settle(quiet time.Duration) {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := time.Now()
	busy := map[*place]bool{}
	mark := func(spot Spot) {
		for _, p := range l.over(spot) {
			busy[p] = true
		}
	}
	for _, f := range l.open {
		mark(f.spot)
	}
	for c := range l.running {
		for _, spot := range c.spots {
			mark(spot)
		}
	}
	var rows []records.Place
	var settling []*place
	for _, p := range l.places {
		select {
		case <-p.known:
		default:
			continue
		}
		if !p.settled && !p.unknown && p.noting == nil && !busy[p] && now.Sub(p.changed) >= quiet {
			rows = append(rows, records.Place{Store: p.spot.Store, Folder: p.spot.Path, Bytes: p.bytes, Files: p.files, Settled: true, Counted: p.counted.UnixMicro()})
			settling = append(settling, p)
		}
	}
	if len(rows) == 0 {
		return
	}
	if err := l.note(settling, func() error { return l.db.SettlePlaces(context.Background(), rows, now) }, func(p *place) { p.settled = true }); err != nil {
		l.log.Error("what the places hold was not written down", "cause", err)
	}
}

// keepBooks settles what is quiet, and has every place counted anew once a day.
func (l *Ledger) keepBooks() {
	tick := time.NewTicker(settleAfter)
	defer tick.Stop()
	for {
		select {
		case <-l.quit:
			return
		case now := <-tick.C:
			l.settle(settleAfter)
			l.mu.Lock()
			for _, p := range l.places {
				select {
				case <-p.known:
					if now.Sub(p.counted) > recountEvery {
						p.counted = now // asked for
						l.ask(p)
					}
				default:
				}
			}
			l.mu.Unlock()
		}
	}
}
