package netfile

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A Variation is what a network is asked about as if its file said it. The zero Variation changes
// nothing.
type Variation struct {
	Down    []string // interfaces that are down, each as GATEWAY:INTERFACE
	Lists   []string // groups that hold what stands in other files, each as GROUP=FILE
	Without []string // rules that are not there, each as NAME, KIND NAME or GATEWAY:NAME
	With    []string // files of rules that are there as well
	ListsIn string   // the folder that lists of a file are named from that comes by a pipe; that in which the call is where empty
	Is      []string // what addresses that the provider gives are now, each as GATEWAY:INTERFACE=ADDRESS
}

// IsNone reports whether the variation changes nothing that a network says.
func (v *Variation) IsNone() bool {
	return len(v.Down)+len(v.Lists)+len(v.Without)+len(v.With)+len(v.Is) == 0
}

// ReadAs reads a network file as if it were varied. It says what it took the variation for, a line
// for each thing.
func ReadAs(path string, v *Variation) (n *network.Network, said []string, err error) {
	data, err := readBounded(path)
	if err != nil {
		return nil, nil, err
	}
	r := newReader(path, data)
	if IsPiped(path) {
		r.folder = v.ListsIn
	}
	root := r.parseYAML(data)
	if root == nil {
		n, err = r.read(nil)
		return n, nil, err
	}
	w := varier{reader: r, root: root}
	var first, later []string // rules that go: what only -with adds goes after that
	for _, text := range v.Without {
		if w.has(text) || len(v.With) == 0 {
			first = append(first, text)
		} else {
			later = append(later, text)
		}
	}
	for _, each := range []struct {
		list []string
		do   func(string) error
	}{{v.Is, w.is}, {v.Down, w.down}, {v.Lists, w.hold}, {first, w.without}, {v.With, w.with}, {later, w.without}} {
		for _, text := range each.list {
			if err := each.do(text); err != nil {
				return nil, nil, err
			}
		}
	}
	if n, err = r.read(root); err != nil {
		return nil, nil, err
	}
	return n, w.said, nil
}

// A varier changes the nodes of a file before they are read.
type varier struct {
	*reader
	root *yaml.Node
	said []string
}

func (w *varier) gateways() map[string]*yaml.Node {
	found := map[string]*yaml.Node{}
	_, gateways := lookup(w.root, "gateways")
	for i := 0; gateways != nil && i+1 < len(gateways.Content); i += 2 {
		found[gateways.Content[i].Value] = gateways.Content[i+1]
	}
	return found
}

// interfaceAt returns the node of an interface, as GATEWAY:INTERFACE, and its name's.
func (w *varier) interfaceAt(flag, text string) (key, body *yaml.Node, err error) {
	var known []string
	for name, g := range w.gateways() {
		_, interfaces := lookup(g, "interfaces")
		for i := 0; interfaces != nil && i+1 < len(interfaces.Content); i += 2 {
			full := name + ":" + interfaces.Content[i].Value
			if known = append(known, full); full != text {
				continue
			}
			return interfaces.Content[i], interfaces.Content[i+1], nil
		}
	}
	return nil, nil, fmt.Errorf("-%s %s: no such interface%s", flag, text, oneOf(text, slices.Sorted(slices.Values(known))))
}

func (w *varier) down(text string) error {
	key, body, err := w.interfaceAt("down", text)
	if err != nil {
		return err
	}
	setNode(body, "state", textNode(key, "down"))
	w.said = append(w.said, text+" is down")
	return nil
}

// is gives an interface the address that the provider gives it now.
func (w *varier) is(text string) error {
	name, address, ok := strings.Cut(text, "=")
	if !ok {
		return fmt.Errorf("-is %s: write it as GATEWAY:INTERFACE=ADDRESS", text)
	}
	_, body, err := w.interfaceAt("is", name)
	if err != nil {
		return err
	}
	if !strings.Contains(address, "/") {
		address += "/32"
	}
	if p, err := header.ParsePrefix(address); err != nil || !p.Addr().Is4() {
		return fmt.Errorf("-is %s: this is no IPv4 address", text)
	}
	_, now := lookup(body, "address")
	for _, n := range append(contentOf(now), now) {
		if n != nil && n.Kind == yaml.ScalarNode && n.Value == dynamicWord {
			n.Value, n.Tag, n.Style = address, "!!str", 0
			w.said = append(w.said, name+" is "+strings.TrimSuffix(address, "/32"))
			return nil
		}
	}
	return fmt.Errorf("-is %s: the address of %s stands in the file", text, name)
}

func contentOf(n *yaml.Node) []*yaml.Node {
	if n == nil {
		return nil
	}
	return slices.Clone(n.Content)
}

func (w *varier) hold(text string) error {
	name, file, ok := strings.Cut(text, "=")
	if !ok || name == "" || file == "" {
		return fmt.Errorf("-list %s: write it as GROUP=FILE", text)
	}
	_, groups := lookup(w.root, "groups")
	k, body := lookup(groups, name)
	if body == nil {
		var known []string
		for i := 0; groups != nil && i+1 < len(groups.Content); i += 2 {
			known = append(known, groups.Content[i].Value)
		}
		return fmt.Errorf("-list %s: no such group%s", name, oneOf(name, known))
	}
	inFile := w.list
	w.list = func(asked string) ([]byte, error) { // it is named from here, not from the network file
		if asked == file {
			return readBounded(file)
		}
		return inFile(asked)
	}
	*body = yaml.Node{Kind: yaml.MappingNode, Line: body.Line, Column: body.Column, Content: []*yaml.Node{textNode(k, "file"), textNode(k, file)}}
	w.said = append(w.said, name+" holds what stands in "+file)
	return nil
}

func (w *varier) without(text string) error {
	wanted := meantRule(text)
	taken := 0
	var known []string
	w.eachRule(func(rules *yaml.Node, all []Thing) {
		rules.Content = rules.Content[:0]
		for _, t := range all {
			if known = append(known, t.Name); !wanted(t) {
				rules.Content = append(rules.Content, t.body)
				continue
			}
			taken++
			w.said = append(w.said, fmt.Sprintf("%s %s of %s is not there", t.Kind, t.Name, t.Gateway))
		}
	})
	if taken == 0 {
		return fmt.Errorf("-without %s: no such rule%s", text, DidYouMean(text[strings.LastIndexAny(text, ": ")+1:], slices.Sorted(slices.Values(known))))
	}
	return nil
}

// has reports whether a rule is there.
func (w *varier) has(text string) (found bool) {
	wanted := meantRule(text)
	w.eachRule(func(_ *yaml.Node, all []Thing) { found = found || slices.ContainsFunc(all, wanted) })
	return found
}

// eachRule goes through the lists of rules, with what stands in them.
func (w *varier) eachRule(do func(rules *yaml.Node, all []Thing)) {
	for g, node := range w.gateways() {
		for _, list := range []string{"nat", "filter"} {
			_, rules := lookup(node, list)
			if rules == nil {
				continue
			}
			var all []Thing
			for _, rule := range rules.Content {
				all = append(all, ruleThing(g, list, rule))
			}
			do(rules, all)
		}
	}
}

// meantRule returns whether a rule is meant by NAME, KIND NAME or GATEWAY:NAME.
func meantRule(text string) func(Thing) bool {
	gateway, name, found := strings.Cut(text, ":")
	if !found {
		gateway, name = "", text
	}
	kind := ""
	if k, rest, has := strings.Cut(name, " "); has {
		kind, name = k, rest
	}
	return func(t Thing) bool {
		return t.Name == name && (gateway == "" || t.Gateway == gateway) && (kind == "" || t.Kind == kind)
	}
}

// withKeys are the keys that a rule of another file can have besides its own: where it stands.
var withKeys = []string{"gateway", "before", "after"}

func (w *varier) with(path string) error {
	data, err := readBounded(path)
	if err != nil {
		return fmt.Errorf("-with: %w", err)
	}
	other := &reader{file: path, lines: linesOf(data)}
	if len(bytes.TrimSpace(data)) == 0 {
		return fmt.Errorf("-with %s: the file is empty; it holds a list of rules", path)
	}
	list := other.parseYAML(data)
	if list != nil && list.Kind != yaml.SequenceNode {
		other.fail(list, "a file of rules is a list: - KIND: NAME and its keys, and gateway, before or after where it matters")
	}
	for i := 0; list != nil && i < len(list.Content) && len(other.errors) == 0; i++ {
		w.insert(other, list.Content[i])
	}
	if len(other.errors) > 0 {
		return other.errors
	}
	return nil
}

// insert puts a rule of another file where it says, else at the end of its list.
func (w *varier) insert(other *reader, rule *yaml.Node) {
	where := map[string]*yaml.Node{}
	for _, key := range withKeys {
		if k, v := lookup(rule, key); k != nil {
			where[key] = v
			at := slices.Index(rule.Content, k)
			rule.Content = slices.Delete(rule.Content, at, at+2)
		}
	}
	t := ruleThing("", "", rule)
	gateways := w.gateways()
	switch named := where["gateway"]; {
	case t.Kind == "":
		other.fail(rule, "this rule has no kind; there are %s", strings.Join(ruleKinds, ", "))
		return
	case named != nil && gateways[named.Value] == nil:
		other.fail(named, "%s: no such gateway", named.Value)
		return
	case named != nil:
		t.Gateway = named.Value
	case len(gateways) > 1:
		other.fail(rule, "there are several gateways; say which with gateway: NAME")
		return
	default:
		for t.Gateway = range gateways {
		}
	}
	section := "nat"
	if slices.Contains(network.Verbs, network.Verb(t.Kind)) {
		section = "filter"
	}
	g := gateways[t.Gateway]
	_, rules := lookup(g, section)
	if rules == nil {
		rules = &yaml.Node{Kind: yaml.SequenceNode, Line: rule.Line, Column: rule.Column}
		g.Content = append(g.Content, textNode(rule, section), rules)
	}
	at := len(rules.Content)
	for _, key := range []string{"before", "after"} {
		anchor := where[key]
		if anchor == nil {
			continue
		}
		if at = slices.IndexFunc(rules.Content, func(n *yaml.Node) bool { return ruleThing("", section, n).Name == anchor.Value }); at < 0 {
			other.fail(anchor, "%s: no such rule in %s of %s", anchor.Value, section, t.Gateway)
			return
		}
		if key == "after" {
			at++
		}
	}
	rules.Content = slices.Insert(rules.Content, at, rule)
	w.foreign(rule, other)
	w.said = append(w.said, fmt.Sprintf("%s %s of %s is number %d in %s", t.Kind, t.Name, t.Gateway, at+1, section))
}

// foreign notes that nodes stand in another file.
func (w *varier) foreign(n *yaml.Node, from *reader) {
	if w.elsewhere == nil {
		w.elsewhere = map[*yaml.Node]*reader{}
	}
	w.elsewhere[n] = from
	for _, child := range n.Content {
		w.foreign(child, from)
	}
}

// setNode gives a key of a mapping a value.
func setNode(mapping *yaml.Node, key string, value *yaml.Node) {
	for i := 0; i+1 < len(mapping.Content); i += 2 {
		if mapping.Content[i].Value == key {
			mapping.Content[i+1] = value
			return
		}
	}
	mapping.Content = append(mapping.Content, textNode(value, key), value)
}

// textNode is a text where another node stands.
func textNode(at *yaml.Node, text string) *yaml.Node {
	return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: text, Line: at.Line, Column: at.Column}
}
