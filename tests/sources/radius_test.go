package sources

import (
	"encoding/json"
	"net/http"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/counterpart"
)

// withRadius is a service whose guests come from a RADIUS server.
func withRadius(t *testing.T, seal bool) (*house, *counterpart.FreeRadius) {
	h := &house{Keep: testkit.Start(t), t: t}
	r := counterpart.StartFreeRadius(t, `ann Cleartext-Password := "`+password+`"
	Filter-Id = "surveyors"
token-ben Cleartext-Password := "`+password+`"
	Filter-Id = "surveyors"
`, seal)
	h.Must(nil, "group", "add", "crews", "-home", "files:{account}", "-rights", "full")
	_, said, status := h.CLIWith(r.Secret+"\n", "source", "add", "tower", r.Address, "-makes", "-table", "surveyors=crews", "-group", "crews")
	require.Zero(t, status, said)
	h.Must(nil, "route", "add", "*", "tower", "own")
	return h, r
}

// talk signs in over SFTP by questions; said are the words that came before each.
func (h *house) talk(account string, answers ...string) (said []string, err error) {
	n := 0
	client, err := ssh.Dial("tcp", h.Address("sftp"), &ssh.ClientConfig{User: account, HostKeyCallback: ssh.InsecureIgnoreHostKey(), Timeout: testkit.Patience,
		Auth: []ssh.AuthMethod{ssh.KeyboardInteractive(func(_, words string, questions []string, _ []bool) (all []string, err error) {
			said = append(said, words)
			for range questions {
				answer := ""
				if n < len(answers) {
					answer = answers[n]
				}
				n++
				all = append(all, answer)
			}
			return all, nil
		})}})
	if err == nil {
		client.Close()
	}
	return said, err
}

func TestRadiusVouches(t *testing.T) {
	h, r := withRadius(t, true)
	require.NoError(t, h.ftps("ann", password))
	require.Error(t, h.ftps("ann", "wrong"))
	assert.Contains(t, h.last("ann").Detail, "wrong password, says tower")
	require.Error(t, h.ftps("nobody", password))

	// A challenge is carried to who can answer it.
	said, err := h.talk("token-ben", password, "246810")
	require.NoError(t, err, said)
	assert.Contains(t, said[1], "Type the number that your token shows")
	var refused api.Problem
	h.portal("sign-in", api.PortalSignIn{Account: "token-ben", Password: password}, 403, &refused)
	assert.Contains(t, refused.Detail, "ype the number that your token shows")
	h.portal("sign-in", api.PortalSignIn{Account: "token-ben", Password: "another", Code: "246810"}, 401, &refused)
	h.portal("sign-in", api.PortalSignIn{Account: "token-ben", Password: password, Code: "246810"}, 200, &struct{}{})
	_, err = h.talk("token-ben", password, "111111")
	require.Error(t, err)
	_, err = h.talk("token-ben", "wrong", "246810")
	require.Error(t, err)
	require.Error(t, h.ftps("token-ben", password), "FTP can't ask")

	out, _, status := h.CLIWith(password+"\n", "source", "check", "tower", "-account", "ann", "-password")
	assert.Zero(t, status, out)
	assert.Contains(t, out, "surveyors")
	h.Must(nil, "source", "set", "tower", "-away", "recent")
	require.NoError(t, h.ftps("ann", password))
	_, err = h.talk("token-ben", password, "246810")
	require.NoError(t, err)
	r.Stop()
	require.NoError(t, h.ftps("ann", password), "who was let in a moment ago")
	_, err = h.talk("token-ben", password)
	require.Error(t, err, "but not who was asked for more")
	h.Must(nil, "source", "set", "tower", "-away", "refuse")
	began := time.Now()
	require.Error(t, h.ftps("ann", password))
	assert.Less(t, time.Since(began), testkit.Patience)
	assert.Equal(t, keep.SourceAway, h.last("ann").Reason)
}

func TestAnAnswerThatMayBeForgedIsNone(t *testing.T) {
	h, _ := withRadius(t, false)
	require.Error(t, h.ftps("ann", password))
	assert.Contains(t, h.last("ann").Detail, "Message-Authenticator")
	h, r := withRadius(t, true)
	_, said, status := h.CLIWith("another secret\n", "source", "set", "tower", "-secret")
	require.Zero(t, status, said)
	require.Error(t, h.ftps("ann", password))
	assert.Equal(t, keep.SourceAway, h.last("ann").Reason, r.Address)
}

func TestASecondFactorOnEveryFace(t *testing.T) {
	h, _ := withRadius(t, true)
	h.Must(nil, "route", "remove", "*")
	box := testkit.MailBox(t)
	h.Must(nil, "mail", "set", box.Address, "-from", "keep@port-selwyn.example", "-security", "none")
	h.Account("ben", "-second-factor", "required", "-factor-on", "all", "-factor-by", "mail", "-mail", "ben@port-selwyn.example")

	// By mail: SFTP asks, FTP takes it behind the password, WebDAV takes tokens only.
	require.Error(t, h.ftps("ben", testkit.Password))
	assert.Equal(t, keep.CodeNeeded, h.last("ben").Reason)
	code := regexp.MustCompile(`\b\d{6}\b`).FindString(box.Wait(1)[0].Text)
	require.NotEmpty(t, code)
	require.Error(t, h.ftps("ben", testkit.Password+"000000"))
	require.NoError(t, h.ftps("ben", testkit.Password+code))
	require.Error(t, h.ftps("ben", testkit.Password+code), "it works once")
	out, err := h.Curl("ben", "web", "/dav/", "-f", "-X", "PROPFIND")
	require.Error(t, err, out)

	// By RADIUS.
	h.Account("ann", "-second-factor", "required", "-factor-on", "sftp", "-factor-by", "tower")
	require.NoError(t, h.ftps("ann", testkit.Password), "it is not asked over FTP")
	_, err = h.talk("ann", testkit.Password, password)
	require.NoError(t, err)
	_, err = h.talk("ann", testkit.Password, "wrong")
	require.Error(t, err)
	_, said, status := h.CLI("source", "remove", "tower")
	assert.Equal(t, 1, status, said)
	h.Account("token-ben", "-second-factor", "required", "-factor-on", "sftp", "-factor-by", "tower", "-factor-remember", "1h")
	_, err = h.talk("token-ben", testkit.Password, password, "246810")
	require.NoError(t, err, "the code is followed by a question")
	_, err = h.talk("token-ben", testkit.Password)
	require.NoError(t, err, "the network is remembered")
	h.Must(nil, "account", "set", "token-ben", "-no-codes")
	_, err = h.talk("token-ben", testkit.Password)
	require.Error(t, err, "an operator has it forgotten")

	// By app, which must be set up on the portal first.
	h.Account("eve", "-second-factor", "required", "-factor-on", "all")
	words, err := h.talk("eve", testkit.Password)
	require.Error(t, err)
	assert.Contains(t, words[len(words)-1], "on the portal first")
	require.Error(t, h.ftps("eve", testkit.Password))
	secret := h.useCodes("eve")
	next, err := totp.GenerateCode(secret, time.Now().Add(30*time.Second)) // the one of now was used
	require.NoError(t, err)
	require.NoError(t, h.ftps("eve", testkit.Password+next))
	require.Error(t, h.ftps("eve", testkit.Password+next), "each works once")
	require.Error(t, h.ftps("eve", testkit.Password))
}

// portal asks the portal.
func (h *house) portal(path string, ask any, status int, into any) {
	text, err := json.Marshal(ask)
	require.NoError(h.t, err)
	response, err := http.Post(h.Console()+"/portal/api/v1/"+path, "application/json", strings.NewReader(string(text)))
	require.NoError(h.t, err)
	defer response.Body.Close()
	require.Equal(h.t, status, response.StatusCode, path)
	require.NoError(h.t, json.NewDecoder(response.Body).Decode(into))
}

// useCodes sets one-time codes up on the portal, and gives their secret.
func (h *house) useCodes(account string) string {
	var codes api.Codes
	h.portal("codes", api.PortalNew{Account: account, Password: testkit.Password}, 200, &codes)
	code, err := totp.GenerateCode(codes.Secret, time.Now())
	require.NoError(h.t, err)
	h.portal("sign-in", api.PortalSignIn{Account: account, Password: testkit.Password, Secret: codes.Secret, Code: code}, 200, &struct{}{})
	return codes.Secret
}
