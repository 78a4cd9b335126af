package exchange

import (
	"io/fs"
	"net/http"
	"strings"
	"time"

	"urbankeep/internal/files/tree"
)

// Conditions holds a change against what a request says that should be there (RFC 9110, section 13.2.2); nil is nothing. Tags are
// compared strongly: a weak one is never the one that is meant.
func Conditions(r *http.Request, t *tree.Tree, there fs.FileInfo) error {
	if there != nil && r.Header.Get("If-None-Match") == "*" {
		return errNotAsSaid
	}
	return conditions(r, t, there)
}

// conditions is Conditions for an upload, which by itself takes no name that something has with If-None-Match: *.
func conditions(r *http.Request, t *tree.Tree, there fs.FileInfo) error {
	tag := ""
	if there != nil && !there.IsDir() {
		tag = t.Tag(there)
	}
	if match := strings.Join(r.Header.Values("If-Match"), ","); match != "" {
		switch {
		case match == "*" && there != nil:
		case strings.HasPrefix(tag, "W/") && match != "*":
			return &Problem{http.StatusPreconditionFailed, "versions of this file can't be told apart for certain, where it lies or while it is being written: ask with If-Unmodified-Since, or without a condition"}
		case match == "*" || !anyTag(match, tag, SameTag):
			return errNotAsSaid
		}
	} else if since, err := http.ParseTime(r.Header.Get("If-Unmodified-Since")); err == nil {
		if there != nil && there.ModTime().Truncate(time.Second).After(since) {
			return errNotAsSaid
		}
	}
	if none := strings.Join(r.Header.Values("If-None-Match"), ","); none != "" && there != nil && anyTag(none, tag, alikeTag) {
		return errNotAsSaid
	}
	return nil
}

var errNotAsSaid = &Problem{http.StatusPreconditionFailed, "it is not as the request says that it should be"}

// conditional reports whether a request has any.
func conditional(r *http.Request) bool {
	return r.Header.Get("If-Match") != "" || r.Header.Get("If-None-Match") != "" || r.Header.Get("If-Unmodified-Since") != ""
}

// SameTag compares entity tags strongly (RFC 9110, section 8.8.3.2).
func SameTag(a, b string) bool { return a == b && a != "" && !strings.HasPrefix(a, "W/") }

// alikeTag compares them weakly.
func alikeTag(a, b string) bool {
	return a != "" && strings.TrimPrefix(a, "W/") == strings.TrimPrefix(b, "W/")
}

func anyTag(list, tag string, same func(a, b string) bool) bool {
	for one := range strings.SplitSeq(list, ",") {
		if same(strings.TrimSpace(one), tag) {
			return true
		}
	}
	return false
}
