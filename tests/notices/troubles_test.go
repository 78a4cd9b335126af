package notices_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/watch/notice"
	"urbankeep/tests/testkit"
)

// is fits events of one kind.
func is(event keep.Event, over bool) func(*notice.Event) bool {
	return func(e *notice.Event) bool { return e.Data.Event == event && e.Data.Over == over }
}

func TestTroublesAreToldWhenTheyBeginAndWhenTheyAreOver(t *testing.T) {
	k, e := start(t)
	k.Must(nil, "receiver", "add", "deaf", "http://127.0.0.1:1/", "-private")
	k.Must(nil, "notice", "add", "unheard", "-events", "upload,receiver-away", "-receivers", "deaf")
	k.Must(nil, "notice", "add", "house", "-events", "quota-nearly-full,account-ends-soon,key-ends-soon,listener-failed,store-away,receiver-away,disk-nearly-full,trouble-over", "-receivers", "tide-office")
	k.Account("crew", "-quota-bytes", "10K", "-valid-until", "+3d")
	k.Account("far", "-valid-until", "+30d")
	shelf := filepath.Join(t.TempDir(), "shelf")
	require.NoError(t, os.Mkdir(shelf, 0o755))
	k.Must(nil, "store", "add", "shelf", shelf)
	k.Must(nil, "notice", "set", "house", "-note", "looks at once")

	file, _ := testkit.File(t, 9500)
	_, err := k.Curl("crew", "ftp", "/f", "-T", file)
	require.NoError(t, err)
	full := e.waitFor(1, is(keep.EventQuotaNearly, false))
	assert.Equal(t, "crew", full[0].Data.Account)
	assert.Contains(t, full[0].Data.Says, "files:crew is full to 92 %")
	assert.Equal(t, "crew", e.waitFor(1, is(keep.EventAccountEnds, false))[0].Data.Account)
	e.waitFor(1, is(keep.EventReceiverAway, false))

	require.NoError(t, os.Rename(shelf, shelf+".away"))
	e.waitFor(1, is(keep.EventStoreAway, false))
	var wrong []api.Trouble
	k.Must(&wrong, "trouble", "list")
	assert.GreaterOrEqual(t, len(wrong), 4)
	require.NoError(t, os.Rename(shelf+".away", shelf))
	e.waitFor(1, is(keep.EventStoreAway, true))
	_, err = k.Curl("crew", "ftp", "/", "-Q", "DELE f")
	require.NoError(t, err)
	e.waitFor(1, is(keep.EventQuotaNearly, true))
	k.Must(nil, "receiver", "set", "deaf", "-off")
	e.waitFor(1, is(keep.EventReceiverAway, true))

	// What is known is not told again by the next start.
	before := e.different()
	k.Halt(5 * time.Second)
	k = testkit.StartOn(t, k.Dir, "127.0.0.1", quick)
	k.Must(nil, "account", "set", "gauge-quay", "-valid-until", "+1d")
	k.Must(nil, "notice", "set", "house", "-note", "looks once more")
	e.waitFor(2, is(keep.EventAccountEnds, false))
	assert.Equal(t, before+1, e.different())
}

func TestAnUploadThatDidNotCome(t *testing.T) {
	k, e := start(t)
	now := time.Now().UTC().Add(-2 * time.Minute)
	k.Account("gauge-lock")
	upload(t, k, "gauge-lock", "/level.csv") // too late, and so there when it is asked for
	k.Must(nil, "notice", "add", "late", "-events", "not-come,trouble-over", "-accounts", "gauge-quay,gauge-lock", "-path", "/*.csv", "-by", now.Format("15:04"), "-within", "1h", "-receivers", "tide-office")
	require.Empty(t, e.got(), "what was due before there was the notice")
	require.NoError(t, k.DB.SetLookedAt(t.Context(), "late", now.Add(-time.Hour)))
	got := e.waitFor(2, is(keep.EventUploadNotCome, false))
	assert.Equal(t, []string{"gauge-quay", "gauge-lock"}, []string{got[0].Data.Account, got[1].Data.Account})
	assert.Contains(t, got[0].Data.Says, "no upload of gauge-quay came from")
	upload(t, k, "gauge-quay", "/other.txt")
	e.waitFor(1, func(e *notice.Event) bool {
		return is(keep.EventUploadNotCome, true)(e) && e.Data.Account == "gauge-lock"
	})
	upload(t, k, "gauge-quay", "/level.csv")
	e.waitFor(1, func(e *notice.Event) bool {
		return is(keep.EventUploadNotCome, true)(e) && e.Data.Account == "gauge-quay"
	})
	assert.Len(t, e.got(), 4)
	var run api.NoticeDryRun
	k.Must(&run, "notice", "dry-run", "late", "-since", "-3d")
	missed := 0
	for _, r := range run.Records {
		if r.Action == keep.Trouble && strings.Contains(r.Detail, "had not come") {
			missed++
		}
	}
	assert.GreaterOrEqual(t, missed, 4)
}
