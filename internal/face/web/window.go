package web

import (
	"cmp"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
)

// sortable is a form of times that has their order.
const sortable = "2006-01-02T15:04:05.000000000"

// window is the page of a list that a request asks for: of what has its text in its words, those behind its cursor, in
// the order of their keys, which are the cursors.
func window[T any](c *gin.Context, all []T, key, words func(T) string) (api.Page[T], error) {
	page := api.Page[T]{Items: []T{}}
	size, err := limit(c)
	if err != nil {
		return page, err
	}
	type keyed struct {
		key string
		it  T
	}
	var found []keyed
	text, after := strings.ToLower(c.Query("text")), c.Query("after")
	for _, one := range all {
		if text != "" && !strings.Contains(strings.ToLower(words(one)), text) {
			continue
		}
		page.Total++
		k := key(one)
		if k <= after || len(found) > size && k >= found[size].key {
			continue
		}
		at, _ := slices.BinarySearchFunc(found, k, func(one keyed, k string) int { return cmp.Compare(one.key, k) })
		if found = slices.Insert(found, at, keyed{k, one}); len(found) > size+1 {
			found = found[:size+1]
		}
	}
	if len(found) > size {
		found = found[:size]
		page.Next = found[size-1].key
	}
	for _, one := range found {
		page.Items = append(page.Items, one.it)
	}
	return page, nil
}

// settingNames are the settings that a list is narrowed to; none: it is not.
func settingNames(c *gin.Context) ([]string, error) {
	text := c.Query("sets")
	if text == "" {
		return nil, nil
	}
	names := strings.Split(text, ",")
	for _, name := range names {
		if !slices.ContainsFunc(keep.AllSettings, func(s keep.Setting) bool { return s.Name == name }) {
			return nil, &keep.FieldError{Field: "sets", Say: "there is no setting " + name + ": GET /settings lists them"}
		}
	}
	return names, nil
}

// replyWindow replies with it.
func replyWindow[T any](c *gin.Context, all []T, key, words func(T) string) error {
	page, err := window(c, all, key, words)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, page)
	return nil
}
