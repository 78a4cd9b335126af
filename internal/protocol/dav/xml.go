package dav

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"encoding/xml"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"
	"unicode/utf16"

	"urbankeep/internal/keep"
)

// What a body may hold: bytes, elements, and how deep they lie in one another.
const (
	maxXML, maxElements, maxXMLDepth = 512 << 10, 20_000, 60
	xmlTime                          = 20 * time.Second
)

const davSpace = "DAV:"

// element is one of XML, with its namespaces resolved. There are no entities but those of XML itself, and no document
// type: what has one is refused.
type element struct {
	space, name string
	attributes  []xml.Attr // with namespaces as their Name.Space
	inside      []any      // *element or string
	language    string     // xml:lang as it holds there
}

// speak gives an element the language that holds for it, so that it stands for itself (RFC 4918, section 4.3).
func (e *element) speak() {
	own := func(a xml.Attr) bool { return a.Name.Space == xmlSpace && a.Name.Local == "lang" }
	if e.language != "" && !slices.ContainsFunc(e.attributes, own) {
		e.attributes = append(e.attributes, xml.Attr{Name: xml.Name{Space: xmlSpace, Local: "lang"}, Value: e.language})
	}
}

var errXML = status(http.StatusBadRequest, "the body is not well-formed XML with namespaces")

// body reads a request's XML; nil when there is none.
func (c *call) body() (*element, error) {
	control := http.NewResponseController(c.w)
	control.SetReadDeadline(time.Now().Add(xmlTime))
	text, err := io.ReadAll(http.MaxBytesReader(c.w, c.r.Body, maxXML))
	if err != nil {
		return nil, status(http.StatusRequestEntityTooLarge, "the body is too large, or did not come to its end")
	}
	control.SetReadDeadline(time.Time{})
	if text = utf8Of(text); len(bytes.TrimSpace(text)) == 0 {
		return nil, nil
	}
	if keep.CheckXML(text, davBounds) != nil {
		return nil, errXML
	}
	return parseXML(text)
}

// utf8Of is a body in UTF-8 that came in UTF-16 (RFC 4918, section 8.2, has both understood), without the line that says so.
func utf8Of(text []byte) []byte {
	var order binary.ByteOrder
	switch {
	case bytes.HasPrefix(text, []byte{0xfe, 0xff}):
		order = binary.BigEndian
	case bytes.HasPrefix(text, []byte{0xff, 0xfe}):
		order = binary.LittleEndian
	default:
		return text
	}
	units := make([]uint16, 0, len(text)/2)
	for at := 2; at+1 < len(text); at += 2 {
		units = append(units, order.Uint16(text[at:]))
	}
	plain := []byte(string(utf16.Decode(units)))
	if end := bytes.Index(plain, []byte("?>")); end > 0 && bytes.HasPrefix(plain, []byte("<?xml")) {
		plain = plain[end+2:]
	}
	return plain
}

// davBounds bound a body.
var davBounds = keep.XMLBounds{Bytes: maxXML, Depth: maxXMLDepth, Elements: maxElements, Attributes: 200, Namespaces: 500}

const xmlSpace = "http://www.w3.org/XML/1998/namespace"

func parseXML(text []byte) (*element, error) {
	d := xml.NewDecoder(bytes.NewReader(text))
	spaces := []map[string]string{{"xml": xmlSpace, "": ""}}
	var open []*element
	var raw []xml.Name
	var root *element
	for {
		token, err := d.RawToken()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, errXML
		}
		switch t := token.(type) {
		case xml.Directive:
			return nil, errXML
		case xml.StartElement:
			if root != nil && len(open) == 0 {
				return nil, errXML
			}
			known := spaces[len(spaces)-1]
			own := false
			for _, a := range t.Attr {
				prefix, is := a.Name.Local, a.Name.Space == "xmlns"
				if a.Name.Space == "" && a.Name.Local == "xmlns" {
					prefix, is = "", true
				} else if is && a.Value == "" {
					return nil, errXML
				}
				if is {
					if !own {
						known, own = maps.Clone(known), true
					}
					known[prefix] = a.Value
				}
			}
			e := &element{name: t.Name.Local}
			var ok bool
			if e.space, ok = known[t.Name.Space]; !ok {
				return nil, errXML
			}
			for _, a := range t.Attr {
				if a.Name.Space == "xmlns" || a.Name.Space == "" && a.Name.Local == "xmlns" {
					continue
				}
				if a.Name.Space != "" {
					if a.Name.Space, ok = known[a.Name.Space]; !ok {
						return nil, errXML
					}
				}
				if e.attributes = append(e.attributes, a); a.Name.Space == xmlSpace && a.Name.Local == "lang" {
					e.language = a.Value
				}
			}
			if len(open) > 0 {
				in := open[len(open)-1]
				in.inside = append(in.inside, e)
				e.language = cmp.Or(e.language, in.language)
			} else {
				root = e
			}
			open, raw, spaces = append(open, e), append(raw, t.Name), append(spaces, known)
		case xml.EndElement:
			if len(open) == 0 || raw[len(raw)-1] != t.Name {
				return nil, errXML
			}
			open, raw, spaces = open[:len(open)-1], raw[:len(raw)-1], spaces[:len(spaces)-1]
		case xml.CharData:
			if len(open) > 0 {
				in := open[len(open)-1]
				in.inside = append(in.inside, string(t))
			} else if len(bytes.TrimSpace(t)) > 0 {
				return nil, errXML
			}
		}
	}
	if root == nil || len(open) > 0 {
		return nil, errXML
	}
	return root, nil
}

// child is the first element of a DAV name in this one; nil when there is none.
func (e *element) child(name string) *element {
	for _, one := range e.elements() {
		if one.space == davSpace && one.name == name {
			return one
		}
	}
	return nil
}

func (e *element) elements() (all []*element) {
	for _, one := range e.inside {
		if child, is := one.(*element); is {
			all = append(all, child)
		}
	}
	return all
}

// text is what stands in it, without elements.
func (e *element) text() string {
	var all strings.Builder
	for _, one := range e.inside {
		if text, is := one.(string); is {
			all.WriteString(text)
		}
	}
	return all.String()
}

// write writes it so that it stands for itself wherever it is put.
func (e *element) write(to *strings.Builder) {
	tag := e.name
	if e.space != "" {
		tag = "x:" + e.name
	}
	to.WriteString("<" + tag)
	if e.space != "" {
		to.WriteString(` xmlns:x="` + escape(e.space) + `"`)
	} else {
		to.WriteString(` xmlns=""`)
	}
	for i, a := range e.attributes {
		switch a.Name.Space {
		case "":
			to.WriteString(" " + a.Name.Local)
		case xmlSpace:
			to.WriteString(" xml:" + a.Name.Local)
		default:
			prefix := "a" + string(rune('a'+i%26))
			to.WriteString(" xmlns:" + prefix + `="` + escape(a.Name.Space) + `" ` + prefix + ":" + a.Name.Local)
		}
		to.WriteString(`="` + escape(a.Value) + `"`)
	}
	to.WriteString(">")
	for _, one := range e.inside {
		switch one := one.(type) {
		case *element:
			one.write(to)
		case string:
			to.WriteString(escape(one))
		}
	}
	to.WriteString("</" + tag + ">")
}

// escape is text as it stands in XML; what XML can't hold is replaced.
func escape(text string) string {
	if !strings.ContainsAny(text, "<>&\"'\r\n\t") && plain(text) {
		return text
	}
	var b strings.Builder
	xml.EscapeText(&b, []byte(text))
	return b.String()
}

func plain(text string) bool {
	for i := 0; i < len(text); i++ {
		if text[i] < 0x20 || text[i] >= 0x7f {
			return false
		}
	}
	return true
}
