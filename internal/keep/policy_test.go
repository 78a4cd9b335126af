package keep

import (
	"fmt"
	"math/rand/v2"
	"path"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func account(mounts []Mount, grants ...Grant) *Account {
	return &Account{Name: "crew", State: StateActive, Mounts: append([]Mount{{At: "/", Store: "files", Folder: "crew"}}, mounts...), Grants: grants}
}

func policy(t testing.TB, a *Account, groups ...*Group) *Policy {
	e, err := Resolve(a, groups)
	require.NoError(t, err)
	return NewPolicy(e)
}

func grant(path string, rights Rights) Grant { return Grant{Path: path, Rights: rights} }

// noon is a Wednesday in Oslo's winter time.
var noon = time.Date(2026, 11, 25, 11, 0, 0, 0, time.UTC)

func TestTheDeepestGrantDecidesAlone(t *testing.T) {
	p := policy(t, account([]Mount{{At: "/basemaps", Store: "files", Folder: "maps", ReadOnly: true}},
		grant("/", readOnly), grant("/in", dropOnly), grant("/in/done", 0), grant("/basemaps", Full)))
	for _, c := range []struct {
		right Rights
		path  string
		why   Reason
	}{
		{Download, "/plate.tif", NoReason},
		{Upload, "/plate.tif", NoRight},
		{Upload, "/in/scan.las", NoReason},
		{Download, "/in/scan.las", NoRight}, // the grant on / no longer counts
		{Upload, "/in/done/scan.las", NoRight},
		{Upload, "/inside/scan.las", NoRight}, // /in does not cover /inside
		{Download, "/basemaps/a", NoReason},
		{Delete, "/basemaps/a", ReadOnlyMount},
		{List | Download, "/", NoReason},
		{List | Upload, "/", NoRight},
	} {
		v := p.Decide(c.right, c.path, noon)
		assert.Equal(t, c.why, v.Reason, "%s on %s", c.right, c.path)
		assert.Equal(t, c.why == NoReason, v.Allowed)
		assert.Equal(t, v.Allowed, v.Fault() == nil)
		assert.NotEmpty(t, v.String())
	}
}

func TestWithoutAGrantNothingIsAllowed(t *testing.T) {
	p := policy(t, account(nil))
	for bit := range rightNames {
		assert.False(t, p.Decide(1<<bit, "/", noon).Allowed)
	}
	assert.False(t, p.Any("/"))
}

func TestFiltersAndWindowsSayWhyTheyDoNotCount(t *testing.T) {
	p := policy(t, account(nil, Grant{Path: "/", Rights: Full, Never: []string{"*.exe"}},
		Grant{Path: "/out", Rights: readOnly, Window: &Window{Days: "mon-fri", Hours: "08:00-13:00", Zone: "Europe/Oslo"}},
		Grant{Path: "/out", Rights: List, Only: []string{"*.tif", "*.las"}}))
	for _, c := range []struct {
		right Rights
		path  string
		at    time.Time
		may   bool
		say   string
	}{
		{Upload, "/a.tif", noon, true, "the grant on / gives full never *.exe"},
		{Upload, "/SETUP.Exe", noon, false, "which does not count for a name like this"},
		{Upload, "/setup.exe.", noon, false, "which does not count for a name like this"}, // which Windows would save as setup.exe
		{Upload, "/setup.exe . ", noon, false, ""},
		{Upload, "/setup.exe::$DATA", noon, false, ""},
		{Upload, "/10:30.tif", noon, true, ""},
		{Upload, "/...", noon, true, ""},
		{Mkdir, "/tools.exe", noon, true, ""}, // filters are about files
		{Download, "/out/a.tif", noon, true, ""},
		{Download, "/out/a.tif", noon.Add(time.Hour), false, "mon-fri 08:00-13:00 Europe/Oslo, which does not count at this time; another gives list only *.tif *.las"},
		{Download, "/out/a.tif", noon.AddDate(0, 0, 3), false, ""}, // a Saturday
		{Upload, "/out/a.tif", noon, false, ""},                    // the grant on / is not asked
	} {
		v := p.Decide(c.right, c.path, c.at)
		assert.Equal(t, c.may, v.Allowed, "%s on %s", c.right, c.path)
		assert.Contains(t, v.String(), c.say)
	}
	assert.True(t, p.See("/out/a.tif", false, noon.Add(time.Hour)).Allowed)
	assert.False(t, p.See("/out/a.txt", false, noon.Add(time.Hour)).Allowed)
	assert.False(t, p.Plain("/out"), "its filters look at names")
	assert.True(t, p.Alike("/out/a.tif", "/out/sub/b.tif"))
	assert.False(t, p.Alike("/out/a.tif", "/out/a.txt"), "a filter takes one and not the other")
	assert.False(t, p.Alike("/out/a.tif", "/a.tif"), "other grants decide")
}

func TestGrantsAreReadBackAsTheyAreSaid(t *testing.T) {
	for _, text := range []string{"/=full", "/in=add-only;only=*.tif,*.tiff;never=draft*", "/out=read-only;days=fri-mon;hours=22:00-06:00;zone=Europe/Oslo",
		"/x=none;from=2026-03-01;until=2027-01-01T18:00:00Z"} {
		g, err := ParseGrant(text)
		require.NoError(t, err, text)
		require.NoError(t, checkGrants([]Grant{g}), text)
		assert.Equal(t, text, g.Text())
	}
	for text, say := range map[string]string{"/in": "PATH=RIGHTS", "/in=": "no right is named", "/in=full;only=": "says nothing", "/in=full;days=someday": "days of the week",
		"/in=full;hours=8-9": "no hours", "/in=full;zone=Oslo": "limits nothing", "/in=full;days=mon;zone=Oslo": "no time zone", "/in=full;only=[a]": "no pattern",
		"/in=full;colour=red": "is not known", "/in=full;from=2027-01-02;until=2027-01-01": "end before it begins"} {
		g, err := ParseGrant(text)
		if err == nil {
			err = checkGrants([]Grant{g})
		}
		assert.ErrorContains(t, err, say, text)
	}
	assert.ErrorContains(t, checkGrants([]Grant{grant("/a", List), grant("/a/", Full)}), "two grants on /a that count alike")
}

// naiveNames is the second reading of a pattern: by regular expression.
func naiveLike(pattern, name string) bool {
	quoted := regexp.QuoteMeta(pattern)
	quoted = strings.ReplaceAll(strings.ReplaceAll(quoted, `\*`, ".*"), `\?`, ".")
	return regexp.MustCompile("(?is)^" + quoted + "$").MatchString(name)
}

func FuzzPatterns(f *testing.F) {
	for _, seed := range [][2]string{{"*.tif", "a.TIF"}, {"*a*b?", "xxaxbxb1"}, {"?", "ø"}, {"**", ""}, {"a", "a\xff"}} {
		f.Add(seed[0], seed[1])
	}
	f.Fuzz(func(t *testing.T, pattern, name string) {
		if utf8.ValidString(pattern) && utf8.ValidString(name) && strings.ToLower(pattern) == pattern && strings.ToLower(name) == name && like(pattern, name) != naiveLike(pattern, name) {
			t.Fatalf("%q against %q: %v", pattern, name, like(pattern, name))
		}
	})
}

// naive decides by walking every folder from the path upward and asking every
// group anew, knowing nothing of how a policy is prepared.
func naive(a *Account, groups []*Group, right Rights, at string, now time.Time) bool {
	mounts, grants := slices.Clone(a.Mounts), slices.Clone(a.Grants)
	for _, g := range groups {
		mounts = append(mounts, g.Mounts...)
		for _, theirs := range g.Grants {
			own := false
			for _, mine := range a.Grants {
				own = own || mine.Path == theirs.Path
			}
			if !own {
				grants = append(grants, theirs)
			}
		}
	}
	up := func(visit func(folder string) bool) {
		for p := at; !visit(p) && p != "/"; p = path.Dir(p) {
		}
	}
	var given Rights
	up(func(folder string) bool {
		decides := false
		for _, g := range grants {
			if g.Path != folder {
				continue
			}
			decides = true
			counts := true
			if right&(Download|Upload|Overwrite|Rename|Delete|Touch|Link) != 0 {
				only := len(g.Only) == 0
				for _, pattern := range g.Only {
					only = only || naiveLike(pattern, path.Base(at))
				}
				counts = only
				for _, pattern := range g.Never {
					counts = counts && !naiveLike(pattern, path.Base(at))
				}
			}
			if g.Window != nil { // the windows below are days in UTC
				counts = counts && strings.Contains(g.Window.Days, strings.ToLower(now.Weekday().String()[:3]))
			}
			if counts {
				given |= g.Rights
			}
		}
		return decides
	})
	mountReadOnly := false
	up(func(folder string) bool {
		for _, m := range mounts { // the first of those at one path counts
			if m.At == folder {
				mountReadOnly = m.ReadOnly
				return true
			}
		}
		return false
	})
	return given&right == right && (!mountReadOnly || right&^(List|Download) == 0)
}

// Decision, explanation and a naive second evaluation agree over random accounts
// in random groups.
func TestDecisionsAgreeWithANaiveSecondEvaluation(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	names := []string{"a", "b", "ab", "a b", "x.tif", "x.exe"}
	somewhere := func() string {
		p := "/"
		for range r.IntN(4) {
			p = path.Join(p, names[r.IntN(len(names))])
		}
		return p
	}
	grants := func() (list []Grant) {
		for range r.IntN(5) {
			g := grant(somewhere(), Rights(r.IntN(int(Full)+1)))
			if r.IntN(3) == 0 {
				g.Only = []string{"*.tif", "a*"}[:1+r.IntN(2)]
			}
			if r.IntN(3) == 0 {
				g.Never = []string{"*.exe"}
			}
			if r.IntN(3) == 0 {
				g.Window = &Window{Days: []string{"mon,tue", "wed,sat,sun", "fri"}[r.IntN(3)]}
			}
			list = append(list, g)
		}
		return list
	}
	mounts := func() (list []Mount) {
		for range r.IntN(3) {
			list = append(list, Mount{At: somewhere(), Store: "files", Folder: "x", ReadOnly: r.IntN(2) == 0})
		}
		return list
	}
	decided := 0
	for decided < 100_000 {
		a := account(mounts(), grants()...)
		var groups []*Group
		for n := range r.IntN(3) {
			groups = append(groups, &Group{Name: fmt.Sprint("g", n), Mounts: mounts(), Grants: grants()})
		}
		e, err := Resolve(a, groups)
		if a.Check() != nil || err != nil || slices.ContainsFunc(groups, func(g *Group) bool { return g.Check() != nil }) {
			continue // two mounts or grants at one path
		}
		p := NewPolicy(e)
		for range 20 {
			right, at, now := Rights(1<<r.IntN(10)), somewhere(), noon.AddDate(0, 0, r.IntN(7))
			v := p.Decide(right, at, now)
			require.Equal(t, naive(a, groups, right, at, now), v.Allowed, "%v\n%v\n%s", e.Mounts, e.Grants, v)
			steps := Explain(e, Question{Right: right, Path: at, At: now})
			i := slices.IndexFunc(steps, func(s Step) bool { return s.Name == "right" })
			require.Equal(t, v.Allowed, steps[i].OK)
			decided++
		}
	}
}

func TestTheFirstThatSetsAValueDecidesIt(t *testing.T) {
	set := func(values ...string) (s Settings) {
		for i := 0; i < len(values); i += 2 {
			require.NoError(t, s.PutText(values[i], values[i+1]))
		}
		return s
	}
	a := account(nil, grant("/", List))
	a.Settings = set("maxSessions", "0", "idleTime", "10m")
	crews := &Group{Name: "crews", Settings: set("maxSessions", "3", "quotaBytes", "2GiB", "protocols", "sftp"), Mounts: []Mount{{At: "/", Store: "files", Folder: "{group}"}, {At: "/maps", Store: "files", Folder: "{group}/maps"}}}
	all := &Group{Name: "all", Settings: set("quotaBytes", "1GiB", "umask", "007"), Grants: []Grant{grant("/", Upload)}}
	e, err := Resolve(a, []*Group{crews, all})
	require.NoError(t, err)
	assert.Zero(t, e.MaxSessions, "any number, said by the account itself")
	assert.EqualValues(t, 2<<30, e.QuotaBytes)
	assert.Equal(t, Mode(0o007), e.Terms.Umask)
	assert.Equal(t, Protocols{SFTP}, e.Protocols)
	from := map[string]string{}
	for _, v := range e.Values() {
		from[v.Name] = v.From
	}
	assert.Equal(t, "account", from["maxSessions"])
	assert.Equal(t, "group crews", from["quotaBytes"])
	assert.Equal(t, "group all", from["umask"])
	assert.Equal(t, "", from["speedUp"])
	require.Len(t, e.Mounts, 2)
	assert.Equal(t, "crew", e.Mounts[0].Folder, "its own home, not the group's")
	assert.Equal(t, &Quota{Bytes: 2 << 30}, e.Mounts[0].Quota)
	assert.Equal(t, "crews/maps", e.Mounts[1].Folder)
	p := NewPolicy(e)
	assert.True(t, p.Decide(List, "/f", noon).Allowed)
	assert.False(t, p.Decide(Upload, "/f", noon).Allowed, "where the account has grants of its own its groups' don't count")
	a.Grants = []Grant{grant("/elsewhere", List)}
	e, err = Resolve(a, []*Group{crews, all, {Name: "more", Grants: []Grant{grant("/", List)}}})
	require.NoError(t, err)
	assert.True(t, NewPolicy(e).Decide(List|Upload, "/f", noon).Allowed, "those of several groups add up")
	for _, s := range AllSettings {
		text := e.Account.Settings.Text(s.Name)
		var back Settings
		require.NoError(t, back.PutText(s.Name, text), s.Name)
		assert.Equal(t, text, back.Text(s.Name))
	}
	for name, bad := range map[string]string{"maxSessions": "-1", "umask": "999", "quotaBytes": "lots", "protocols": "gopher", "allow": "here", "idleTime": "soon", "starters": "/", "speed": "1"} {
		var field *FieldError
		require.ErrorAs(t, new(Settings).PutText(name, bad), &field, name)
		assert.Equal(t, name, field.Field)
	}
}

func TestAFolderIsPlainWhenOneDecisionHoldsForAllInIt(t *testing.T) {
	p := policy(t, account(nil, grant("/", Full), grant("/in/deep", dropOnly)))
	assert.False(t, p.Plain("/"))
	assert.False(t, p.Plain("/in"))
	assert.True(t, p.Plain("/in/deep"))
	assert.True(t, p.Plain("/out"))
}

func TestBranchesNameTheMountsBelow(t *testing.T) {
	p := policy(t, account([]Mount{{At: "/shared/maps", Store: "files", Folder: "m"}, {At: "/shared/plates/a", Store: "files", Folder: "p"}}))
	assert.Equal(t, []string{"shared"}, p.Branches("/"))
	assert.Equal(t, []string{"maps", "plates"}, p.Branches("/shared"))
	assert.Empty(t, p.Branches("/shared/maps"))
	assert.Empty(t, p.Branches("/share"))
}

func TestRightsAreReadBackAsTheyAreSaid(t *testing.T) {
	for set := Rights(0); set <= Full; set++ {
		back, err := ParseRights(set.String())
		require.NoError(t, err)
		require.Equal(t, set, back)
	}
	_, err := ParseRights("list,fly")
	assert.ErrorContains(t, err, `unknown right "fly"`)
}

func TestNamesThatCouldBePathsOrOptionsAreRefused(t *testing.T) {
	for _, good := range []string{"crew-harbour", "a", "Ann.Lee", "x_1@port+s", strings.Repeat("a", MaxNameLength)} {
		assert.NoError(t, CheckName("name", good), good)
	}
	for _, bad := range []string{"", ".", "..", ".hidden", "-rf", "a/b", `a\b`, "a b", "a\nb", "a\x00", "ends.", "nul", "con.txt", "größe",
		strings.Repeat("a", MaxNameLength+1)} {
		var field *FieldError
		require.ErrorAs(t, CheckName("name", bad), &field, "%q", bad)
		assert.Equal(t, "name", field.Field)
	}
}

func TestAHomeIsNeverEmpty(t *testing.T) {
	for folder, say := range map[string]string{"": "empty", "../x": "plain folder names", "a/../../b": "plain folder names", "{owner}": "unknown placeholder",
		"a\nb": "plain folder names"} {
		a := &Account{Name: "ann", State: StateActive, Mounts: []Mount{{At: "/", Store: "files", Folder: folder}}}
		assert.ErrorContains(t, a.Check(), say, "%q", folder)
	}
	none := &Account{Name: "ann", State: StateActive, Mounts: []Mount{{At: "/maps", Store: "files", Folder: "maps"}}}
	require.NoError(t, none.Check())
	_, err := Resolve(none, nil)
	assert.ErrorContains(t, err, "home: a home is always explicit")
	whole := &Account{Name: "ann", State: StateActive, Mounts: []Mount{{At: "/", Store: "files", Folder: "/"}}}
	require.NoError(t, whole.Check())
	assert.Equal(t, ".", whole.Mounts[0].FolderFor("ann"))
}

func TestSecretsPrintAsARedaction(t *testing.T) {
	s := Secret("hunter2hunter2")
	for _, text := range []string{fmt.Sprint(s), fmt.Sprintf("%v %+v %#v %s %q", s, s, s, s, s), fmt.Sprintf("%v", struct{ S Secret }{s})} {
		assert.NotContains(t, text, "hunter2")
	}
}

func FuzzCleanPathStaysInTheTree(f *testing.F) {
	for _, seed := range []string{"../../etc/passwd", "/..", "a/../../b", "//", "a/./b/", "..\\..", "\x00", "a\r\nb", "%2e%2e/"} {
		f.Add("/in", seed)
	}
	f.Fuzz(func(t *testing.T, cwd, name string) {
		base, err := CleanPath("/", cwd)
		if err != nil {
			return
		}
		at, err := CleanPath(base, name)
		if err != nil {
			return
		}
		if at[0] != '/' || at != path.Clean(at) || strings.Contains(at, "/../") || strings.HasSuffix(at, "/..") || strings.ContainsAny(at, "\x00\r\n") {
			t.Fatalf("%q and %q give %q", cwd, name, at)
		}
	})
}

// A decision takes no memory, however many grants there are.
func TestADecisionAllocatesNothing(t *testing.T) {
	p := manyGrants(t)
	assert.Zero(t, testing.AllocsPerRun(1000, func() { p.Decide(Upload, "/district-19/scans/today/Traverse.LAS", noon) }))
}

func manyGrants(t testing.TB) *Policy {
	grants := []Grant{grant("/", readOnly)}
	for n := range 20 {
		grants = append(grants, Grant{Path: fmt.Sprintf("/district-%02d/scans", n), Rights: addOnly, Never: []string{"*.exe"}, Window: &Window{Days: "mon-fri", Hours: "06:00-22:00", Zone: "Europe/Oslo"}})
	}
	return policy(t, account(nil, grants...))
}

func BenchmarkDecide(b *testing.B) {
	p := manyGrants(b)
	b.ReportAllocs()
	for b.Loop() {
		if !p.Decide(Upload, "/district-19/scans/today/traverse.las", noon).Allowed {
			b.Fatal("refused")
		}
	}
}
