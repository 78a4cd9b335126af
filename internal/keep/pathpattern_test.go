package keep

import (
	"path"
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"
)

// What is matched part by part is what the expression says that a pattern means.
func FuzzPathPattern(f *testing.F) {
	for _, seed := range [][2]string{{"/in/**/*.csv", "/in/a/b.csv"}, {"/**", "/"}, {"/*", "/"}, {"/**/f*", "/f"}, {"/a/**", "/a"}, {"/**/a/**/b", "/x/a/a/b/b"}, {"/a?/ø*", "/ab/øx"}, {"/**/**", "/a"}, {"/a**/b", "/ax/y/b"}} {
		f.Add(seed[0], seed[1])
	}
	f.Fuzz(func(t *testing.T, text, at string) {
		text, err := CleanPathPattern(text)
		if err != nil || !utf8.ValidString(text) || !utf8.ValidString(at) || !strings.HasPrefix(at, "/") || path.Clean(at) != at || !strings.ContainsAny(text, "*?") {
			return
		}
		p, err := ParsePathPattern(text)
		if err != nil {
			t.Fatal(err)
		}
		expr := strings.NewReplacer(`\*\*/`, `(?:.*/)?`, `\*\*`, `.*`, `\*`, `[^/]*`, `\?`, `[^/]`).Replace(regexp.QuoteMeta(text))
		if want := regexp.MustCompile(`(?s)\A` + expr + `\z`).MatchString(at); p.Matches(at) != want {
			t.Fatalf("%q against %q: %v", text, at, !want)
		}
	})
}
