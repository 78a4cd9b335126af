package keep_test

import (
	"encoding/xml"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"urbankeep/internal/keep"
)

var xmlBounds = keep.XMLBounds{Bytes: 100_000, Depth: 10, Elements: 50, Attributes: 5, Namespaces: 6}

func TestXMLFromOutsideHasBounds(t *testing.T) {
	many := func(n int, text string) string { return strings.Repeat(text, n) }
	for text, fits := range map[string]bool{
		"": false, "text": false, "<a/>": true, "<a></b>": true, "<a>": false, "</a>": false, "<a/></a>": false, // names in pairs the reader behind it wants
		many(10, "<a>") + many(10, "</a>"): true, many(11, "<a>") + many(11, "</a>"): false,
		"<r>" + many(49, "<a/>") + "</r>": true, "<r>" + many(50, "<a/>") + "</r>": false,
		`<a a="1" b="2" c="3" d="4" e="5"/>`: true, `<a a="1" b="2" c="3" d="4" e="5" f="6"/>`: false,
		`<a xmlns="u" xmlns:b="v" xmlns:c="v" xmlns:d="v"><b xmlns:e="v" xmlns:f="v"/><b xmlns:g="v"/></a>`: true,
		`<a xmlns="u" xmlns:b="v" xmlns:c="v" xmlns:d="v"><b xmlns:e="v" xmlns:f="v" xmlns:g="v"/></a>`:     false,
		`<!DOCTYPE a [<!ENTITY x "y">]><a>&x;</a>`:                                                          false, "<a>&x;</a>": false, "<a>&lt;</a>": true, "<a>" + many(100_000, "x") + "</a>": false,
	} {
		assert.Equal(t, fits, keep.CheckXML([]byte(text), xmlBounds) == nil, "%.100s", text)
	}
}

func FuzzXMLFromOutside(f *testing.F) {
	for n := range 12 {
		f.Add([]byte(strings.Repeat(fmt.Sprintf(`<a xmlns:n%d="u" b="c">`, n), n) + strings.Repeat("</a>", n)))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		if keep.CheckXML(text, xmlBounds) != nil {
			return
		}
		depth, most := 0, 0
		for d := xml.NewDecoder(strings.NewReader(string(text))); ; {
			token, err := d.RawToken()
			if err != nil {
				break
			}
			switch token.(type) {
			case xml.StartElement:
				depth++
				most = max(most, depth)
			case xml.EndElement:
				depth--
			case xml.Directive:
				t.Fatal("a document type passed")
			}
		}
		if most > xmlBounds.Depth || depth != 0 {
			t.Fatalf("depth %d, left %d", most, depth)
		}
	})
}
