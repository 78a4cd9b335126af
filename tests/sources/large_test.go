package sources

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/counterpart"
)

// slowly passes connections on to an address, and each answer after a while.
func slowly(t *testing.T, to string, pause time.Duration) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			here, err := l.Accept()
			if err != nil {
				return
			}
			there, err := net.Dial("tcp", to)
			if err != nil {
				here.Close()
				continue
			}
			go func() {
				io.Copy(there, here)
				there.Close()
			}()
			go func() {
				defer here.Close()
				for p := make([]byte, 64<<10); ; {
					n, err := there.Read(p)
					time.Sleep(pause)
					if _, werr := here.Write(p[:n]); err != nil || werr != nil {
						return
					}
				}
			}()
		}
	}()
	return l.Addr().String()
}

// A slow directory lets people in; one that is slower than a question may take is away, and says so in time.
func TestASlowDirectory(t *testing.T) {
	h := start(t)
	h.add("slow", "ldaps://"+slowly(t, strings.TrimPrefix(h.city.TLS, "ldaps://"), 100*time.Millisecond), "-makes", "-group", "crews", "-timeout", "10s")
	h.Must(nil, "route", "add", "a*", "slow", "-before", "1")
	require.NoError(t, h.ftps("ann", password))
	h.add("slower", "ldaps://"+slowly(t, strings.TrimPrefix(h.city.TLS, "ldaps://"), 3*time.Second), "-makes", "-group", "crews", "-timeout", "1s")
	h.Must(nil, "route", "add", "b*", "slower", "-before", "1")
	require.Error(t, h.ftps("ben", password))
	r := h.last("ben")
	assert.EqualValues(t, "source-away", r.Reason)
	assert.Less(t, r.Duration, 3*time.Second)
}

// Who has left a directory is not let in by a token or a passkey's stay either.
func TestATokenOfALeaver(t *testing.T) {
	h := start(t)
	ann := h.person()
	answer, text := ann.read(ann.Post("http://"+h.Address("web")+"/portal/api/v1/sign-in", "application/json", strings.NewReader(`{"account":"ann","password":"`+password+`"}`)))
	require.Equal(t, 200, answer.StatusCode, text)
	answer, text = ann.read(ann.Post("http://"+h.Address("web")+"/portal/api/v1/account/tokens", "application/json", strings.NewReader(`{"now":"`+password+`","label":"nightly","path":"/","rights":["list"],"days":2}`)))
	require.Equal(t, 200, answer.StatusCode, text)
	token := text[strings.Index(text, `"token":"`)+9:]
	token = token[:strings.Index(token, `"`)]
	list := func() int {
		ask, err := http.NewRequest("GET", "http://"+h.Address("web")+"/portal/api/v1/folder?path=/", nil)
		require.NoError(t, err)
		ask.Header.Set("Authorization", "Bearer "+token)
		answer, _ := h.person().read(http.DefaultClient.Do(ask))
		return answer.StatusCode
	}
	h.city.Modify("dn: cn=harbour," + counterpart.Groups + "\nchangetype: delete\n\ndn: uid=ann," + counterpart.People + "\nchangetype: delete")
	assert.Equal(t, 401, list())
	assert.Contains(t, h.last("ann").Detail, "city knows nobody of that name any more")
}

// Ten thousand people come, stay as they are, and one leaves.
func TestTenThousandPeopleAreKeptInStep(t *testing.T) {
	const people = 10_000
	var ldif strings.Builder
	for i := range people {
		ldif.WriteString(counterpart.Person(fmt.Sprintf("p%05d", i), password))
	}
	city := counterpart.StartSlapd(t, ldif.String())
	p := testkit.Launch(t, t.TempDir())
	p.CLI(nil, "", "group", "add", "crews", "-home", "files:{account}", "-rights", "full")
	p.CLI(nil, counterpart.LookUpPassword+"\n", "source", "add", "city", city.TLS, "-bind-as", city.LookUp, "-base", counterpart.People, "-trust", city.Trust, "-makes", "-group", "crews", "-timeout", "10s")
	p.CLI(nil, "", "route", "add", "*", "city")
	sync := func(flags ...string) (did api.SourceSync) {
		p.CLI(&did, "", append([]string{"source", "sync", "city"}, flags...)...)
		return did
	}
	counts := func(did api.SourceSync) []int { return []int{did.People, did.Come, did.Change, did.Leave} }
	assert.Equal(t, []int{people, people, 0, 0}, counts(sync()))
	assert.True(t, sync("-go").Done)
	newest := func() (found []keep.AuditRecord) {
		p.CLI(&found, "", "audit", "-action", "account-add,account-set", "-most", "1")
		return found
	}
	before := newest()
	require.Len(t, before, 1)
	assert.Equal(t, []int{people, 0, 0, 0}, counts(sync("-go")))
	assert.Equal(t, before, newest(), "a second run writes nothing")
	city.Modify("dn: uid=p00007," + counterpart.People + "\nchangetype: delete")
	assert.Equal(t, []int{people - 1, 0, 0, 1}, counts(sync("-go")))
	var left api.Account
	p.CLI(&left, "", "account", "show", "p00007")
	assert.Equal(t, keep.StateSuspended, left.State)
}
