package keep

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
)

// PathPattern is a pattern of paths of the tree: * is any run of characters and ? is one, neither of them a slash; ** is
// any run. One without any of them is that path and all below it.
type PathPattern struct {
	below string
	parts []string       // between its slashes, when ** is a part by itself
	whole *regexp.Regexp // else
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
	if p.parts = strings.Split(text[1:], "/"); !slices.ContainsFunc(p.parts, func(part string) bool { return part != "**" && strings.Contains(part, "**") }) {
		return p, nil
	}
	expr := strings.NewReplacer(`\*\*/`, `(?:.*/)?`, `\*\*`, `.*`, `\*`, `[^/]*`, `\?`, `[^/]`).Replace(regexp.QuoteMeta(text))
	p.whole, err = regexp.Compile(`(?s)\A` + expr + `\z`)
	return p, err
}

// Matches reports whether a clean path fits.
func (p PathPattern) Matches(at string) bool {
	switch {
	case p.whole != nil:
		return p.whole.MatchString(at)
	case p.parts == nil:
		return Covers(p.below, at)
	case at == "/":
		return len(p.parts) == 1 && strings.Trim(p.parts[0], "*") == ""
	}
	return inParts(p.parts, at[1:])
}

// inParts reports whether a path without its first slash fits the parts of a pattern. It allocates nothing.
func inParts(parts []string, at string) bool {
	const end = -1 // n when the path is over
	many, again := -1, 0
	p, n := 0, 0
	for n != end {
		part, after := at[n:], end
		if i := strings.IndexByte(part, '/'); i >= 0 {
			part, after = part[:i], n+i+1
		}
		switch {
		case p < len(parts) && parts[p] == "**":
			if p == len(parts)-1 {
				return true
			}
			many, again = p, n
			p++
		case p < len(parts) && fits(parts[p], part, false):
			p, n = p+1, after
		case many >= 0:
			i := strings.IndexByte(at[again:], '/')
			if i < 0 {
				return false
			}
			again += i + 1
			p, n = many+1, again
		default:
			return false
		}
	}
	return p == len(parts)
}
