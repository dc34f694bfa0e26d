package netfile

import (
	"slices"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // for machines without the database

	"go.yaml.in/yaml/v3"

	"hollowbridge/core/network"
)

// fields are the keys and values of one mapping of the file, checked against an
// object's table.
type fields struct {
	*reader
	node   *yaml.Node
	object *object
	keys   map[string]*yaml.Node
	values map[string]*yaml.Node
}

// fields reads a mapping. It reports what is no mapping, unknown and repeated
// keys, and required keys that are missing; it returns nil only for no mapping.
func (r *reader) fields(n *yaml.Node, o *object) *fields {
	if n.Kind != yaml.MappingNode {
		r.fail(n, "%s is written as keys and values: %s", article(o.name), strings.Join(o.names(), ", "))
		return nil
	}
	f := &fields{r, n, o, map[string]*yaml.Node{}, map[string]*yaml.Node{}}
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, v := n.Content[i], n.Content[i+1]
		switch {
		case k.Kind != yaml.ScalarNode || o.key(k.Value) == nil:
			r.fail(k, "%s: %s has no such key%s", k.Value, article(o.name), oneOf(k.Value, o.names()))
		case f.keys[k.Value] != nil:
			r.fail(k, "%s: given twice; the first is in line %d", k.Value, f.keys[k.Value].Line)
		default:
			f.keys[k.Value], f.values[k.Value] = k, v
		}
	}
	for _, k := range o.keys {
		if k.required && f.keys[k.name] == nil {
			r.fail(n, "%s needs %s: %s%s", article(o.name), k.name, k.meaning, k.without)
		}
	}
	return f
}

// child reads the mapping behind a key, or returns nil.
func (f *fields) child(key string) *fields {
	n := f.values[key]
	if n == nil {
		return nil
	}
	return f.fields(n, f.object.key(key).shape.object)
}

// children reads the list of mappings behind a key.
func (f *fields) children(key string) []*fields {
	var found []*fields
	for _, n := range f.listOf(key) {
		if c := f.fields(n, f.object.key(key).shape.object); c != nil {
			found = append(found, c)
		}
	}
	return found
}

// listOf returns the items of the list behind a key.
func (f *fields) listOf(key string) []*yaml.Node {
	n := f.values[key]
	if n == nil || isNull(n) {
		return nil
	}
	if n.Kind != yaml.SequenceNode {
		f.fail(n, "%s is a list", key)
		return nil
	}
	return n.Content
}

// A namedNode is one entry of a mapping of names.
type namedNode struct{ name, body *yaml.Node }

// namedChildren returns the entries of the mapping behind a key; names are checked.
func (f *fields) namedChildren(key, what string) []namedNode {
	n := f.values[key]
	if n == nil || isNull(n) {
		return nil
	}
	if n.Kind != yaml.MappingNode {
		f.fail(n, "%s are written as names and what they stand for", key)
		return nil
	}
	var found []namedNode
	seen := map[string]*yaml.Node{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		k := n.Content[i]
		if first := seen[k.Value]; first != nil {
			f.fail(k, "%s: there are two %ss of this name; the first is in line %d", k.Value, what, first.Line)
			continue
		}
		if !f.validName(k) {
			continue
		}
		seen[k.Value] = k
		found = append(found, namedNode{k, n.Content[i+1]})
	}
	return found
}

// reserved are the words that address expressions and rules use themselves.
var reserved = []string{"any", "internet", "except", "default", "interface", besideWord}

// validName reports names that could not be told from something else.
func (r *reader) validName(n *yaml.Node) bool {
	if n.Kind != yaml.ScalarNode {
		r.fail(n, "a name is missing here")
		return false
	}
	if wrong := wrongName(n.Value); wrong != "" {
		r.fail(n, "%s", wrong)
		return false
	}
	return true
}

// wrongName says why something can't have a name; nothing where it can.
func wrongName(name string) string {
	switch {
	case name == "":
		return "a name is missing here"
	case slices.Contains(reserved, name):
		return name + ": this word has a meaning of its own and can't be a name"
	}
	for i, c := range name {
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
		other := c >= '0' && c <= '9' || c == '-' || c == '_' || c == '.'
		if !letter && (i == 0 || !other) {
			return name + ": a name begins with a letter and goes on with letters, digits, - _ and ."
		}
	}
	if len(name) > 64 {
		return name[:20] + "...: a name has at most 64 characters"
	}
	return ""
}

// claim gives a name to something in the namespace of zones, groups, hosts and gateways.
func (r *reader) claim(n *yaml.Node, what string) bool {
	if first, taken := r.names[n.Value]; taken {
		r.fail(n, "%s: this is already the name of a %s (line %d); zones, groups, hosts and gateways share their names", n.Value, first.what, first.place.Line)
		return false
	}
	r.names[n.Value] = nameUse{what, r.place(n)}
	return true
}

func isNull(n *yaml.Node) bool { return n.Kind == yaml.ScalarNode && n.Tag == "!!null" }

// scalar returns the text behind a key; ok is false where the key is absent or wrong.
func (f *fields) scalar(key string) (n *yaml.Node, ok bool) {
	n = f.values[key]
	if n == nil {
		return nil, false
	}
	if n.Kind != yaml.ScalarNode || isNull(n) || n.Value == "" {
		f.fail(n, "%s is a text, as %s", key, f.object.key(key).meaning)
		return nil, false
	}
	return n, true
}

// line returns a text of one line behind a key.
func (f *fields) line(key string) string {
	n, ok := f.scalar(key)
	if !ok {
		return ""
	}
	for _, c := range n.Value {
		if c < ' ' || c == 0x7f || c >= 0x80 && c < 0xa0 {
			f.fail(n, "%s: one line of text without control characters", key)
			return ""
		}
	}
	return n.Value
}

// deadline returns until when something is, behind a key.
func (f *fields) deadline(key string) network.Deadline {
	n, ok := f.scalar(key)
	if !ok {
		return ""
	}
	until, err := network.ParseDeadline(n.Value)
	if err != nil {
		f.fail(n, "%s", err)
	}
	return until
}

// timezone returns the time zone behind a key, by its name in the database of IANA (RFC 6557); nil where
// there is none.
func (f *fields) timezone(key string) *time.Location {
	n, ok := f.scalar(key)
	if !ok {
		return nil
	}
	where, err := time.LoadLocation(n.Value)
	if err != nil || n.Value == "" || n.Value == "Local" { // which would be another one on each machine
		f.fail(n, "%s: no such time zone; write it as REGION/CITY, as Europe/Oslo, or UTC", n.Value)
		return nil
	}
	return where
}

func (f *fields) flag(key string, otherwise bool) bool {
	n := f.values[key]
	if n == nil {
		return otherwise
	}
	if n.Kind == yaml.ScalarNode && (n.Value == "true" || n.Value == "false") {
		return n.Value == "true"
	}
	f.fail(n, "%s is true or false", key)
	return otherwise
}

func (f *fields) number(key string, least, most, otherwise int) int {
	n := f.values[key]
	if n == nil {
		return otherwise
	}
	value, err := strconv.Atoi(n.Value)
	if n.Kind != yaml.ScalarNode || err != nil || strconv.Itoa(value) != n.Value || value < least || value > most {
		f.fail(n, "%s is a whole number from %d to %d", key, least, most)
		return otherwise
	}
	return value
}

// most returns a number that is at least 1, 0 where the key is absent: then there is no limit.
func (f *fields) most(key string, most int) int {
	if n := f.values[key]; n != nil && n.Value == "0" {
		f.fail(n, "%s: 0 leaves room for none; leave the key out where there is no limit", key)
		return 0
	}
	return f.number(key, 1, most, 0)
}

// word returns one of the key's words, "" where it is absent or wrong.
func (f *fields) word(key string) string {
	n := f.values[key]
	if n == nil {
		return ""
	}
	words := f.object.key(key).shape.words
	if n.Kind == yaml.ScalarNode {
		for _, w := range words {
			if n.Value == w {
				return w
			}
		}
	}
	f.fail(n, "%s: %s is %s%s", n.Value, key, strings.Join(words, " or "), DidYouMean(n.Value, words))
	return ""
}

// scalars returns the text behind a key, or the texts of the list there.
func (f *fields) scalars(key string) []*yaml.Node {
	n := f.values[key]
	if n == nil {
		return nil
	}
	nodes := []*yaml.Node{n}
	if n.Kind == yaml.SequenceNode {
		nodes = n.Content
		if len(nodes) == 0 {
			f.fail(n, "%s: the list is empty", key)
		}
	}
	var found []*yaml.Node
	for _, item := range nodes {
		if item.Kind != yaml.ScalarNode || isNull(item) || item.Value == "" {
			f.fail(item, "%s is a text or a list of texts: %s", key, f.object.key(key).meaning)
			continue
		}
		found = append(found, item)
	}
	return found
}
