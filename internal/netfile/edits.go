package netfile

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"hollowbridge/core/network"
)

func decodeRune(b []byte) (rune, int) { return utf8.DecodeRune(b) }

// A Thing is something in the file that has a name and can be edited.
type Thing struct {
	Kind    string // host, group, service, route, or the kind of a rule
	Name    string // of a route, where it leads to
	Gateway string // of a rule or route
	Line    int

	list string     // nat or filter, for a rule; routes
	hop  string     // of a route, which tells it from others to the same prefix
	key  *yaml.Node // the name, for what stands in a mapping
	body *yaml.Node
}

func (t Thing) String() string {
	if t.hop != "" {
		return t.Kind + " " + t.Name + " via " + t.hop
	}
	return t.Kind + " " + t.Name
}

// is reports whether a thing is called by a name: a route by its prefix, or by that and
// its next hop, as "default via 198.51.100.17".
func (t Thing) is(name string) bool {
	return t.Name == name || t.hop != "" && t.Name+" via "+t.hop == name
}

// IsRule reports whether it is a rule, which has a place in an order and can be disabled.
func (t Thing) IsRule() bool { return slices.Contains(ruleKinds, t.Kind) }

// sections are what can be named apart from rules, and where they stand.
var sections = []struct{ kind, section string }{{"host", "hosts"}, {"group", "groups"}, {"service", "services"}, {"gateway", "gateways"}}

// routeKind is what a static route is called. Routes stand in lists like rules, but have
// no name and no order: what they lead to is what they are known by.
const routeKind = "route"

// nameKey is the key that holds the name of a rule or route.
func nameKey(kind string) network.Key {
	switch kind {
	case routeKind:
		return "to"
	case expectationKind:
		return "say"
	}
	return network.Key(kind)
}

// lists are the lists of a gateway that can be edited.
var lists = []string{"routes", "nat", "filter"}

// RuleKinds returns all kinds of rules.
func RuleKinds() []string {
	kinds := network.NATKindNames()
	for _, v := range network.Verbs {
		kinds = append(kinds, string(v))
	}
	return kinds
}

// Kinds returns all kinds of things that can be added.
func Kinds() []string {
	kinds := append(RuleKinds(), routeKind)
	for _, s := range sections {
		kinds = append(kinds, s.kind)
	}
	return append(kinds, partKinds...)
}

// things returns everything that can be edited, in the order of the file.
func (e *Editor) things() []Thing {
	var found []Thing
	for _, s := range sections {
		_, section := lookup(e.root, s.section)
		for i := 0; section != nil && i+1 < len(section.Content); i += 2 {
			k, v := section.Content[i], section.Content[i+1]
			found = append(found, Thing{Kind: s.kind, Name: k.Value, Line: k.Line, key: k, body: v})
		}
	}
	_, gateways := lookup(e.root, "gateways")
	for i := 0; gateways != nil && i+1 < len(gateways.Content); i += 2 {
		for _, list := range lists {
			_, rules := lookup(gateways.Content[i+1], list)
			if rules == nil {
				continue
			}
			for _, rule := range rules.Content {
				found = append(found, ruleThing(gateways.Content[i].Value, list, rule))
			}
		}
	}
	return append(found, e.parts()...)
}

var ruleKinds = RuleKinds()

func ruleThing(gateway, list string, rule *yaml.Node) Thing {
	t := Thing{Gateway: gateway, list: list, body: rule, Line: rule.Line}
	if list == "routes" {
		if _, to := lookup(rule, string(nameKey(routeKind))); to != nil {
			t.Kind, t.Name = routeKind, to.Value
		}
		if _, via := lookup(rule, "via"); via != nil {
			t.hop = via.Value
		}
		return t
	}
	for i := 0; i+1 < len(rule.Content); i += 2 {
		if slices.Contains(ruleKinds, rule.Content[i].Value) {
			t.Kind, t.Name = rule.Content[i].Value, rule.Content[i+1].Value
		}
	}
	return t
}

func lookup(mapping *yaml.Node, key string) (k, v *yaml.Node) {
	for i := 0; mapping != nil && i+1 < len(mapping.Content); i += 2 {
		if mapping.Content[i].Value == key {
			return mapping.Content[i], mapping.Content[i+1]
		}
	}
	return nil, nil
}

// Find returns the thing of that name. kind and gateway may be empty; where
// several things have the name, the error says how to tell them apart.
func (e *Editor) Find(kind, name, gateway string) (Thing, error) {
	return find(e.things(), kind, name, gateway)
}

// find returns the one of some things that has a name.
func find(things []Thing, kind, name, gateway string) (Thing, error) {
	var found []Thing
	var names []string
	for _, t := range things {
		names = append(names, t.Name)
		if t.is(name) && (kind == "" || t.Kind == kind || kind == ruleKind && t.IsRule()) && (gateway == "" || t.Gateway == gateway) {
			found = append(found, t)
		}
	}
	switch {
	case len(found) == 1:
		return found[0], nil
	case len(found) == 0:
		slices.Sort(names)
		return Thing{}, fmt.Errorf("%s: nothing has this name%s", strings.TrimSpace(kind+" "+name), DidYouMean(name, names))
	}
	var texts []string
	for _, t := range found {
		text := fmt.Sprintf("%s (line %d)", t, t.Line)
		if t.Gateway != "" {
			text = fmt.Sprintf("%s (line %d, gateway %s)", t, t.Line, t.Gateway)
		}
		texts = append(texts, text)
	}
	how := "put the kind in front, or name the gateway with -gateway"
	if found[0].Kind == routeKind {
		how = "name the gateway with -gateway, or the next hop too, as \"" + strings.TrimPrefix(found[0].String(), routeKind+" ") + "\""
	}
	return Thing{}, fmt.Errorf("%s: several things have this name; %s: %s", name, how, strings.Join(texts, ", "))
}

// AddRule puts a rule or route at the end of a gateway's list, or before or after
// another of the same list.
func (e *Editor) AddRule(gateway, kind, name string, settings []network.Setting, before, after string) error {
	_, gateways := lookup(e.root, "gateways")
	_, g := lookup(gateways, gateway)
	if g == nil {
		return fmt.Errorf("%s: no such gateway", gateway)
	}
	list := "nat"
	switch {
	case kind == routeKind:
		list = "routes"
	case slices.Contains(network.Verbs, network.Verb(kind)):
		list = "filter"
	}
	keys := append([]network.Setting{{Key: nameKey(kind), Value: name}}, settings...)
	_, rules := lookup(g, list)
	anchor, behind := before, false
	if after != "" {
		anchor, behind = after, true
	}
	if anchor != "" {
		t, err := e.rule(rules, gateway, list, anchor)
		if err != nil {
			return err
		}
		return e.insertRule(rules, t, behind, kind, keys)
	}
	return e.addItem(g, list, kind, keys)
}

// addItem puts an item at the end of the list behind a key of a mapping, which may not be there yet.
func (e *Editor) addItem(g *yaml.Node, list, kind string, keys []network.Setting) error {
	key, rules := lookup(g, list)
	only := "[{" + e.flowSettings(keys) + "}]"
	switch {
	case rules == nil && g.Style&yaml.FlowStyle != 0:
		return e.appendKey(g, list, only)
	case rules == nil:
		column := g.Content[0].Column
		_, last := e.extent(g, column-1)
		return e.replaceLines(last, last, strings.Repeat(" ", column-1)+list+":\n"+e.ruleLines(column+2, kind, keys))
	case len(rules.Content) == 0 && e.inFlow(key):
		return e.splice(e.offset(rules), e.valueEnd(rules, true), only)
	case len(rules.Content) == 0:
		_, last := e.extent(rules, key.Column)
		return e.replaceLines(key.Line, last, strings.Repeat(" ", key.Column-1)+list+":\n"+e.ruleLines(key.Column+2, kind, keys))
	}
	return e.insertRule(rules, Thing{body: rules.Content[len(rules.Content)-1]}, true, kind, keys)
}

// appendKey puts a key at the end of a mapping between braces.
func (e *Editor) appendKey(mapping *yaml.Node, key, text string) error {
	end := e.flowEnd(e.offset(mapping)) - 1
	comma := ", "
	if len(mapping.Content) == 0 {
		comma = ""
	} else {
		for e.text[end-1] == ' ' || e.text[end-1] == '\n' || e.text[end-1] == '\t' {
			end--
		}
	}
	return e.splice(end, end, comma+e.keyText(key)+": "+text)
}

func (e *Editor) rule(rules *yaml.Node, gateway, list, name string) (Thing, error) {
	var names []string
	for i := 0; rules != nil && i < len(rules.Content); i++ {
		t := ruleThing(gateway, list, rules.Content[i])
		if t.Name == name {
			return t, nil
		}
		names = append(names, t.Name)
	}
	return Thing{}, fmt.Errorf("%s: no such rule in %s of %s%s", name, list, gateway, oneOf(name, names))
}

func (e *Editor) insertRule(rules *yaml.Node, at Thing, behind bool, kind string, keys []network.Setting) error {
	if rules.Style&yaml.FlowStyle != 0 {
		item := "{" + e.flowSettings(keys) + "}"
		if behind {
			end := e.flowEnd(e.offset(at.body))
			return e.splice(end, end, ", "+item)
		}
		start := e.offset(at.body)
		return e.splice(start, start, item+", ")
	}
	first, last, column := e.itemLines(at.body)
	if behind {
		return e.replaceLines(last, last, e.ruleLines(column, kind, keys))
	}
	return e.replaceLines(first, first, e.ruleLines(column, kind, keys))
}

// itemLines returns the lines of an item of a block list, with the comments right
// above it, and the column of its dash.
func (e *Editor) itemLines(item *yaml.Node) (first, last, column int) {
	line := item.Line
	for line > 0 {
		text := e.line(line)
		if dash := strings.IndexByte(text, '-'); dash >= 0 && strings.TrimLeft(text[:dash], " ") == "" {
			column = dash + 1
			break
		}
		line--
	}
	_, last = e.extent(item, column)
	first = line
	for first > 1 && strings.HasPrefix(e.line(first-1), strings.Repeat(" ", column-1)+"#") {
		first--
	}
	return first, last, column
}

func (e *Editor) ruleLines(column int, kind string, keys []network.Setting) string {
	var b strings.Builder
	indent := strings.Repeat(" ", column-1)
	if kind == routeKind { // routes are a table, one a line
		return indent + "- {" + e.flowSettings(keys) + "}\n"
	}
	for i, s := range keys {
		mark := "  "
		if i == 0 {
			mark = "- "
		}
		fmt.Fprintf(&b, "%s%s%s: %s\n", indent, mark, s.Key, valueText(string(s.Key), s.Value, false))
	}
	return b.String()
}

// flowSettings writes settings as they stand between braces; those of a nested mapping stand together.
func (e *Editor) flowSettings(keys []network.Setting) string {
	var texts []string
	for i, s := range keys {
		head, _, nested := strings.Cut(string(s.Key), ".")
		if !nested {
			texts = append(texts, e.keyText(string(s.Key))+": "+e.valueText(string(s.Key), s.Value, true))
			continue
		}
		if slices.ContainsFunc(keys[:i], func(k network.Setting) bool { return strings.HasPrefix(string(k.Key), head+".") }) {
			continue
		}
		var inner []network.Setting
		for _, k := range keys {
			if rest, is := strings.CutPrefix(string(k.Key), head+"."); is {
				inner = append(inner, network.Setting{Key: network.Key(rest), Value: k.Value})
			}
		}
		texts = append(texts, e.keyText(head)+": {"+e.flowSettings(inner)+"}")
	}
	return strings.Join(texts, ", ")
}

// AddEntry puts a host, group or service at the end of its section.
func (e *Editor) AddEntry(kind, name string, body string) error {
	section := ""
	for _, s := range sections {
		if s.kind == kind {
			section = s.section
		}
	}
	return e.addEntry(e.root, section, name, body)
}

// mostColumns is how long a line is written: a longer one is written as several where it can be.
const mostColumns = 100

// entryLines writes a name and what stands behind it, in a column.
func (e *Editor) entryLines(column int, name, body string) string {
	indent := strings.Repeat(" ", column-1)
	line := indent + name + ": " + body
	var node yaml.Node
	if utf8.RuneCountInString(line) <= mostColumns || e.isJSON() || yaml.Unmarshal([]byte(body), &node) != nil || len(node.Content) != 1 || len(node.Content[0].Content) == 0 {
		return line + "\n"
	}
	var items []string
	for i, item := range node.Content[0].Content {
		text := flowText(item)
		switch {
		case node.Content[0].Kind == yaml.SequenceNode:
			items = append(items, "- "+text)
		case i%2 == 1:
			items = append(items, flowText(node.Content[0].Content[i-1])+": "+text)
		}
	}
	return indent + name + ":\n" + indent + "  " + strings.Join(items, "\n"+indent+"  ") + "\n"
}

// flowText writes a node as it stands between braces.
func flowText(n *yaml.Node) string {
	return inBrackets(n, func(n *yaml.Node) string {
		text := scalarText(n.Value, true)
		if text == n.Value && n.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0 {
			return `"` + text + `"`
		}
		return text
	})
}

// inBrackets writes a node in braces and brackets, and what has no parts by a function.
func inBrackets(n *yaml.Node, scalar func(*yaml.Node) string) string {
	var parts []string
	switch n.Kind {
	case yaml.MappingNode:
		for i := 0; i+1 < len(n.Content); i += 2 {
			parts = append(parts, inBrackets(n.Content[i], scalar)+": "+inBrackets(n.Content[i+1], scalar))
		}
		return "{" + strings.Join(parts, ", ") + "}"
	case yaml.SequenceNode:
		for _, item := range n.Content {
			parts = append(parts, inBrackets(item, scalar))
		}
		return "[" + strings.Join(parts, ", ") + "]"
	}
	return scalar(n)
}

// wrap writes what stands behind a name on one line, between braces, on several where that line has become too long.
func (e *Editor) wrap(t Thing) error {
	if t.key == nil || t.body.Style&yaml.FlowStyle == 0 || t.body.Line != t.key.Line || e.inFlow(t.key) {
		return nil
	}
	line, end := e.line(t.key.Line), e.flowEnd(e.offset(t.body))
	if start := e.lineStart(t.key.Line); utf8.RuneCountInString(line) <= mostColumns || end != start+len(line) {
		return nil // a comment stands behind it, or it has several lines
	}
	return e.replaceLines(t.key.Line, t.key.Line+1, e.entryLines(t.key.Column, e.keyText(t.key.Value), string(e.text[e.offset(t.body):end])))
}

// addEntry puts a name and what stands behind it at the end of a mapping, which stands behind a key of
// another one.
func (e *Editor) addEntry(parent *yaml.Node, section, name, body string) error {
	key, entries := lookup(parent, section)
	switch {
	case entries == nil && parent.Style&yaml.FlowStyle != 0:
		return e.appendKey(parent, section, "{"+e.keyText(name)+": "+body+"}")
	case entries == nil:
		at := e.lineCount() + 1
		if k, _ := lookup(e.root, "gateways"); k != nil {
			at = k.Line
			for at > 1 && strings.HasPrefix(e.line(at-1), "#") {
				at--
			}
		}
		return e.replaceLines(at, at, section+":\n"+e.entryLines(3, name, body)+"\n")
	case entries.Style&yaml.FlowStyle != 0 && (len(entries.Content) > 0 || e.inFlow(key)):
		return e.appendKey(entries, name, body)
	case len(entries.Content) == 0:
		_, last := e.extent(key, key.Column)
		return e.replaceLines(key.Line, max(last, key.Line+1), section+":\n"+e.entryLines(3, name, body))
	}
	column := entries.Content[0].Column
	_, last := e.extent(entries, column-1)
	return e.replaceLines(last, last, e.entryLines(column, name, body))
}

// Change gives keys of a rule or host new values. A group or service has one
// value and no keys; it is changed by the key "members" or "ports".
func (e *Editor) Change(t Thing, settings []network.Setting) error {
	for _, s := range settings {
		if strings.ContainsAny(string(s.Key), " \t\n{}[],:#\"'") || slices.Contains(strings.Split(string(s.Key), "."), "") {
			return fmt.Errorf("%q: this is no key", s.Key)
		}
		if t.Kind == "group" || t.Kind == "service" {
			if s.Key != bodyKey(t.Kind) || s.Value == "" {
				return fmt.Errorf("%s: a %s is changed by %s=VALUE", s.Key, t.Kind, bodyKey(t.Kind))
			}
			if err := e.replaceValue(t.key, t.body, e.valueText(string(s.Key), s.Value, e.inFlow(t.key))); err != nil {
				return err
			}
		} else if err := e.setKey(t, s); err != nil {
			return err
		}
		if s.Key == nameKey(t.Kind) && t.list != "" {
			t.Name = s.Value
		}
		var err error
		if t, err = e.again(t); err != nil {
			return err
		}
	}
	return e.wrap(t)
}

// bodyKey is what the one value of a group or service is called on the command line.
func bodyKey(kind string) network.Key {
	if kind == "group" {
		return "members"
	}
	return "ports"
}

// again finds a thing after the text has changed.
func (e *Editor) again(t Thing) (Thing, error) {
	for _, u := range e.things() {
		if u.Kind == t.Kind && u.Name == t.Name && u.Gateway == t.Gateway && (t.Kind != routeKind || u.Line == t.Line) {
			return u, nil
		}
	}
	return t, fmt.Errorf("%s: lost while editing", t)
}

// inFlow reports whether a node stands between braces or brackets.
func (e *Editor) inFlow(n *yaml.Node) bool {
	found := false
	var walk func(m *yaml.Node, flow bool)
	walk = func(m *yaml.Node, flow bool) {
		if m == n {
			found = flow
			return
		}
		flow = flow || m.Style&yaml.FlowStyle != 0
		for _, child := range m.Content {
			walk(child, flow)
		}
	}
	walk(e.root, false)
	return found
}

// setKey gives a key of a thing a value, or takes it away; a dot stands between the key of a mapping
// and one in it.
func (e *Editor) setKey(t Thing, s network.Setting) error {
	head, rest, nested := strings.Cut(string(s.Key), ".")
	if !nested {
		return e.setText(t.body, string(s.Key), s.Value, e.valueText(string(s.Key), s.Value, t.body.Style&yaml.FlowStyle != 0))
	}
	_, v := lookup(t.body, head)
	switch {
	case v == nil && s.Value == "":
		return nil
	case v == nil || v.Kind != yaml.MappingNode || len(v.Content) == 0:
		return e.setText(t.body, head, s.Value, "{"+e.flowSettings([]network.Setting{{Key: network.Key(rest), Value: s.Value}})+"}")
	case s.Value == "" && len(v.Content) == 2 && v.Content[0].Value == rest:
		return e.setText(t.body, head, "", "")
	}
	return e.setKey(Thing{body: v}, network.Setting{Key: network.Key(rest), Value: s.Value})
}

// setText puts a text behind a key of a mapping; without a value the key goes away.
func (e *Editor) setText(body *yaml.Node, key, value, text string) error {
	k, v := lookup(body, key)
	switch {
	case k == nil && value == "":
		return nil
	case k != nil && value == "":
		return e.removeKey(body, k, v)
	case k != nil:
		return e.replaceValue(k, v, text)
	case body.Style&yaml.FlowStyle != 0:
		return e.appendKey(body, key, text)
	}
	column := body.Content[0].Column
	_, last := e.extent(body, column-1)
	return e.replaceLines(last, last, strings.Repeat(" ", column-1)+key+": "+text+"\n")
}

// replaceValue puts text where a key's value stands; a comment behind it stays.
func (e *Editor) replaceValue(k, v *yaml.Node, text string) error {
	start := e.offset(v)
	if e.inFlow(k) || v.Line == k.Line && e.endsOnItsLine(v) {
		return e.splice(start, e.valueEnd(v, e.inFlow(k)), text)
	}
	_, last := e.extent(v, k.Column)
	return e.replaceLines(k.Line, last, e.line(k.Line)[:k.Column-1]+k.Value+": "+text+"\n")
}

// endsOnItsLine reports whether a value ends on the line it begins on.
func (e *Editor) endsOnItsLine(v *yaml.Node) bool {
	switch {
	case v.Style&yaml.FlowStyle != 0:
		return true // its end is found by its bracket
	case v.Kind != yaml.ScalarNode || v.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0:
		return false
	}
	_, last := e.extent(v, v.Column)
	return last == v.Line+1
}

func (e *Editor) removeKey(body, k, v *yaml.Node) error {
	if body.Style&yaml.FlowStyle == 0 {
		_, last := e.extent(v, k.Column)
		if v.Line > k.Line || last > k.Line+1 {
			return e.replaceLines(k.Line, last, "")
		}
		return e.replaceLines(k.Line, k.Line+1, "")
	}
	start, end := e.offset(k), e.valueEnd(v, true)
	for i := 0; i < len(body.Content); i += 2 {
		if body.Content[i] == k && i > 0 {
			start = e.valueEnd(body.Content[i-1], true)
		} else if body.Content[i] == k && i+2 < len(body.Content) {
			end = e.offset(body.Content[i+2])
		}
	}
	return e.splice(start, end, "")
}

// Remove takes a thing out, with the comments right above it. It fails where
// other parts of the file use it, and says which.
func (e *Editor) Remove(t Thing) error {
	if uses := e.uses(t); len(uses) > 0 {
		return &InUse{t, uses}
	}
	if t.key == nil {
		return e.removeItem(t)
	}
	parent, name := e.root, e.sectionOf(t.Kind)
	if t.Kind == interfaceKind {
		_, gateways := lookup(e.root, "gateways")
		_, parent = lookup(gateways, t.Gateway)
		name = "interfaces"
	}
	sectionKey, section := lookup(parent, name)
	if section.Style&yaml.FlowStyle != 0 {
		return e.removeKey(section, t.key, t.body)
	}
	_, last := e.extent(t.body, t.key.Column)
	first := t.key.Line
	for first > 1 && strings.HasPrefix(e.line(first-1), strings.Repeat(" ", t.key.Column-1)+"#") {
		first--
	}
	if len(section.Content) == 2 {
		first = sectionKey.Line
	}
	last = max(last, t.key.Line+1)
	if first > 1 && e.line(first-1) == "" && last <= e.lineCount() && e.line(last) == "" {
		last++ // of two blank lines one stays
	}
	return e.replaceLines(first, last, "")
}

func (e *Editor) sectionOf(kind string) string {
	for _, s := range sections {
		if s.kind == kind {
			return s.section
		}
	}
	return ""
}

func (e *Editor) removeItem(t Thing) error {
	g := e.ownerOf(t)
	key, rules := lookup(g, t.list)
	if len(rules.Content) == 1 && t.list == firewallList { // an empty firewall lets nobody in, none everybody
		return e.setText(g, t.list, "", "")
	}
	if rules.Style&yaml.FlowStyle == 0 {
		first, last, _ := e.itemLines(t.body)
		if len(rules.Content) == 1 {
			first = key.Line
		}
		return e.replaceLines(first, last, "")
	}
	start, end := e.offset(t.body), e.valueEnd(t.body, true)
	for i, item := range rules.Content {
		if item == t.body && i > 0 {
			start = e.valueEnd(rules.Content[i-1], true)
		} else if item == t.body && len(rules.Content) > 1 {
			end = e.offset(rules.Content[1])
		}
	}
	return e.splice(start, end, "")
}

// Move puts a rule before or after another rule of its list.
func (e *Editor) Move(t Thing, behind bool, other string) error {
	_, gateways := lookup(e.root, "gateways")
	_, g := lookup(gateways, t.Gateway)
	_, rules := lookup(g, t.list)
	if !t.IsRule() || rules == nil {
		return fmt.Errorf("%s has no order; only rules are moved", t)
	}
	at, err := e.rule(rules, t.Gateway, t.list, other)
	switch {
	case err != nil:
		return err
	case at.body == t.body:
		return fmt.Errorf("%s can't be moved to itself", t)
	case rules.Style&yaml.FlowStyle != 0:
		return e.moveInFlow(t, behind, other)
	}
	first, last, _ := e.itemLines(t.body)
	moved := string(e.text[e.lineStart(first):e.lineStart(last)])
	if !endsLine([]byte(moved)) {
		moved += "\n"
	}
	to, behindLine, _ := e.itemLines(at.body)
	if behind {
		to = behindLine
	}
	if to >= last { // what stands behind is edited first, so that lines keep their numbers
		if err := e.replaceLines(to, to, moved); err != nil {
			return err
		}
		return e.replaceLines(first, last, "")
	}
	if err := e.replaceLines(first, last, ""); err != nil {
		return err
	}
	return e.replaceLines(to, to, moved)
}

// moveInFlow moves a rule within a list between brackets.
func (e *Editor) moveInFlow(t Thing, behind bool, other string) error {
	item := string(e.text[e.offset(t.body):e.valueEnd(t.body, true)])
	if err := e.removeItem(t); err != nil {
		return err
	}
	_, rules := lookup(e.ownerOf(t), t.list)
	at, err := e.rule(rules, t.Gateway, t.list, other)
	if err != nil {
		return err
	}
	if behind {
		end := e.flowEnd(e.offset(at.body))
		return e.splice(end, end, ", "+item)
	}
	start := e.offset(at.body)
	return e.splice(start, start, item+", ")
}

// flowEnd returns the offset behind the bracket that closes the one at start.
func (e *Editor) flowEnd(start int) int {
	depth := 0
	for i := start; i < len(e.text); i++ {
		switch c := e.text[i]; c {
		case '{', '[':
			depth++
		case '}', ']':
			if depth--; depth == 0 {
				return i + 1
			}
		case '"', '\'':
			if before := e.text[i-1]; before == ' ' || before == ',' || before == '[' || before == '{' || before == ':' {
				i = e.quoteEnd(i) - 1
			}
		case '#':
			if before := e.text[i-1]; before == ' ' || endsLine(e.text[:i]) {
				_, next := lineEnd(e.text, i)
				i = next - 1
			}
		}
	}
	return len(e.text)
}

// quoteEnd returns the offset behind the quote that closes the one at start.
func (e *Editor) quoteEnd(start int) int {
	quote := e.text[start]
	for i := start + 1; i < len(e.text); i++ {
		switch {
		case quote == '"' && e.text[i] == '\\':
			i++
		case e.text[i] != quote:
		case quote == '\'' && i+1 < len(e.text) && e.text[i+1] == '\'':
			i++
		default:
			return i + 1
		}
	}
	return len(e.text)
}

// valueEnd returns the offset behind a value that is a scalar on one line or
// stands between brackets.
func (e *Editor) valueEnd(v *yaml.Node, flow bool) int {
	start := e.offset(v)
	switch {
	case v.Kind != yaml.ScalarNode:
		return e.flowEnd(start)
	case v.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0:
		return e.quoteEnd(start)
	}
	end := start
	for end < len(e.text) && breakAt(e.text, end) == 0 {
		c := e.text[end]
		if flow && strings.IndexByte(",]}", c) >= 0 || c == '#' && end > start && e.text[end-1] == ' ' {
			break
		}
		end++
	}
	for end > start && e.text[end-1] == ' ' {
		end--
	}
	return end
}
