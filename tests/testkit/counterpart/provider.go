package counterpart

import (
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
)

// Provider is a provider of single sign-on.
type Provider struct {
	Address        string // of OpenID Connect: the issuer; of SAML: its metadata
	Client, Secret string // that this service is known by; OpenID Connect
	run            *exec.Cmd
}

// Claims are what a provider says of somebody, by name.
type Claims map[string]any

// StartOpenID starts a provider of OpenID Connect that sends browsers back to some addresses. Its people sign in with their
// names and any password.
func StartOpenID(t testing.TB, people map[string]Claims, back ...string) *Provider {
	_, here, _, _ := runtime.Caller(0)
	folder := filepath.Join(filepath.Dir(here), "node")
	require.DirExists(t, filepath.Join(folder, "node_modules", "oidc-provider"), "the provider is not installed: make counterparts")
	known, err := json.Marshal(people)
	require.NoError(t, err)
	p := &Provider{Address: "http://127.0.0.1:" + strconv.Itoa(testkit.FreePorts(t)), Client: "urban-keep-files", Secret: "known-to-both-sides-7"}
	p.run = exec.Command("node", append([]string{"provider.mjs", p.Address, p.Client, p.Secret}, back...)...)
	p.run.Dir, p.run.Env = folder, append(os.Environ(), "PEOPLE="+string(known))
	p.begin(t, p.Address+"/.well-known/openid-configuration")
	return p
}

// begin starts the process, and waits until it answers at an address.
func (p *Provider) begin(t testing.TB, at string) {
	require.NoError(t, p.run.Start())
	t.Cleanup(p.Stop)
	require.Eventually(t, func() bool {
		answer, err := (&http.Client{Timeout: 5 * time.Second}).Get(at)
		if err == nil {
			answer.Body.Close()
		}
		return err == nil && answer.StatusCode == http.StatusOK
	}, testkit.Patience, 100*time.Millisecond, "waited for the provider to answer")
}

// Stop ends it.
func (p *Provider) Stop() {
	p.run.Process.Kill()
	p.run.Wait()
}
