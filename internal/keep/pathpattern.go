package keep

import (
	"fmt"
	"path"
	"regexp"
	"strings"
)

// PathPattern is a pattern of paths of the tree: * is any run of characters and ? is one, neither of them a slash; ** is
// any run. One without any of them is that path and all below it.
type PathPattern struct {
	below string
	whole *regexp.Regexp
}

// CleanPathPattern is the clean form of a pattern.
func CleanPathPattern(text string) (string, error) {
	if !strings.HasPrefix(text, "/") || CheckPathName(text) != nil || len(text) > 1000 {
		return "", fmt.Errorf("the path %q must begin with a slash and hold no control characters, as in /incoming or /incoming/**/*.tif", text)
	}
	return path.Clean(text), nil
}

// ParsePathPattern reads one.
func ParsePathPattern(text string) (p PathPattern, err error) {
	if text, err = CleanPathPattern(text); err != nil {
		return p, err
	}
	if !strings.ContainsAny(text, "*?") {
		return PathPattern{below: text}, nil
	}
	expr := strings.NewReplacer(`\*\*/`, `(?:.*/)?`, `\*\*`, `.*`, `\*`, `[^/]*`, `\?`, `[^/]`).Replace(regexp.QuoteMeta(text))
	p.whole, err = regexp.Compile(`(?s)\A` + expr + `\z`)
	return p, err
}

// Matches reports whether a clean path fits.
func (p PathPattern) Matches(at string) bool {
	if p.whole == nil {
		return Covers(p.below, at)
	}
	return p.whole.MatchString(at)
}
