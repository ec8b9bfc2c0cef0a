package ecosystem

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"

	"golang.org/x/text/encoding/htmlindex"
)

const maxXMLDepth = 64

// guard lets tokens through that are no threat: no document type declarations,
// which could name entities or other files, and no absurd depth.
type guard struct {
	decoder *xml.Decoder
	depth   int
}

func (g *guard) Token() (xml.Token, error) {
	token, err := g.decoder.Token()
	switch token.(type) {
	case xml.Directive:
		return nil, errors.New("it has a document type declaration (DOCTYPE), which is not accepted")
	case xml.StartElement:
		if g.depth++; g.depth > maxXMLDepth {
			return nil, fmt.Errorf("its elements are nested deeper than %d", maxXMLDepth)
		}
	case xml.EndElement:
		g.depth--
	}
	return token, err
}

// DecodeXML reads one document into v.
func DecodeXML(r io.Reader, v any) error {
	decoder := xml.NewDecoder(r)
	decoder.CharsetReader = func(label string, input io.Reader) (io.Reader, error) {
		encoding, err := htmlindex.Get(label)
		if err != nil {
			return nil, fmt.Errorf("its encoding %q is not known", label)
		}
		return encoding.NewDecoder().Reader(input), nil
	}
	guarded := xml.NewTokenDecoder(&guard{decoder: decoder})
	if err := guarded.Decode(v); err != nil {
		if errors.Is(err, io.EOF) {
			return errors.New("it has no XML element")
		}
		return err
	}
	for {
		switch token, err := guarded.Token(); {
		case err == io.EOF:
			return nil
		case err != nil:
			return err
		default:
			if _, element := token.(xml.StartElement); element {
				return errors.New("something follows after its last element")
			}
		}
	}
}
