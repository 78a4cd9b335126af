package pass_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// The link of a pass is mailed on request, with what it is for; not without end, and the pass is there whatever becomes of it.
func TestALinkIsMailed(t *testing.T) {
	k := testkit.Start(t)
	k.Must(nil, "service", "set", "-host", "localhost")
	k.Account("ann")
	box := testkit.MailBox(t)
	assert.Contains(t, k.Refused("pass", "add", "ann", "/", "-mail", "guest@portselwyn.example"), "no mail server")
	k.Must(nil, "mail", "set", box.Address, "-security", "none", "-from", "files@portselwyn.example")
	var made api.PassMade
	k.Must(&made, "pass", "add", "ann", "/", "-drop", "-text", "The roof survey, please", "-mail", "guest@portselwyn.example")
	require.NotEmpty(t, made.Mailed, made.MailError)
	letter := box.Wait(1)[0]
	assert.Equal(t, "guest@portselwyn.example", letter.To)
	assert.Contains(t, letter.Text, made.Link)
	assert.Contains(t, letter.Text, "The roof survey, please\nYou can leave files here.")
	for range 19 {
		k.Must(nil, "pass", "add", "ann", "/", "-mail", "guest@portselwyn.example")
	}
	assert.Contains(t, k.Refused("pass", "add", "ann", "/", "-mail", "guest@portselwyn.example"), "as many as may")
	assert.Len(t, box.Wait(20), 20)
	var all []api.Pass
	k.Must(&all, "pass", "list")
	assert.Len(t, all, 22)
}
