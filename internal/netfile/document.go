package netfile

import (
	"bytes"
	"errors"
	"io"
	"regexp"

	"go.yaml.in/yaml/v3"
)

// errSecond is that a text has a second document.
var errSecond = errors.New("a second document")

// decode returns the document of a text: io.EOF where it is empty, and errSecond with the second one where it has two.
//
// The library keeps comments several times over, which nobody asks for. So it is given them without their words; where
// that might have changed a value, or is wrong, it is given the text as it is.
func decode(text []byte) (*yaml.Node, error) {
	if short := withoutWords(text); len(short) < len(text) {
		if document, err := decodeAll(short); err == nil && !hasBareMark(document) {
			return document, nil
		}
	}
	return decodeAll(text)
}

func decodeAll(text []byte) (*yaml.Node, error) {
	decoder := yaml.NewDecoder(bytes.NewReader(text))
	var document, second yaml.Node
	if err := decoder.Decode(&document); err != nil {
		return nil, err
	}
	switch err := decoder.Decode(&second); {
	case err == nil:
		return &second, errSecond
	case !errors.Is(err, io.EOF):
		return nil, err
	}
	return &document, nil
}

// withoutWords returns a text whose lines that begin with # have nothing else: no line and no column of
// what stands elsewhere changes.
func withoutWords(text []byte) []byte {
	short := make([]byte, 0, min(len(text), 1<<20))
	for at := 0; at < len(text); {
		end, next := lineEnd(text, at)
		if text[at] == '#' {
			short = append(short, '#')
		} else {
			short = append(short, text[at:end]...)
		}
		short, at = append(short, text[end:next]...), next
	}
	return short
}

// bareMark is what a line without its words is within a value that goes over several lines.
var bareMark = regexp.MustCompile(`(^|[\s\x{85}\x{2028}\x{2029}])#($|[\s\x{85}\x{2028}\x{2029}])`)

func hasBareMark(n *yaml.Node) bool {
	if bareMark.MatchString(n.Value) {
		return true
	}
	for _, child := range n.Content {
		if hasBareMark(child) {
			return true
		}
	}
	return false
}
