package house_test

import (
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/ftptalk"
)

// each reads a list part by part and gives the names of all of it.
func each[T any](t *testing.T, c *testkit.Caller, path string, query url.Values, name func(T) string) []string {
	names, after := []string{}, ""
	for {
		query.Set("after", after)
		var page api.Page[T]
		c.Call("GET", path+"?"+query.Encode(), nil, 200, &page)
		for _, one := range page.Items {
			names = append(names, name(one))
		}
		if page.Next == "" {
			assert.Equal(t, page.Total, len(names))
			return names
		}
		require.NotEqual(t, after, page.Next)
		after = page.Next
	}
}

// What can be long comes in parts that add up to the whole, narrowed by what is looked for.
func TestLongListsComeInPartsAndAreSearched(t *testing.T) {
	k := testkit.Start(t)
	c := testkit.NewCaller(t, k)
	testkit.SetUp(t, k, c)
	k.Must(nil, "group", "add", "crews", "-note", "who brings scans")
	k.Must(nil, "group", "add", "Desk_1", "-deny", "192.0.2.0/24")
	roster := "account,note,mail,groups,mounts,grants,quota-bytes\n"
	for n := range 60 {
		roster += fmt.Sprintf("crew-%02d,ward %d,crew%d@portselwyn.example,crews,/=files:{account},/=full,%dMiB\n", n, n%7, n, n+1)
	}
	_, complaint, status := k.CLIWith(roster, "account", "import", "-")
	require.Zero(t, status, complaint)
	k.Account("ann", "-group", "Desk_1")

	account := func(a api.Account) string { return a.Name }
	find := func(query url.Values) []string { return each(t, c, "/accounts", query, account) }
	assert.Len(t, find(url.Values{"limit": {"7"}}), 61)
	assert.Len(t, find(url.Values{"limit": {"60"}}), 61)
	assert.Len(t, find(url.Values{"limit": {"61"}}), 61)
	assert.Equal(t, []string{"crew-03", "crew-10", "crew-17", "crew-24", "crew-31", "crew-38", "crew-45", "crew-52", "crew-59"}, find(url.Values{"text": {"WARD 3"}, "limit": {"2"}}))
	assert.Equal(t, []string{"crew-42"}, find(url.Values{"text": {"crew42@"}}))
	assert.Equal(t, []string{"ann"}, find(url.Values{"text": {"desk_1"}}), "an underscore is itself")
	assert.Empty(t, find(url.Values{"text": {"%"}}))
	assert.Equal(t, []string{"ann"}, find(url.Values{"group": {"DESK_1"}}))
	k.Must(nil, "account", "set", "ann", "-deny", "192.0.2.0/24")
	assert.Equal(t, []string{"ann"}, find(url.Values{"sets": {"allow,deny"}}))
	c.Call("GET", "/accounts?sets=nothing", nil, 422, nil)
	c.Call("GET", "/groups?limit=1001", nil, 422, nil)

	group := func(g api.Group) string { return fmt.Sprintf("%s %d %d", g.Name, g.Members, len(g.Accounts)) }
	assert.Equal(t, []string{"crews 60 50", "Desk_1 1 1"}, each(t, c, "/groups", url.Values{"limit": {"1"}}, group))
	assert.Equal(t, []string{"crews 60 50"}, each(t, c, "/groups", url.Values{"text": {"SCANS"}}, group))
	assert.Equal(t, []string{"Desk_1 1 1"}, each(t, c, "/groups", url.Values{"sets": {"deny"}}, group))
	assert.Contains(t, k.Must(nil, "group", "list"), "and 10 more (account list -group crews)")
	assert.Equal(t, 60, strings.Count(k.Must(nil, "account", "list", "-group", "crews"), "crew-"))
	assert.Contains(t, k.Refused("group", "delete", "crews"), "and 50 more")

	quota := func(q api.Quota) string { return q.Folder }
	assert.Len(t, each(t, c, "/quotas", url.Values{"limit": {"9"}}, quota), 60)
	assert.Equal(t, []string{"crew-07"}, each(t, c, "/quotas", url.Values{"text": {"files:crew-07"}}, quota))

	for range 3 {
		ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	}
	session := func(s api.Session) string { return s.Account }
	assert.Equal(t, []string{"ann", "ann", "ann"}, each(t, c, "/sessions", url.Values{"limit": {"1"}}, session))
	assert.Empty(t, each(t, c, "/sessions", url.Values{"text": {"nobody"}}, session))
}

// Who is in a group, and what a folder may hold, follows each change of one account.
func TestOneAccountsChangeReachesItsGroupsAndFolders(t *testing.T) {
	k := testkit.Start(t)
	k.Must(nil, "group", "add", "crews")
	k.Must(nil, "group", "add", "roomy", "-quota-bytes", "9MiB")
	k.Account("ann", "-group", "crews", "-home", "files:shared", "-quota-bytes", "1MiB")
	k.Account("ben", "-group", "crews", "-home", "files:shared", "-quota-bytes", "2MiB")
	is := func(limit keep.Bytes, users ...string) {
		t.Helper()
		var quotas []api.Quota
		k.Must(&quotas, "quota", "list")
		if len(users) == 0 {
			assert.Empty(t, quotas)
			return
		}
		require.Len(t, quotas, 1)
		assert.Equal(t, limit, quotas[0].Quota.Bytes)
		assert.Equal(t, users, quotas[0].Accounts)
	}
	in := func(group string, names ...string) {
		t.Helper()
		var g api.Group
		k.Must(&g, "group", "show", group)
		assert.Equal(t, names, g.Accounts)
		assert.Equal(t, len(names), g.Members)
	}
	is(1<<20, "ann", "ben")
	in("crews", "ann", "ben")
	k.Must(nil, "account", "set", "ann", "-quota-bytes", "3MiB")
	is(2<<20, "ann", "ben")
	k.Must(nil, "account", "set", "ben", "-quota-bytes", "inherit", "-group", "roomy", "-ungroup", "crews")
	is(3<<20, "ann", "ben")
	in("crews", "ann")
	in("roomy", "ben")
	k.Must(nil, "account", "delete", "ann")
	is(9<<20, "ben")
	in("crews", []string{}...)
	k.Must(nil, "group", "set", "roomy", "-quota-bytes", "5MiB")
	is(5<<20, "ben")
	k.Must(nil, "account", "set", "ben", "-ungroup", "roomy")
	is(0)
}
