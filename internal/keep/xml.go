package keep

import (
	"bytes"
	"encoding/xml"
	"errors"
)

// XMLBounds bound a document from outside before anything else looks at it.
type XMLBounds struct {
	Bytes      int
	Depth      int // of elements in one another
	Elements   int
	Attributes int // of one element, with its namespaces
	Namespaces int // that are declared where an element stands
}

// ErrXML says that a document is not well-formed, has a document type, or is beyond its bounds.
var ErrXML = errors.New("the XML is not well-formed, has a document type, or is larger or deeper than may be")

// CheckXML reports [ErrXML] for a document beyond its bounds, or one with a document type: entities are the way to have little
// become much.
func CheckXML(text []byte, most XMLBounds) error {
	if len(text) > most.Bytes {
		return ErrXML
	}
	d := xml.NewDecoder(bytes.NewReader(text))
	elements, declared := 0, []int{0}
	for {
		token, err := d.RawToken()
		switch {
		case err != nil && len(declared) == 1 && elements > 0 && d.InputOffset() == int64(len(text)):
			return nil // its end
		case err != nil:
			return ErrXML
		}
		switch t := token.(type) {
		case xml.Directive:
			return ErrXML
		case xml.StartElement:
			spaces := declared[len(declared)-1]
			for _, a := range t.Attr {
				if a.Name.Space == "xmlns" || a.Name.Space == "" && a.Name.Local == "xmlns" {
					spaces++
				}
			}
			declared = append(declared, spaces)
			if elements++; elements > most.Elements || len(declared) > most.Depth+1 || len(t.Attr) > most.Attributes || spaces > most.Namespaces {
				return ErrXML
			}
		case xml.EndElement:
			if declared = declared[:len(declared)-1]; len(declared) == 0 {
				return ErrXML
			}
		}
	}
}
