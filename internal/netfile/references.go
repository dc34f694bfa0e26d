package netfile

import (
	"strings"

	"go.yaml.in/yaml/v3"

	"hollowbridge/core/network"
)

// The kinds of what is referred to by name, besides host, group, service and gateway, see sections, and interface.
const (
	zoneKind       = "zone"
	registeredKind = "registered service" // a name that the file does not give: IANA's
)

// A reference is a place of a file where something is meant by its name.
type reference struct {
	kind, name string // of an interface GATEWAY:INTERFACE
	node       *yaml.Node
	at, length int // where in the node's value the name stands; of an interface its own name
}

// refers notes, where that is asked for, that a name was found to mean something.
func (r *reader) refers(n *yaml.Node, at int, kind, name string) {
	if r.references != nil {
		*r.references = append(*r.references, reference{kind, name, n, at, len(name)})
	}
}

// refersTo is refers for an interface: by its own name or, where it is whole, with its gateway's.
func (r *reader) refersTo(n *yaml.Node, at int, i *network.Interface, whole bool) {
	if r.references == nil {
		return
	}
	if whole {
		r.refers(n, at, "gateway", i.Gateway.Name)
		at += len(i.Gateway.Name) + 1
	}
	*r.references = append(*r.references, reference{interfaceKind, i.String(), n, at, len(i.Name)})
}

// references returns every place of the file where a name means something, in no order. What reads the file notes them, so
// that a name means there what it means here.
func (e *Editor) references() ([]reference, *network.Network, error) {
	var found []reference
	r := newReader(e.path, e.text)
	r.references = &found
	n, err := r.read(e.root)
	return found, n, err
}

// isWordByte reports whether a byte can stand in a name.
func isWordByte(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_' || c == '.'
}

// wordsAt returns where a name stands in a text as a word of its own.
func wordsAt(text, name string) (list []int) {
	for at := 0; ; {
		i := strings.Index(text[at:], name)
		if i < 0 {
			return list
		}
		first, last := at+i, at+i+len(name)
		rest := strings.TrimLeft(text[last:], ".") // which ends a sentence
		if (first == 0 || !isWordByte(text[first-1])) && (rest == "" || !isWordByte(rest[0])) {
			list = append(list, first)
		}
		at = last
	}
}
