package keep

import (
	"encoding/json"
	"strconv"
	"strings"
)

// Facts are what somebody else needs to know of a deed, beside what every record says. What is not so, or not known, is left
// out. They have one name each, in JSON, CSV, syslog and the trail itself; the order of the fields is that of the trail, so new
// ones come last.
type Facts struct {
	Hash      string          `json:"hash,omitempty"`      // SHA-256 of a file that came whole, hexadecimal
	Replaced  bool            `json:"replaced,omitempty"`  // a file gave way
	Piece     bool            `json:"piece,omitempty"`     // of an upload that has not its name yet
	Held      bool            `json:"held,omitempty"`      // it came whole, and waits for its check
	Rehearsal bool            `json:"rehearsal,omitempty"` // it was only tried, on files that nobody else sees
	Holder    string          `json:"holder,omitempty"`    // whose pass an operator ended
	Before    json.RawMessage `json:"before,omitempty"`    // what an operator changed, as it was; nil: it was not there
	After     json.RawMessage `json:"after,omitempty"`     // and as it is; nil: it is gone
	Undoes    int64           `json:"undoes,omitempty"`    // the change that this one took back
}

// facts is the one table of them: their names, and where they are.
var facts = []struct {
	name string
	at   func(*Facts) any
}{
	{"hash", func(f *Facts) any { return &f.Hash }},
	{"replaced", func(f *Facts) any { return &f.Replaced }},
	{"piece", func(f *Facts) any { return &f.Piece }},
	{"held", func(f *Facts) any { return &f.Held }},
	{"rehearsal", func(f *Facts) any { return &f.Rehearsal }},
	{"holder", func(f *Facts) any { return &f.Holder }},
	{"before", func(f *Facts) any { return &f.Before }},
	{"after", func(f *Facts) any { return &f.After }},
	{"undoes", func(f *Facts) any { return &f.Undoes }},
}

// FactNames are the names of all facts, in their order.
func FactNames() (names []string) {
	for _, fact := range facts {
		names = append(names, fact.name)
	}
	return names
}

// Values are all facts as texts, in their order; "" is what is not known, or not so.
func (f *Facts) Values() []string {
	values := make([]string, len(facts))
	for i, fact := range facts {
		values[i] = valueOf(fact.at(f))
	}
	return values
}

func valueOf(at any) string {
	switch at := at.(type) {
	case *string:
		return *at
	case *bool:
		if *at {
			return "true"
		}
	case *json.RawMessage:
		return string(*at)
	case *int64:
		if *at != 0 {
			return strconv.FormatInt(*at, 10)
		}
	}
	return ""
}

// Text are the facts in the form that the trail keeps and chains: a line for each, its name, a blank, its value. No
// value has a line break in it: JSON is in its compact form.
func (f *Facts) Text() string {
	if f.Hash == "" && !f.Replaced && !f.Piece && !f.Held && !f.Rehearsal && f.Holder == "" && f.Before == nil && f.After == nil && f.Undoes == 0 {
		return "" // most records
	}
	var text strings.Builder
	for i, value := range f.Values() {
		if value != "" {
			text.WriteString(facts[i].name + " " + value + "\n")
		}
	}
	return text.String()
}

// ReadFacts is Text's way back. Whatever else stands there is not of the trail: false.
func ReadFacts(text string) (f Facts, ok bool) {
	if text == "" {
		return f, true
	}
	for line := range strings.Lines(text) {
		name, value, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		for _, fact := range facts {
			if fact.name != name {
				continue
			}
			switch at := fact.at(&f).(type) {
			case *string:
				*at = value
			case *bool:
				*at = value == "true"
			case *json.RawMessage:
				*at = json.RawMessage(value)
			case *int64:
				*at, _ = strconv.ParseInt(value, 10, 64)
			}
		}
	}
	return f, f.Text() == text
}

// OldHash is the hash of an upload that was recorded before facts were fields: its sentence says it.
func (r *AuditRecord) OldHash() string {
	if sum, is := strings.CutPrefix(r.Detail, "SHA-256 "); is && r.Action == Uploading && r.Outcome == Done {
		sum, _, _ = strings.Cut(sum, "; ")
		return sum
	}
	return ""
}
