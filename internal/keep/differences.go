package keep

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"unicode"
)

// Differences says what a change changed, a sentence for each field, in the words in which its value can
// be given. Before and after are what the thing was in JSON, null for nothing.
func Differences(before, after json.RawMessage) []string {
	was, is := fieldsOf(before), fieldsOf(after)
	switch {
	case was == nil:
		return []string{"added"}
	case is == nil:
		return []string{"removed"}
	}
	said := []string{}
	for _, key := range slices.Sorted(maps.Keys(merged(was, is))) {
		if !bytes.Equal(was[key], is[key]) {
			label, from := sayField(key, was[key])
			_, to := sayField(key, is[key])
			said = append(said, fmt.Sprintf("%s: %s → %s", label, from, to))
		}
	}
	return said
}

func merged(a, b map[string]json.RawMessage) map[string]json.RawMessage {
	all := maps.Clone(a)
	maps.Copy(all, b)
	return all
}

// fieldsOf are the fields of an object, its settings among them.
func fieldsOf(raw json.RawMessage) (fields map[string]json.RawMessage) {
	if json.Unmarshal(raw, &fields) != nil {
		return nil
	}
	var settings map[string]json.RawMessage
	if fields != nil && json.Unmarshal(fields["settings"], &settings) == nil {
		delete(fields, "settings")
		maps.Copy(fields, settings)
	}
	return fields
}

// sayField is a field of a thing's and its value, for people.
func sayField(key string, raw json.RawMessage) (label, value string) {
	at := slices.IndexFunc(AllSettings, func(s Setting) bool { return s.Name == key })
	if at >= 0 {
		label = AllSettings[at].Label
		var own Settings
		if len(raw) > 0 && own.Put(key, raw) == nil && !own.fieldAt(at).IsNil() {
			terms, _ := inForce(&own, nil)
			return label, AllSettings[at].say(&terms)
		}
		return label, "not set"
	}
	return spaced(key), sayJSON(key, raw)
}

// spaced makes words of a name in JSON.
func spaced(key string) string {
	var b strings.Builder
	for _, r := range key {
		if unicode.IsUpper(r) {
			b.WriteByte(' ')
			r = unicode.ToLower(r)
		}
		b.WriteRune(r)
	}
	return b.String()
}

func sayJSON(key string, raw json.RawMessage) string {
	var mounts []Mount
	var grants []Grant
	switch {
	case key == "mounts" && json.Unmarshal(raw, &mounts) == nil:
		return sayTexts(mounts)
	case key == "grants" && json.Unmarshal(raw, &grants) == nil:
		return sayTexts(grants)
	}
	var value any
	if json.Unmarshal(raw, &value) != nil || value == nil {
		return "none"
	}
	switch v := value.(type) {
	case string:
		if v == "" {
			return "none"
		}
		return strings.ReplaceAll(v, "\n", " ")
	case bool:
		return map[bool]string{true: "yes", false: "no"}[v]
	case float64:
		if key == "days" && v == 0 {
			return "ever"
		}
	case []any:
		if len(v) == 0 {
			if word := map[string]string{"allow": "everybody", "deny": "nobody"}[key]; word != "" {
				return word
			}
			return "none"
		}
	}
	return sayNested(value)
}

// sayNested is a value of JSON in words: what is in an object with its names, what stands in a list behind each other.
func sayNested(value any) string {
	var texts []string
	between := ", "
	switch v := value.(type) {
	case []any:
		for _, one := range v {
			if _, ok := one.(map[string]any); ok {
				between = "; "
			}
			texts = append(texts, sayNested(one))
		}
	case map[string]any:
		for _, key := range slices.Sorted(maps.Keys(v)) {
			if text := sayNested(v[key]); text != "" {
				texts = append(texts, spaced(key)+" "+text)
			}
		}
	case bool:
		return map[bool]string{true: "yes", false: "no"}[v]
	case nil:
		return ""
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	default:
		return strings.ReplaceAll(fmt.Sprint(v), "\n", " ")
	}
	return strings.Join(texts, between)
}

func sayTexts[T interface{ Text() string }](list []T) string {
	if len(list) == 0 {
		return "none"
	}
	var texts []string
	for _, one := range list {
		texts = append(texts, one.Text())
	}
	return strings.Join(texts, ", ")
}
