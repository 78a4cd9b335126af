package console_test

import (
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
)

// An operator makes a receiver and a notice, sees what it would have told and what it told, and takes both away again.
func TestNoticesInTheConsole(t *testing.T) {
	k := testkit.Start(t)
	k.Account("gauge-quay")
	heard := make(chan bool, 10)
	ear := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		heard <- true
		w.WriteHeader(http.StatusNoContent)
	}))
	defer ear.Close()
	hears := func() {
		select {
		case <-heard:
		case <-time.After(testkit.Patience):
			t.Fatal("nobody was told")
		}
	}
	file, _ := testkit.File(t, 100)
	_, err := k.Curl("gauge-quay", "ftps", "/first.csv", "-T", file)
	require.NoError(t, err)
	p, at := atTheConsole(t, k)
	at("/notices")
	p.Shows("main", "There is nobody to tell.")
	p.Press("Add a receiver")
	p.Fill("input[name=receiver]", "tide-office")
	p.Fill("input[name=url]", ear.URL)
	p.Press("Add the receiver")
	p.Shows("#receivers", "whsec_")
	p.Press("Done")
	p.PressLabelled("Tell tide-office a sample")
	p.Shows("body", "private network")
	p.PressLabelled("Change tide-office")
	p.Tick("input[name=private]")
	p.Press("Save")
	p.Wait("it is saved", "!document.querySelector('input[name=private]')")
	p.PressLabelled("Tell tide-office a sample")
	hears()
	p.Press("Add a notice")
	p.Fill("input[name=notice]", "readings")
	for _, one := range [][2]string{{"When this happens", "upload: a file has arrived"}, {"Tell", "tide-office"}} {
		p.Choose(one[0], one[1])
	}
	p.Press("What would it have told?")
	p.Shows("form [role=status]", "told once")
	p.Fill("textarea[name=paths]", "no path")
	p.Press("Add the notice")
	p.Shows("form [role=alert]", "begin with a slash")
	p.Over("textarea[name=paths]", "/*.csv")
	p.Press("Add the notice")
	p.Shows("table[aria-label=Notices]", "/*.csv")
	_, err = k.Curl("gauge-quay", "ftps", "/second.csv", "-T", file)
	require.NoError(t, err)
	hears()
	p.Follow("readings")
	p.Shows("table[aria-label='What it told']", "/second.csv")
	p.Press("Tell a sample")
	p.Shows(".drawer [role=status]", "204 No Content")
	p.Press("Turn off")
	p.Shows(".drawer dl", "off")
}
