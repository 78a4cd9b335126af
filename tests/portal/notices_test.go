package portal_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/tests/testkit"
)

// A holder is told by mail of what comes into a folder of theirs, whoever puts it there and whatever they call it; of nothing
// else, and not who that was.
func TestHoldersHaveThemselvesTold(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	k.Account("partner", "-home", "files:ann/from-partner", "-mount", "/private=files:elsewhere")
	h := in(t, k, "ann")
	ask := func(path string, events ...keep.Event) int {
		status, _ := h.do("POST", "api/v1/notices", api.OwnNoticeNew{Events: events, Path: path})
		return status
	}
	assert.Equal(t, 403, ask("/", keep.EventUpload), "there is no mail")
	box := testkit.MailBox(t)
	k.Must(nil, "mail", "set", box.Address, "-security", "none", "-from", "files@portselwyn.example")
	assert.Equal(t, 403, ask("/", keep.EventUpload), "ann has no address")
	k.Must(nil, "account", "set", "ann", "-mail", "ann@portselwyn.example")
	assert.Equal(t, 422, ask("/", keep.EventSignIn), "that is for operators")
	assert.Equal(t, 422, ask("", keep.EventUpload))
	require.Equal(t, 204, ask("/from-partner", keep.EventUpload, keep.EventDelete))
	require.Equal(t, 204, ask("", keep.EventPassUse))
	var own api.OwnNotices
	_, text := h.do("GET", "api/v1/notices", nil)
	require.NoError(t, json.Unmarshal(text, &own))
	require.Len(t, own.Items, 2)

	file := filepath.Join(t.TempDir(), "f")
	require.NoError(t, os.WriteFile(file, []byte("a plan"), 0o600))
	for _, one := range [][2]string{{"partner", "/private/secret.txt"}, {"partner", "/plan.txt"}, {"ann", "/from-partner/my-own.txt"}, {"ann", "/mine.txt"}} { // the partner's folder comes with its first sign-in
		out, err := k.Curl(one[0], "ftps", one[1], "-T", file)
		require.NoError(t, err, out)
	}
	letter := box.Wait(1)[0]
	assert.Equal(t, "ann@portselwyn.example", letter.To)
	assert.Contains(t, letter.Text, "/from-partner/plan.txt")
	assert.NotContains(t, letter.Text, "partner uploaded")
	assert.NotContains(t, letter.Text, "127.0.0.1")
	var pass api.PassMade
	k.Must(&pass, "pass", "add", "ann", "/mine.txt")
	_, err := testkit.Run(t, "", "curl", "-sS", "-f", "http://"+k.ConsoleAddress()+pass.Link[strings.Index(pass.Link, "/pass/"):]+"?fetch")
	require.NoError(t, err)

	// What others made is not hers to see or remove; with the account all of it goes.
	assert.Contains(t, k.Must(nil, "notice", "list", "-own", "-json"), "~ann")
	assert.NotContains(t, k.Must(nil, "notice", "list", "-json"), "~ann")
	other := in(t, k, "partner")
	status, _ := other.do("DELETE", "api/v1/notices/"+own.Items[0].ID, nil)
	assert.Equal(t, 404, status)
	status, _ = h.do("DELETE", "api/v1/notices/"+own.Items[0].ID, nil)
	assert.Equal(t, 204, status)
	k.Must(nil, "account", "delete", "ann")
	assert.NotContains(t, k.Must(nil, "notice", "list", "-own", "-json"), "~ann")
	assert.NotContains(t, k.Must(nil, "receiver", "list", "-own", "-json"), "~ann")
	for _, l := range box.Wait(1) {
		assert.NotContains(t, l.Text, "secret")
		assert.NotContains(t, l.Text, "mine.txt")
		assert.NotContains(t, l.Text, "my-own")
	}
}
