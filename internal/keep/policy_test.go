package keep

import (
	"fmt"
	"math/rand/v2"
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func account(mounts []Mount, grants ...Grant) *Account {
	return &Account{Name: "crew", State: StateActive, Mounts: append([]Mount{{At: "/", Store: "files", Folder: "crew"}}, mounts...), Grants: grants}
}

func TestTheDeepestGrantDecidesAlone(t *testing.T) {
	p := NewPolicy(account([]Mount{{At: "/basemaps", Store: "files", Folder: "maps", ReadOnly: true}},
		Grant{"/", readOnly}, Grant{"/in", dropOnly}, Grant{"/in/done", 0}, Grant{"/basemaps", Full}))
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
		v := p.Decide(c.right, c.path)
		assert.Equal(t, c.why, v.Reason, "%s on %s", c.right, c.path)
		assert.Equal(t, c.why == NoReason, v.Allowed)
		assert.Equal(t, v.Allowed, v.Fault() == nil)
		assert.NotEmpty(t, v.String())
	}
}

func TestWithoutAGrantNothingIsAllowed(t *testing.T) {
	p := NewPolicy(account(nil))
	for bit := range rightNames {
		assert.False(t, p.Decide(1<<bit, "/").Allowed)
	}
	assert.False(t, p.Any("/"))
}

// naive decides by looking at every folder from the path upward.
func naive(a *Account, right Rights, at string) bool {
	deepest := func(has func(string) bool) string {
		for p := at; ; p = path.Dir(p) {
			if has(p) {
				return p
			}
			if p == "/" {
				return ""
			}
		}
	}
	grants, readOnlyAt := map[string]Rights{}, map[string]bool{}
	for _, g := range a.Grants {
		grants[g.Path] = g.Rights
	}
	for _, m := range a.Mounts {
		readOnlyAt[m.At] = m.ReadOnly
	}
	g := deepest(func(p string) bool { _, ok := grants[p]; return ok })
	m := deepest(func(p string) bool { _, ok := readOnlyAt[p]; return ok })
	return g != "" && grants[g]&right == right && (!readOnlyAt[m] || right&^(List|Download) == 0)
}

func TestDecisionsAgreeWithANaiveSecondEvaluation(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	names := []string{"a", "b", "ab", "a b"}
	somewhere := func() string {
		p := "/"
		for range r.IntN(4) {
			p = path.Join(p, names[r.IntN(len(names))])
		}
		return p
	}
	for range 20000 {
		a := account(nil)
		for range r.IntN(4) {
			a.Mounts = append(a.Mounts, Mount{At: somewhere(), Store: "files", Folder: "x", ReadOnly: r.IntN(2) == 0})
		}
		for range r.IntN(5) {
			a.Grants = append(a.Grants, Grant{somewhere(), Rights(r.IntN(int(Full) + 1))})
		}
		if a.Check() != nil {
			continue // two mounts or grants at one path
		}
		right, at := Rights(1<<r.IntN(10)), somewhere()
		v := NewPolicy(a).Decide(right, at)
		require.Equal(t, naive(a, right, at), v.Allowed, "%v\n%v\n%s", a.Mounts, a.Grants, v)
	}
}

func TestUniformSeesOnlyGrantsInsideTheMount(t *testing.T) {
	maps := []Mount{{At: "/basemaps", Store: "files", Folder: "maps"}}
	assert.True(t, NewPolicy(account(maps, Grant{"/", Full}, Grant{"/basemaps", readOnly})).Uniform("/"))
	assert.False(t, NewPolicy(account(maps, Grant{"/", Full}, Grant{"/in", dropOnly})).Uniform("/"))
	assert.True(t, NewPolicy(account(maps, Grant{"/", Full}, Grant{"/in", dropOnly})).Uniform("/basemaps"))
}

func TestBranchesNameTheMountsBelow(t *testing.T) {
	p := NewPolicy(account([]Mount{{At: "/shared/maps", Store: "files", Folder: "m"}, {At: "/shared/plates/a", Store: "files", Folder: "p"}}))
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
	assert.ErrorContains(t, none.Check(), "home: a home is always explicit")
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

func BenchmarkDecide(b *testing.B) {
	grants := []Grant{{"/", readOnly}}
	for n := range 20 {
		grants = append(grants, Grant{fmt.Sprintf("/district-%02d/scans", n), addOnly})
	}
	p := NewPolicy(account(nil, grants...))
	b.ReportAllocs()
	for b.Loop() {
		if !p.Decide(Upload, "/district-19/scans/today/traverse.las").Allowed {
			b.Fatal("refused")
		}
	}
}
