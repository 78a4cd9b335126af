package service

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/dav"
	"urbankeep/internal/protocol/exchange"
)

var (
	deedHistories = flag.Int("deed-histories", 250, "random histories of deeds that are held against the model")
	deedSeed      = flag.Uint64("deed-seed", 0, "repeats a run; 0: a new one")
)

// history is one random history.
type history struct {
	t       *testing.T
	s       *Service
	server  *dav.Server
	db      *sqlx.DB
	dir     string // of both stores
	root    string // the folder of this history in each
	r       *rand.Rand
	injury  *injury
	who     []*someone
	acts    *someone
	story   []string
	content int
	did     map[string]int
	harmed  bool // something has failed in between, or was cut off
	limited keep.Spot
	asks    map[string]*sqlx.Stmt
	seen    world // how it was left by the deed before
	hidden  []string
}

func (h *history) Arrive(address string, encrypted bool, cut func(*keep.Fault)) dav.Visit {
	return arrived{davVisit{h.s.door.arriveFrom(address, keep.WebDAV, encrypted, cut)}, h}
}

// arrived lets anybody in.
type arrived struct {
	davVisit
	h *history
}

func (v arrived) SignIn(ctx context.Context, account string, _ keep.Secret) (*tree.Tree, time.Time, error) {
	holder, err := v.door.db.Holder(ctx, account)
	if err != nil {
		return nil, time.Time{}, err
	}
	opened, err := v.enter(ctx, holder.Account)
	return opened, time.Time{}, err
}

// now is the world as it is; hidden are names that only the service sees.
func (h *history) now() (w world, hidden []string) {
	w = world{map[string]string{}, map[string]string{}, map[string]string{}, h.nowHeld()}
	for _, name := range []string{"files", "other"} {
		base := filepath.Join(h.dir, name)
		require.NoError(h.t, filepath.WalkDir(filepath.Join(base, h.root), func(file string, e fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			rel, _ := filepath.Rel(base, file)
			spot := name + ":" + filepath.ToSlash(rel)
			if strings.HasPrefix(e.Name(), ".urbankeep-") {
				if h.s.holds.byID[strings.TrimPrefix(e.Name(), store.HeldPrefix)] == nil && !strings.HasPrefix(e.Name(), store.BinPrefix) {
					hidden = append(hidden, spot)
				}
				if e.IsDir() {
					return fs.SkipDir
				}
				return nil
			}
			switch {
			case e.IsDir():
				w.files[spot] = "d"
			case e.Type()&fs.ModeSymlink != 0:
				target, _ := os.Readlink(file)
				w.files[spot] = "l:" + target
			default:
				text, _ := os.ReadFile(file)
				w.files[spot] = "f:" + string(text)
			}
			return nil
		}))
	}
	rows := func(query string, into map[string]string) {
		var found []struct{ Spot, Is string }
		if h.asks[query] == nil {
			ask, err := h.db.Preparex(query)
			require.NoError(h.t, err)
			h.asks[query] = ask
		}
		require.NoError(h.t, h.asks[query].Select(&found, h.root, h.root+"/%"))
		for _, one := range found {
			if strings.Contains(one.Spot, store.BinPrefix) {
				continue // it goes along into the bin
			}
			if _, value, is := strings.Cut(one.Is, ">"); is { // of a property
				one.Is, _, _ = strings.Cut(value, "<")
			}
			into[one.Spot] = one.Is
		}
	}
	rows(`SELECT store || ':' || path AS spot, value AS "is" FROM dav_property WHERE path = ? OR path LIKE ?`, w.props)
	rows(`SELECT store || ':' || path AS spot, account.name AS "is" FROM dav_lock JOIN account ON account.id = account_id WHERE path = ? OR path LIKE ?`, w.locks)
	return w, hidden
}

func (h *history) fail(format string, args ...any) {
	h.t.Helper()
	h.t.Fatalf("%s\nthe history:\n%s\ngrants: %v %v", fmt.Sprintf(format, args...), strings.Join(h.story, "\n"), h.who[0].grants, h.who[1].grants)
}

// ask sends a request to WebDAV as whoever acts.
func (h *history) ask(method, at, body string, headers ...string) int {
	request := httptest.NewRequest(method, "/dav"+escaped(at), strings.NewReader(body))
	request.SetBasicAuth(h.acts.name, "secret")
	if len(h.acts.tokens) > 0 {
		request.Header.Set("If", "(<"+strings.Join(h.acts.tokens, ">) (<")+">) (Not <urn:none>)")
	}
	for i := 0; i+1 < len(headers); i += 2 {
		request.Header.Set(headers[i], headers[i+1])
	}
	response := httptest.NewRecorder()
	h.server.ServeHTTP(response, request)
	if token := response.Header().Get("Lock-Token"); token != "" {
		h.acts.tokens = append(h.acts.tokens, strings.Trim(token, "<>"))
	}
	return response.Code
}

func escaped(at string) string { return (&url.URL{Path: at}).EscapedPath() }

// passed is a lock of somebody else that a deed has passed.
func (h *history) passed(before world, d deed) string {
	if !d.dav {
		return ""
	}
	for spot, owner := range before.locks {
		if owner == h.acts.name {
			continue
		}
		if slices.Contains(d.hits, spot) && spot != "" || slices.ContainsFunc(d.deep, func(top string) bool { return in(spot, top) }) {
			return spot
		}
	}
	return ""
}

// one does one random deed and holds what came of it against the model.
func (h *history) one() {
	h.acts = h.who[h.r.IntN(2)]
	before, hiddenBefore := h.seen, h.hidden
	if before.files == nil {
		before, hiddenBefore = h.now()
	}
	d := h.some(before)
	*h.injury = injury{left: -1}
	if h.r.IntN(4) == 0 {
		*h.injury = injury{left: h.r.IntN(10), kills: h.r.IntN(2) == 0}
	}
	err := d.do()
	hurt, killed := h.injury.hurt, h.injury.dead
	*h.injury = injury{left: -1}
	h.story = append(h.story, fmt.Sprintf("%s: %s: %v (hurt %t, killed %t)", h.acts.name, d.says, err, hurt, killed))
	if hurt {
		h.mendAll()
	}
	after, hidden := h.now()
	h.seen, h.hidden = after, hidden
	should := before.clone()
	d.then(should)
	if err != nil && !hurt && (strings.Contains(err.Error(), "500") || keep.FaultOf(err).Reason == keep.Failure && !strings.HasPrefix(err.Error(), "answered")) {
		h.fail("the service failed")
	}
	switch {
	case err == nil && !hurt:
		if no := d.need(before); no != "" {
			h.fail("it was done, and lacks %s", no)
		}
		if at := h.passed(before, d); at != "" {
			h.fail("it has passed the lock on %s", at)
		}
		if !after.equal(should) {
			h.fail("it is not as it should be afterwards:\n%s", should.differs(after))
		}
		h.did[strings.Fields(d.says)[0]]++
	case after.equal(before), hurt && after.equal(should):
	case hurt && !heldSafe(before, after, should):
		h.fail("it has lost what is held")
	case hurt && d.part && h.partly(before, after, should):
	case hurt && h.both(before, after, should):
	default:
		h.fail("it was not done, and is not as before:\n%s", before.differs(after))
	}
	h.harmed = h.harmed || hurt
	if h.partsLie(hidden); !hurt && len(hidden) > len(hiddenBefore) && !strings.HasPrefix(d.says, "half") {
		h.fail("something is left that nobody sees: %v", hidden)
	}
}

// partly reports whether what is there is some of what was to go.
func (h *history) partly(before, after, should world) bool {
	for at, is := range before.files {
		if _, stays := should.files[at]; stays && after.files[at] != is {
			return false
		}
	}
	for at, is := range after.files {
		if before.files[at] != is {
			return false
		}
	}
	return true
}

// both reports whether everything is where it was, and some of it where it should be too: properties may not have come along yet.
func (h *history) both(before, after, should world) bool {
	for at, is := range before.files {
		if after.files[at] != is && should.files[at] != after.files[at] {
			return false
		}
		if _, still := should.files[at]; !still && after.files[at] != is && after.files[at] != "" {
			return false
		}
	}
	for at, is := range after.files {
		if before.files[at] != is && should.files[at] != is {
			return false
		}
	}
	// Nothing is lost: each content is somewhere.
	have := slices.Collect(maps.Values(after.files))
	for at, is := range before.files {
		if _, goes := should.files[at]; goes && !slices.Contains(have, is) && should.files[at] == is {
			return false
		}
	}
	return true
}

// half leaves an upload that is not whole, which somebody may go on with.
func (h *history) half(at string) error {
	ctx, t := h.t.Context(), h.acts.stay.Tree
	u := keep.PartialUpload{ID: fmt.Sprintf("%s%d", h.root, h.content), Path: at, Size: 100, Replaces: true, Created: time.Now(), Touched: time.Now()}
	if err := t.MayOpen(at, exchange.OpenMode(u, 0)); err != nil {
		return err
	}
	err := t.AtPlace(at, true, func(lies tree.Place) error {
		u.Path, u.Store, u.Folder = lies.Path, lies.Spot.Store, lies.Spot.Folder().Path
		return h.acts.visit.SaveUpload(ctx, u, true)
	})
	if err != nil {
		return err
	}
	f, err := t.Open(u.Path, exchange.OpenMode(u, 0))
	if err != nil {
		return errors.Join(err, h.s.door.drop(ctx, u))
	}
	_, err = f.WriteAt(make([]byte, 50), 0)
	f.Abort(keep.Refuse(keep.ClientGone, "it left"))
	return err
}

// halves are the unfinished uploads of both, by the spot where each must lie.
func (h *history) halves() (all []keep.PartialUpload) {
	for _, a := range h.who {
		some, err := a.visit.Uploads(h.t.Context())
		require.NoError(h.t, err)
		all = append(all, some...)
	}
	return all
}

// partsLie holds the unfinished uploads against what lies where nobody sees it.
func (h *history) partsLie(hidden []string) {
	for _, u := range h.halves() {
		spot := u.Store + ":" + path.Join(u.Folder, store.PartPrefix+u.ID)
		if _, err := os.Stat(filepath.Join(h.dir, strings.Replace(spot, ":", "/", 1))); err != nil && !h.harmed {
			h.fail("an unfinished upload does not lie where it should: %s", spot)
		}
	}
	for _, spot := range hidden {
		if id, is := strings.CutPrefix(path.Base(spot), store.PartPrefix); is && !slices.ContainsFunc(h.halves(), func(u keep.PartialUpload) bool { return u.ID == id }) {
			h.fail("%s is nobody's", spot)
		}
	}
}

// mendAll is what the next start does.
func (h *history) mendAll() {
	deeds, err := h.s.DB.Deeds(h.t.Context())
	require.NoError(h.t, err)
	if left := h.s.mend(h.t.Context(), deeds, true); len(left) > 0 {
		h.fail("%v can't be put right", left)
	}
	h.s.door.begun = time.Now().Add(time.Second)
	h.s.door.dropLeftUploads(h.t.Context())
	_, hidden := h.now()
	for _, spot := range hidden {
		if name := path.Base(spot); strings.HasPrefix(name, store.AsidePrefix) || strings.HasPrefix(name, store.StagePrefix) {
			h.fail("%s is left after a start", spot)
		}
	}
}

// TestWhateverIsDoneEveryByteIsWhereTheModelSays does random deeds of two accounts whose trees overlap, over WebDAV and as by SFTP,
// with links, mounts of two stores and rights, stores that fail and the end of the process at a random step; and holds the disk,
// the properties and the locks against a slow model after each.
func TestWhateverIsDoneEveryByteIsWhereTheModelSays(t *testing.T) {
	base := "/dev/shm"
	if _, err := os.Stat(base); err != nil {
		base = ""
	}
	dir, err := os.MkdirTemp(base, "uk")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	log := slog.New(slog.DiscardHandler)
	s, err := Open(t.Context(), Options{Dir: filepath.Join(dir, "data"), Log: log})
	require.NoError(t, err)
	t.Cleanup(func() { s.Stop(context.Background()) })
	for _, name := range []string{"files", "other"} {
		folder := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(folder, 0o750))
		one := keep.Store{Name: name, Kind: keep.Disk, Folder: folder, Durability: keep.Process}
		one.Mark, err = s.Stores.Mark(one)
		require.NoError(t, err)
		require.NoError(t, s.DB.SaveStore(t.Context(), one))
	}
	db, err := sqlx.Open("sqlite", "file:"+filepath.Join(dir, "data", "urbankeep.db"))
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	seed := *deedSeed
	if seed == 0 {
		seed = uint64(time.Now().UnixNano())
	}
	t.Log("seed", seed)
	did, asks := map[string]int{}, map[string]*sqlx.Stmt{}
	began := time.Now()
	for n := range *deedHistories {
		h := &history{t: t, s: s, db: db, dir: dir, root: fmt.Sprintf("h%d", n), r: rand.New(rand.NewPCG(seed, uint64(n))), injury: &injury{left: -1}, did: did, asks: asks}
		h.story = append(h.story, fmt.Sprintf("-deed-seed %d, history %d", seed, n))
		h.begin()
		for range 12 {
			h.one()
		}
		h.end()
	}
	t.Log(*deedHistories, "histories in", time.Since(began), did)
	for _, what := range []string{"MOVE", "COPY", "DELETE", "PUT", "MKCOL", "LOCK", "PROPPATCH", "rename", "remove", "link", "half", "hold", "rename-held", "drop-held", "say-yes", "say-no"} {
		require.Positive(t, did[what], what) // more is chance
	}
}

// begin plants a small world and lets both in.
func (h *history) begin() {
	ctx := h.t.Context()
	for _, folder := range []string{"files/" + h.root + "/one", "files/" + h.root + "/shared", "files/" + h.root + "/checked/a", "files/" + h.root + "/checked/s", "other/" + h.root} {
		require.NoError(h.t, os.MkdirAll(filepath.Join(h.dir, folder), 0o750))
	}
	for range 12 {
		at := filepath.Join(h.dir, []string{"files/" + h.root + "/one", "files/" + h.root + "/one", "files/" + h.root + "/shared", "other/" + h.root}[h.r.IntN(4)], h.somePath())
		h.content++
		switch h.r.IntN(5) {
		case 0:
			os.MkdirAll(at, 0o750)
		case 1:
			os.MkdirAll(filepath.Dir(at), 0o750)
			os.Symlink([]string{"a", "../b", "../a/b", ".", "../c"}[h.r.IntN(5)], at)
		default:
			os.MkdirAll(filepath.Dir(at), 0o750)
			os.WriteFile(at, fmt.Appendf(nil, "content %d", h.content), 0o640)
		}
	}
	if h.r.IntN(2) == 0 {
		h.limited = keep.Spot{Store: "files", Path: h.root + []string{"/shared", "/one", ""}[h.r.IntN(3)]}
		quota := keep.Quota{Bytes: keep.Bytes(150 + h.r.IntN(300)), Files: keep.Count(10 + h.r.IntN(20))}
		require.NoError(h.t, h.s.ledger.Rearrange(ctx, map[keep.Spot]keep.Quota{h.limited: quota}))
	}
	door := h.s.door
	door.open = func(s keep.Store, folder string) (store.Folder, int, error) {
		f, made, err := h.s.Stores.Open(s, folder)
		if err != nil {
			return nil, 0, err
		}
		return frail{f, h.injury, s.Name}, made, nil
	}
	door.hangs = frailHangs{hangs{h.s.DB, door}, h.injury}
	h.server = &dav.Server{Keeper: h, Told: func(*http.Request) bool { return true }, Log: slog.New(slog.DiscardHandler)}
	h.server.Prepare()
	week := keep.Seconds(7 * 24 * 3600)
	for n, mounts := range []map[string]string{{"/": "files:" + h.root + "/one", "/s": "files:" + h.root + "/shared", checked: "files:" + h.root + "/checked", "/o": "other:" + h.root},
		{"/": "files:" + h.root, checked: "files:" + h.root + "/checked", "/o": "other:" + h.root}} {
		a := &someone{name: fmt.Sprintf("%s-%d", h.root, n), mounts: mounts, grants: []keep.Grant{{Path: "/", Rights: keep.Full}}, bin: n == 1 && h.r.IntN(2) == 0}
		for range h.r.IntN(3) {
			g := keep.Grant{Path: h.somePath(), Rights: keep.Rights(h.r.IntN(int(keep.Full) + 1))}
			if h.r.IntN(3) == 0 {
				g.Rights = keep.List | keep.Download
			}
			if h.r.IntN(2) == 0 { // where uploads are held, and what they may replace
				g = keep.Grant{Path: path.Join(checked, []string{"a", "s"}[h.r.IntN(2)]), Rights: keep.Full &^ keep.Rights(h.r.IntN(2)*int(keep.Overwrite))}
			}
			a.grants = append(a.grants, g)
		}
		account := &keep.Account{Name: a.name, State: keep.StateActive, Grants: a.grants}
		for at, spot := range mounts {
			name, folder, _ := strings.Cut(spot, ":")
			mount := keep.Mount{At: at, Store: name, Folder: folder}
			if at == checked {
				mount.Check = &keep.Check{Receiver: "scanner", Refused: []string{"", "no"}[h.r.IntN(2)]}
			}
			account.Mounts = append(account.Mounts, mount)
		}
		if a.bin {
			account.Settings.BinTime = &week
		}
		require.NoError(h.t, h.s.DB.AddAccount(ctx, account))
		holder, err := h.s.DB.Holder(ctx, a.name)
		require.NoError(h.t, err)
		visit := h.s.door.arriveFrom("127.0.0.1", keep.SFTP, true, func(*keep.Fault) {})
		opened, err := visit.enter(ctx, holder.Account)
		require.NoError(h.t, err)
		a.visit, a.stay = davVisit{visit}, &exchange.Stay{Tree: opened}
		h.who = append(h.who, a)
	}
}

// end looks once more, and lets both out.
func (h *history) end() {
	h.server.Close()
	h.endHeld()
	if h.limited != (keep.Spot{}) {
		d, err := h.s.ledger.Recount(h.limited)
		require.NoError(h.t, err)
		if d.Differs() && !h.harmed {
			h.fail("the books of %s are wrong: %s", h.limited, d)
		}
		require.NoError(h.t, h.s.ledger.Rearrange(h.t.Context(), map[keep.Spot]keep.Quota{h.limited: {}}))
	}
	for _, u := range h.halves() {
		require.NoError(h.t, h.s.door.drop(h.t.Context(), u))
	}
	if _, hidden := h.now(); len(hidden) > 0 {
		h.fail("nothing is under way, and something is left that nobody sees: %v", hidden)
	}
	for _, a := range h.who {
		a.stay.Tree.Close()
		a.visit.SignOut(nil)
	}
	h.s.door.fresh.Close()
	var binned []keep.Binned
	for _, a := range h.who {
		holder, err := h.s.DB.Holder(h.t.Context(), a.name)
		require.NoError(h.t, err)
		some, err := h.s.DB.Bin(h.t.Context(), holder.Account.ID)
		require.NoError(h.t, err)
		binned = append(binned, some...)
	}
	for _, b := range binned {
		if _, err := os.Lstat(filepath.Join(h.dir, b.Store, b.In, store.BinPrefix+b.ID)); err != nil {
			h.fail("what is in the bin is not there: %+v: %v", b, err)
		}
	}
}
