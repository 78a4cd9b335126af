package firststeps_test

import (
	"crypto/tls"
	"encoding/json"
	"net/http"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

func TestSetupWalksFromNothingToAnAccount(t *testing.T) {
	k := testkit.Start(t)
	stored := filepath.Join(t.TempDir(), "plates")
	answers := []string{
		"ilse", testkit.Password, // operator
		"Survey Office", // name
		"", "off", "",   // ftp, ftps, sftp
		"no host", "localhost", // host: refused first, asked again
		"",                 // passive
		"self-signed",      // certificate
		"yes",              // host keys
		"plates=" + stored, // store
		"crews",            // group
		"crew-harbour", "", // account, by password
		"127.0.0.1:0", // people with a browser
	}
	out, said, status := k.CLIWith(strings.Join(answers, "\n")+"\n", "setup")
	require.Zero(t, status, said)
	assert.Contains(t, said, "use a host name or an IP address")
	assert.Contains(t, said, "Their ports must be open and forwarded", "each step says why it matters")
	assert.Contains(t, out, "listener ftps: off")
	assert.Contains(t, out, "Survey Office: how to connect as crew-harbour")
	door := http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	for face, want := range map[string]int{"portal": 200, "console": 404} {
		response, err := door.Get("https://" + k.Address("people") + "/" + face + "/")
		require.NoError(t, err)
		response.Body.Close()
		assert.Equal(t, want, response.StatusCode, "the listener for people serves the portal, and no console")
	}
	door.CloseIdleConnections()
	_, secret, _ := strings.Cut(out, "/password#")
	secret, _, _ = strings.Cut(secret, "\n")
	var shown api.PasswordShown
	testkit.NewCaller(t, k).Call("POST", "/password-links/open", api.PasswordLinkOpen{Secret: secret}, 200, &shown)
	k.Must(nil, "account", "set", "crew-harbour", "-must-change=false")
	file, content := testkit.File(t, 900)
	got, err := testkit.Run(t, "", "curl", "-sS", "-k", "--ssl-reqd", "--user", "crew-harbour:"+shown.Password, "-T", file, "ftp://"+k.Address("ftp")+"/f")
	require.NoError(t, err, got)
	assert.Equal(t, content, testkit.OnDisk(t, filepath.Join(stored, "crew-harbour", "f")))

	var steps []api.SetupStep
	out, said, status = k.CLIWith("", "setup", "-json", "-name", "Survey Office")
	require.Zero(t, status, said)
	require.NoError(t, json.Unmarshal([]byte(out), &steps))
	state := map[string]string{}
	for _, s := range steps {
		state[s.Step] = s.State
		assert.NotEmpty(t, s.Why)
	}
	assert.Equal(t, map[string]string{"operator": "done", "name": "done", "listeners": "done", "host": "done", "passive": "open", "certificate": "done", "host-keys": "done",
		"store": "done", "group": "done", "account": "done", "handover": "done", "browsers": "done"}, state)
}

func TestSetupTakesItsAnswersFromFlags(t *testing.T) {
	k := testkit.Start(t)
	dir := t.TempDir()
	key := filepath.Join(dir, "crew")
	out, err := testkit.Run(t, "", "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key)
	require.NoError(t, err, out)
	low := testkit.FreePorts(t)
	passive := strings.Join([]string{strconv.Itoa(low + 1), strconv.Itoa(low + 40)}, "-")
	said, errs, status := k.CLIWith(testkit.Password+"\n", "setup", "-operator", "ilse", "-host", "localhost", "-ftps", "off", "-passive", passive,
		"-group", "crews", "-account", "crew-harbour", "-account-key", key+".pub")
	require.Zero(t, status, errs)
	assert.Contains(t, said, "with its key")
	out, err = k.SFTP("crew-harbour", key, "put "+key+".pub up", "ls")
	assert.NoError(t, err, out)
	testkit.SignedIn(t, k, "ilse")
	assert.Contains(t, k.Must(nil, "listener", "list", "-json"), `"passiveLow": `+strconv.Itoa(low+1))

	_, errs, status = k.CLIWith("", "setup", "-passive", "x")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "use LOW-HIGH")
	_, errs, status = k.CLIWith("", "setup", "-certificate", "/none.pem")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "certificate: ")
}
