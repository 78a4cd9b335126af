package portal_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/sftptalk"
)

// shown is all that an account has shown, or that stands for it.
type shown struct {
	t          *testing.T
	k          *testkit.Keep
	name       string
	asks       *holder // the browser that asks for the change, where the holder does
	alive      map[string]func() bool
	keyID      string
	tokenID    string
	codeSecret string
}

func sshAlive(client *ssh.Client) func() bool {
	return func() bool {
		_, _, err := client.SendRequest("keepalive@openssh.com", true, nil)
		return err == nil
	}
}

// showAll makes an account, and has it show everything.
func showAll(t *testing.T, k *testkit.Keep, db *sqlx.DB, name string) *shown {
	k.Account(name, "-factor-remember", "7d", "-factor-on", "portal", "-passes", "fetch", "-mail", name+"@urban.example")
	s := &shown{t: t, k: k, name: name, asks: in(t, k, name), alive: map[string]func() bool{}}
	file := k.Key(name)
	var keys []api.Key
	k.Must(&keys, "key", "list", name)
	s.keyID = fmt.Sprint(keys[0].ID)
	s.alive["sftp, by password"] = sshAlive(sftptalk.SSH(t, k, name))
	s.alive["sftp, by key"] = sshAlive(sftptalk.SSHWithKey(t, k, name, file))
	other := in(t, k, name)
	s.alive["portal"] = func() bool {
		status, _ := other.do("GET", "api/v1/me", nil)
		return status == 200
	}
	var made api.PortalTokenMade
	s.asks.post("api/v1/account/tokens", api.PortalTokenNew{Now: testkit.Password, Label: "nightly", Path: "/", Rights: []string{"full"}, Days: 1}, 200, &made)
	script := newHolder(t, k)
	s.alive["token"] = func() bool {
		status, _ := script.do("GET", "api/v1/me", nil, "Authorization: Bearer "+made.Token)
		return status == 200
	}
	require.True(t, s.alive["token"]())
	facts := func() (a api.PortalAccount) {
		h := s.asks
		status, text := h.do("GET", "api/v1/account", nil)
		if status == 200 {
			require.NoError(t, json.Unmarshal(text, &a))
		}
		return a
	}
	s.tokenID = facts().Tokens[0].ID
	count := func(query string) func() bool {
		return func() bool {
			var n int
			require.NoError(t, db.Get(&n, query, name))
			return n > 0
		}
	}
	_, err := db.Exec("INSERT INTO account_passkey (id, account_id, label, host, credential, created, last_used) SELECT 'p-' || name, id, 'blue', 'localhost', '{}', 1, 0 FROM account WHERE name = ?", name)
	require.NoError(t, err)
	s.alive["passkey"] = count("SELECT count(*) FROM account_passkey JOIN account a ON a.id = account_id WHERE a.name = ?")
	_, err = db.Exec("INSERT INTO factor_network (account, network, until) SELECT id, '192.0.2.1', ? FROM account WHERE name = ?", time.Now().Add(time.Hour).UnixMicro(), name)
	require.NoError(t, err)
	s.alive["remembered network"] = count("SELECT count(*) FROM factor_network JOIN account a ON a.id = account WHERE a.name = ?")
	_, err = db.Exec("INSERT INTO password_link (digest, account_id, sealed, expires) SELECT CAST(name AS BLOB), id, CAST('x' AS BLOB), ? FROM account WHERE name = ?", time.Now().Add(time.Hour).UnixMicro(), name)
	require.NoError(t, err)
	s.alive["password link"] = count("SELECT count(*) FROM password_link JOIN account a ON a.id = account_id WHERE a.name = ?")
	var pass api.PassMade
	s.asks.post("api/v1/passes", api.PassNew{Kind: "fetch", Paths: []string{"/"}, Days: 1}, 201, &pass)
	s.alive["pass"] = func() bool {
		response, err := http.Get("http://" + k.Address("web") + pass.Link[strings.Index(pass.Link, "/pass/"):])
		require.NoError(t, err)
		defer response.Body.Close()
		io.Copy(io.Discard, response.Body)
		return response.StatusCode == 200
	}
	return s
}

// What ends when: every proof against every change, over the wire. It is the table of docs/security.md.
func TestWhatEndsWhen(t *testing.T) {
	k := testkit.Start(t)
	db, err := sqlx.Open("sqlite", "file:"+filepath.Join(k.Dir, "urbankeep.db")+"?_pragma=busy_timeout(10000)")
	require.NoError(t, err)
	defer db.Close()
	changes := []struct {
		name string
		do   func(s *shown)
		ends string // all else stays
	}{
		{"nothing", func(*shown) {}, ""},
		{"the holder changes the password", func(s *shown) {
			s.asks.post("api/v1/account/password", api.PortalOwnPassword{Now: testkit.Password, Next: "quay-lantern-blue-72"}, 204, nil)
			status, _ := s.asks.do("GET", "api/v1/me", nil)
			assert.Equal(t, 200, status, "who asks stays")
			k.Must(nil, "account", "set", s.name, "-note", "changed")
			status, _ = s.asks.do("GET", "api/v1/me", nil)
			assert.Equal(t, 200, status, "whatever is changed next")
		}, "sftp, by password; portal; remembered network; password link"},
		{"an operator sets a password", func(s *shown) {
			_, errs, status := k.CLIWith("quay-lantern-blue-72\n", "account", "set", s.name, "-password")
			require.Zero(t, status, errs)
		}, "sftp, by password; portal; token; passkey; remembered network; password link"},
		{"it is suspended, and resumed", func(s *shown) {
			k.Must(nil, "account", "suspend", s.name)
			assert.False(t, s.alive["pass"](), "meanwhile")
			k.Must(nil, "account", "resume", s.name)
		}, "sftp, by password; sftp, by key; portal; token; remembered network; password link"},
		{"the second factor is another", func(s *shown) { k.Must(nil, "account", "set", s.name, "-factor-by", "mail") }, "remembered network"},
		{"the key is removed", func(s *shown) { k.Must(nil, "key", "remove", s.name, s.keyID) }, "sftp, by key"},
		{"the token is ended", func(s *shown) {
			status, _ := s.asks.do("DELETE", "api/v1/account/tokens/"+s.tokenID, nil)
			assert.Equal(t, 204, status)
		}, "token"},
		{"it may not come from here any more", func(s *shown) {
			k.Must(nil, "account", "set", s.name, "-allow", "192.0.2.0/24")
		}, "sftp, by password; sftp, by key; portal; token"},
		{"its time has ended", func(s *shown) {
			k.Must(nil, "account", "set", s.name, "-valid-until", "2020-01-01")
		}, "sftp, by password; sftp, by key; portal; token; pass"},
		{"it is deleted", func(s *shown) { k.Must(nil, "account", "delete", s.name) },
			"sftp, by password; sftp, by key; portal; token; passkey; remembered network; password link; pass"},
	}
	for n, change := range changes {
		s := showAll(t, k, db, fmt.Sprint("ann", n))
		change.do(s)
		for what, alive := range s.alive {
			if strings.Contains("; "+change.ends+";", "; "+what+";") {
				assert.Eventually(t, func() bool { return !alive() }, testkit.Patience, 20*time.Millisecond, "%s: %s must end", change.name, what)
			} else {
				assert.True(t, alive(), "%s: %s must stay", change.name, what)
			}
		}
	}
}

// Who knows the old password changes one that must be changed with the second factor only, and the leaving of neither way costs a descriptor.
func TestAPasswordThatMustChangeTakesTheSecondFactor(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	h := in(t, k, "ann")
	var codes api.Codes
	h.post("api/v1/account/codes/new", nil, 200, &codes)
	var recovery api.Recovery
	h.post("api/v1/account/codes", api.PortalCodes{Now: testkit.Password, Secret: codes.Secret, Code: codeOf(t, codes.Secret, time.Now())}, 200, &recovery)
	k.Must(nil, "account", "set", "ann", "-must-change")
	stranger := newHolder(t, k)
	ask := api.PortalPassword{Account: "ann", Now: testkit.Password, Next: "quay-lantern-blue-72"}
	assert.Equal(t, "code-needed", stranger.post("api/v1/password", ask, 403, nil).Reason)
	ask.Code = "000000"
	assert.Equal(t, "bad-credentials", stranger.post("api/v1/password", ask, 401, nil).Reason)
	ask.Code = recovery.Recovery[0]
	stranger.post("api/v1/password", ask, 204, nil)
	newHolder(t, k).post("api/v1/sign-in", api.PortalSignIn{Account: "ann", Password: ask.Next, Code: recovery.Recovery[1]}, 200, nil)

	// Over SFTP the same, in one conversation.
	k.Must(nil, "account", "set", "ann", "-must-change", "-factor-on", "all")
	asked := []string{}
	answers := []string{ask.Next, "harbour-kettle-red-58", "harbour-kettle-red-58", recovery.Recovery[2]}
	client, err := ssh.Dial("tcp", k.Address("sftp"), &ssh.ClientConfig{User: "ann", HostKeyCallback: ssh.InsecureIgnoreHostKey(), Auth: []ssh.AuthMethod{
		ssh.KeyboardInteractive(func(_, _ string, questions []string, _ []bool) (said []string, err error) {
			for _, q := range questions {
				asked = append(asked, q)
				if len(answers) == 0 {
					return nil, io.EOF
				}
				said, answers = append(said, answers[0]), answers[1:]
			}
			return said, nil
		})}})
	require.NoError(t, err, asked)
	client.Close()
	assert.Equal(t, []string{"Password: ", "New password: ", "The same again: ", "Code: "}, asked)
}
