package netfile

import (
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"hollowbridge/core/network"
)

// A Use is a place of a network file where a name stands.
type Use struct {
	Place network.Position
	In    string // what it stands in, as "port-forward web of rim" or "group fronts"; empty at the top of the file
	Key   string // the key whose value it is in; empty where the name is given here
	Text  string // the whole value
	Is    string // what it is the name of, where it is given here; else empty
	Said  bool   // people wrote it, and nothing follows from it: in a note or the like
}

// sayings are the keys with words for people.
var sayings = []string{"note", "say", "owner"}

// Where returns every place of the file where a name stands as a word of its own, in the order of the file.
func (e *Editor) Where(name string) []Use {
	w := &finder{file: e.path, name: name}
	for i := 0; e.root != nil && i+1 < len(e.root.Content); i += 2 {
		section, body := e.root.Content[i], e.root.Content[i+1]
		is := strings.TrimSuffix(section.Value, "s")
		if body.Kind != yaml.MappingNode || !slices.Contains([]string{"group", "service", "host", "gateway", "zone", "segment"}, is) {
			w.walk(body, "", section.Value)
			continue
		}
		for k := 0; k+1 < len(body.Content); k += 2 {
			w.given(body.Content[k], is, is+" "+body.Content[k].Value)
			w.walk(body.Content[k+1], is+" "+body.Content[k].Value, "")
		}
	}
	return w.found
}

// A finder looks for a name.
type finder struct {
	file, name string
	found      []Use
}

func (w *finder) place(n *yaml.Node) network.Position {
	return network.Position{File: w.file, Line: n.Line, Column: n.Column}
}

// given notes a name where it is given.
func (w *finder) given(n *yaml.Node, is, in string) {
	if n.Value == w.name {
		w.found = append(w.found, Use{Place: w.place(n), In: in, Text: n.Value, Is: is})
	}
}

// walk looks at a value of a key, in something.
func (w *finder) walk(n *yaml.Node, in, key string) {
	switch n.Kind {
	case yaml.ScalarNode:
		words := strings.FieldsFunc(n.Value, func(r rune) bool { return strings.ContainsRune(" ,[]():;%@'\"", r) })
		if slices.Contains(words, w.name) || n.Value == w.name {
			w.found = append(w.found, Use{Place: w.place(n), In: in, Key: key, Text: n.Value, Said: slices.Contains(sayings, key)})
		}
	case yaml.SequenceNode:
		for _, item := range n.Content {
			w.walk(item, in, key)
		}
	case yaml.MappingNode:
		of := in
		if key == "expect" {
			of = "an expectation"
		}
		if key == "rules" {
			of = "a mapping rule of " + strings.TrimPrefix(in, "gateway ")
		} else if rule := ruleThing("", "", n); rule.Name != "" && strings.HasPrefix(in, "gateway ") {
			of = rule.String() + " of " + strings.TrimPrefix(in, "gateway ")
		}
		for i := 0; i+1 < len(n.Content); i += 2 {
			k, v := n.Content[i], n.Content[i+1]
			switch {
			case key == "interfaces":
				itself := "interface " + k.Value + " of " + strings.TrimPrefix(in, "gateway ")
				w.given(k, "interface", itself)
				w.walk(v, itself, "")
				continue
			case of != in && key != "rules" && slices.Contains(ruleKinds, k.Value):
				w.given(v, k.Value, of)
				continue
			case key == "serves" && k.Value == w.name:
				w.found = append(w.found, Use{Place: w.place(k), In: of, Key: key, Text: k.Value})
			}
			w.walk(v, of, k.Value)
		}
	}
}
