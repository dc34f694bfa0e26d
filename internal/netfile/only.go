package netfile

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"hollowbridge/core/network"
)

// breakAt returns how many bytes the line end at a place of a text has, 0 where none begins there. Line ends are those of
// YAML 1.1, which its reader counts: LF, CR, CR LF, U+0085, U+2028 and U+2029.
func breakAt(text []byte, i int) int {
	switch text[i] {
	case '\n':
		return 1
	case '\r':
		if i+1 < len(text) && text[i+1] == '\n' {
			return 2
		}
		return 1
	case 0xc2, 0xe2:
		for _, mark := range []string{"\u0085", "\u2028", "\u2029"} {
			if strings.HasPrefix(string(text[i:min(i+3, len(text))]), mark) {
				return len(mark)
			}
		}
	}
	return 0
}

// lineEnd returns where the line ends that a place of a text is in, and where the next one begins.
func lineEnd(text []byte, at int) (end, next int) {
	for end = at; end < len(text); end++ {
		if c := text[end]; c < ' ' || c >= 0xc2 { // what line ends begin with
			if size := breakAt(text, end); size > 0 {
				return end, end + size
			}
		}
	}
	return end, end
}

// linesOf returns the lines of a text without their ends.
func linesOf(text []byte) [][]byte {
	lines := make([][]byte, 0, bytes.Count(text, []byte("\n"))+1)
	for at := 0; at < len(text); {
		end, next := lineEnd(text, at)
		lines, at = append(lines, text[at:end]), next
	}
	return lines
}

// endsLine reports whether a text ends with a line end.
func endsLine(text []byte) bool {
	_, last := utf8.DecodeLastRune(text)
	return last > 0 && breakAt(text, len(text)-last) > 0
}

// only makes an edit, and takes it back where the file that is read again differs from the one before in anything but what
// the edit says: values are compared, not text.
func (e *Editor) only(edit network.Edit, thing Thing, apply func() error) error {
	text, root, about := e.text, e.root, edited(thing, edit)
	if edit.Verb == network.Remove && thing.list == firewallList {
		if _, rules := lookup(e.ownerOf(thing), thing.list); len(rules.Content) == 1 {
			about = []*yaml.Node{rules}
		}
	}
	if err := apply(); err != nil || root == nil {
		return err
	}
	was := valuesOf(root, about)
	if edit.Verb == network.Remove && valuesOf(e.root, nil) == was {
		return nil
	}
	for _, now := range e.meant(edit, thing) {
		if e.isAsSaid(edit, now) && valuesOf(e.root, edited(now, edit)) == was {
			return nil
		}
	}
	e.text, e.root, e.starts, e.now = text, root, nil, nil
	return fmt.Errorf("%s: to %s %s would change something else in the file too, or not be what was said; nothing was written; line ends, quotes or comments there are unusual: write this part by hand", e.path, edit.Verb, edit.Name)
}

// edited returns the nodes that an edit of a thing is about.
func edited(t Thing, edit network.Edit) []*yaml.Node {
	if t.body == nil {
		return nil
	}
	keys := saidKeys(edit)
	if keys == nil || t.Kind == "group" || t.Kind == "service" {
		return []*yaml.Node{t.body}
	}
	var list []*yaml.Node
	for _, key := range keys {
		if v := valueAt(t.body, string(key.Key)); v != nil {
			list = append(list, v)
		}
	}
	return list
}

// saidKeys returns what an edit sets in a thing that stays; nil where it is about the whole thing.
func saidKeys(edit network.Edit) []network.Setting {
	switch edit.Verb {
	case network.Change:
		return edit.Settings
	case network.Enable:
		return []network.Setting{{Key: network.KeyDisabled}}
	case network.Disable:
		return []network.Setting{{Key: network.KeyDisabled, Value: "true"}}
	}
	return nil
}

// valueAt returns what stands behind a key, with dots between those of mappings in each other.
func valueAt(body *yaml.Node, key string) *yaml.Node {
	for {
		head, rest, nested := strings.Cut(key, ".")
		_, v := lookup(body, head)
		if !nested || v == nil || v.Kind != yaml.MappingNode {
			return v
		}
		body, key = v, rest
	}
}

// meant returns the things that an edit may have been about, as they are now.
func (e *Editor) meant(edit network.Edit, t Thing) (list []Thing) {
	name := t.Name
	if edit.Verb == network.Add {
		name = edit.Name
	}
	for _, s := range edit.Settings {
		if edit.Verb == network.Change && s.Key == nameKey(t.Kind) && t.list != "" {
			name = s.Value
		}
	}
	for _, u := range e.things() {
		switch {
		case edit.Verb == network.Remove:
		case edit.Verb != network.Add:
			if u.Kind == t.Kind && u.Name == name && u.Gateway == t.Gateway && u.list == t.list {
				list = append(list, u)
			}
		case u.Kind == edit.Kind && (u.Name == name || strings.HasPrefix(u.Name, name+"/")) && (edit.Gateway == "" || u.Gateway == edit.Gateway || u.Gateway == ""):
			list = append(list, u)
		}
	}
	return list
}

// isAsSaid reports whether a thing has the values that an edit gives it, and the place.
func (e *Editor) isAsSaid(edit network.Edit, t Thing) bool {
	last := map[string]string{}
	for _, s := range saidKeys(edit) {
		last[string(s.Key)] = s.Value
	}
	for key, value := range last {
		v := valueAt(t.body, key)
		if t.Kind == "group" || t.Kind == "service" {
			v = t.body
		}
		if value == "" || v == nil {
			if value != "" || v != nil {
				return false
			}
			continue
		}
		var want yaml.Node
		if err := yaml.Unmarshal([]byte(valueText(key[strings.LastIndexByte(key, '.')+1:], value, false)), &want); err != nil || len(want.Content) != 1 || valuesOf(want.Content[0], nil) != valuesOf(v, nil) {
			return false
		}
	}
	if edit.Verb != network.Move {
		return true
	}
	_, rules := lookup(e.ownerOf(t), t.list)
	at := slices.Index(rules.Content, t.body)
	if edit.After != "" {
		return at > 0 && ruleThing(t.Gateway, t.list, rules.Content[at-1]).Name == edit.After
	}
	return at+1 < len(rules.Content) && ruleThing(t.Gateway, t.list, rules.Content[at+1]).Name == edit.Before
}

// valuesOf writes what a node says, without some nodes in it, what is empty, and how it is written. The one list that says
// something where it is empty is a host's firewall.
func valuesOf(n *yaml.Node, without []*yaml.Node) string {
	var b []byte
	var write func(n *yaml.Node)
	write = func(n *yaml.Node) {
		switch n.Kind {
		case yaml.MappingNode:
			b = append(b, '{')
			for i := 0; i+1 < len(n.Content); i += 2 {
				k, v := n.Content[i], n.Content[i+1]
				if slices.Contains(without, v) {
					continue
				}
				start := len(b)
				write(k)
				b = append(b, ':')
				from := len(b)
				write(v)
				if said := b[from:]; k.Value != firewallList && (v.Kind != yaml.ScalarNode && len(said) == 2 || v.ShortTag() == "!!null") {
					b = b[:start]
				}
			}
			b = append(b, '}')
		case yaml.SequenceNode:
			b = append(b, '[')
			for _, item := range n.Content {
				if !slices.Contains(without, item) {
					write(item)
					b = append(b, ',')
				}
			}
			b = append(b, ']')
		default:
			b = strconv.AppendQuote(append(b, n.ShortTag()...), n.Anchor+n.Value)
		}
	}
	write(n)
	return string(b)
}
