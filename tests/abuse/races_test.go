package abuse_test

import (
	"encoding/binary"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/sftptalk"
)

var raceFor = flag.Duration("race-for", 20*time.Second, "how long each race is run")

// rename asks for SFTP's own rename, which never replaces, and says whether it was done.
func rename(r *sftptalk.Talk, from, to string) bool {
	return r.Status(sftptalk.FxpRename, sftptalk.Str(from), sftptalk.Str(to)) == sftptalk.FxOK
}

// readAll is what a path holds, "" when it can't be opened.
func readAll(r *sftptalk.Talk, at string) string {
	got, handle := r.Ask(sftptalk.FxpOpen, sftptalk.Str(at), sftptalk.U32(sftptalk.FxfRead), sftptalk.NoAttrs())
	if got != sftptalk.FxpHandle {
		return ""
	}
	text := r.Read(handle, 0, 100)
	r.Status(sftptalk.FxpClose, handle)
	return text
}

// Sessions of one account swap a name between a folder of their own and a link to one in
// which the account has no rights, while others use the name in every way there is.
// Nothing in the closed folder is read, told, changed or added to.
func TestNoRaceLeadsIntoAFolderWithoutRights(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-grant", "/=full", "-grant", "/secret=none")
	secret := filepath.Join(k.Home("ann"), "secret")
	require.NoError(t, os.MkdirAll(filepath.Join(secret, "in"), 0o750))
	const hidden = "what nobody may read, of a size of its own"
	for _, name := range []string{"f", "in/f", "only-here"} {
		require.NoError(t, os.WriteFile(filepath.Join(secret, name), []byte(hidden), 0o640))
	}
	var tries atomic.Int64
	found := func(what string) { t.Errorf("%s, after %d tries", what, tries.Load()) }
	modes := map[string]func(r *sftptalk.Talk, x string){
		"read": func(r *sftptalk.Talk, x string) {
			if text := readAll(r, x+"/f"); strings.Contains(text, "nobody") {
				found("the file was read")
			}
		},
		"stat": func(r *sftptalk.Talk, x string) {
			if got, body := r.Ask(sftptalk.FxpStat, sftptalk.Str(x+"/f")); got == sftptalk.FxpAttrs && binary.BigEndian.Uint64(body[4:]) == uint64(len(hidden)) {
				found("its size was told")
			}
			if got, _ := r.Ask(sftptalk.FxpLstat, sftptalk.Str(x+"/only-here")); got == sftptalk.FxpAttrs {
				found("a name was told")
			}
		},
		"list": func(r *sftptalk.Talk, x string) {
			got, handle := r.Ask(sftptalk.FxpOpendir, sftptalk.Str(x))
			if got != sftptalk.FxpHandle {
				return
			}
			if _, names := r.Ask(sftptalk.FxpReaddir, handle); strings.Contains(string(names), "only-here") {
				found("the folder was listed")
			}
			r.Status(sftptalk.FxpClose, handle)
		},
		"write": func(r *sftptalk.Talk, x string) {
			for _, name := range []string{"/f", "/planted"} {
				got, handle := r.Ask(sftptalk.FxpOpen, sftptalk.Str(x+name), sftptalk.U32(sftptalk.FxfWrite|sftptalk.FxfCreat|sftptalk.FxfTrunc), sftptalk.NoAttrs())
				if got == sftptalk.FxpHandle {
					r.Status(sftptalk.FxpWrite, handle, sftptalk.U64(0), sftptalk.Str("written"))
					r.Status(sftptalk.FxpClose, handle)
				}
			}
			r.Status(sftptalk.FxpSetstat, sftptalk.Str(x+"/f"), sftptalk.U32(4), sftptalk.U32(0o600))
		},
		"link and move": func(r *sftptalk.Talk, x string) {
			out := x + "-got"
			r.Status(sftptalk.FxpExtended, sftptalk.Str("hardlink@openssh.com"), sftptalk.Str(x+"/only-here"), sftptalk.Str(out))
			rename(r, x+"/only-here", out)
			rename(r, x+"/in", out+"-folder")
			if text := readAll(r, out) + readAll(r, out+"-folder/f"); strings.Contains(text, "nobody") {
				found("it was linked or moved out")
			}
		},
		"make and remove": func(r *sftptalk.Talk, x string) {
			r.Status(sftptalk.FxpMkdir, sftptalk.Str(x+"/made"), sftptalk.NoAttrs())
			r.Status(sftptalk.FxpSymlink, sftptalk.Str("f"), sftptalk.Str(x+"/linked"))
			r.Status(sftptalk.FxpRemove, sftptalk.Str(x+"/only-here"))
		},
	}
	var all sync.WaitGroup
	end := time.Now().Add(*raceFor)
	number := 0
	for _, use := range modes {
		number++
		x, real := fmt.Sprintf("/x%d", number), fmt.Sprintf("/real%d", number)
		require.NoError(t, os.MkdirAll(filepath.Join(k.Home("ann"), real), 0o750))
		require.NoError(t, os.WriteFile(filepath.Join(k.Home("ann"), real, "f"), []byte("open"), 0o640))
		swapper, user := sftptalk.Dial(t, k, "ann"), sftptalk.Dial(t, k, "ann")
		all.Go(func() {
			for time.Now().Before(end) {
				rename(swapper, real, x)
				rename(swapper, x, real)
				swapper.Status(sftptalk.FxpSymlink, sftptalk.Str("secret"), sftptalk.Str(x))
				swapper.Status(sftptalk.FxpRemove, sftptalk.Str(x))
			}
		})
		all.Go(func() {
			for time.Now().Before(end) {
				use(user, x)
				tries.Add(1)
			}
		})
	}
	all.Wait()
	t.Log(tries.Load(), "tries")
	var left []string
	for _, folder := range []string{secret, filepath.Join(secret, "in")} {
		entries, err := os.ReadDir(folder)
		require.NoError(t, err)
		for _, e := range entries {
			left = append(left, e.Name())
			if e.Type().IsRegular() {
				info, err := e.Info()
				require.NoError(t, err)
				assert.Equal(t, os.FileMode(0o640), info.Mode())
				assert.Equal(t, hidden, string(testkit.OnDisk(t, filepath.Join(folder, e.Name()))))
			}
		}
	}
	assert.Equal(t, []string{"f", "in", "only-here", "f"}, left)
}

// One session makes and closes a file while another renames something to its name: never
// are both told that it is theirs.
func TestARenameOverSFTPNeverReplacesWhoeverRaces(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-grant", "/=list,download,upload,rename,delete,mkdir") // not overwrite
	maker, mover := sftptalk.Dial(t, k, "ann"), sftptalk.Dial(t, k, "ann")
	put := func(r *sftptalk.Talk, at string) bool {
		got, handle := r.Ask(sftptalk.FxpOpen, sftptalk.Str(at), sftptalk.U32(sftptalk.FxfWrite|sftptalk.FxfCreat|sftptalk.FxfExcl), sftptalk.NoAttrs())
		return got == sftptalk.FxpHandle && r.Status(sftptalk.FxpWrite, handle, sftptalk.U64(0), sftptalk.Str(at)) == sftptalk.FxOK && r.Status(sftptalk.FxpClose, handle) == sftptalk.FxOK
	}
	rounds := 0
	for end := time.Now().Add(*raceFor / 2); time.Now().Before(end); rounds++ {
		require.True(t, put(mover, "/source"))
		var made, moved bool
		var both sync.WaitGroup
		both.Go(func() { made = put(maker, "/target") })
		both.Go(func() { moved = rename(mover, "/source", "/target") })
		both.Wait()
		if made && moved {
			t.Fatalf("both were acknowledged in round %d", rounds)
		}
		maker.Status(sftptalk.FxpRemove, sftptalk.Str("/target"))
		maker.Status(sftptalk.FxpRemove, sftptalk.Str("/source"))
	}
	t.Log(rounds, "rounds")
}
