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
func (t Thing) IsRule() bool { return t.list != "" && t.Kind != routeKind }

// sections are what can be named apart from rules, and where they stand.
var sections = []struct{ kind, section string }{{"host", "hosts"}, {"group", "groups"}, {"service", "services"}}

// routeKind is what a static route is called. Routes stand in lists like rules, but have
// no name and no order: what they lead to is what they are known by.
const routeKind = "route"

// nameKey is the key that holds the name of a rule or route.
func nameKey(kind string) string {
	if kind == routeKind {
		return "to"
	}
	return kind
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
	return kinds
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
	return found
}

var ruleKinds = RuleKinds()

func ruleThing(gateway, list string, rule *yaml.Node) Thing {
	t := Thing{Gateway: gateway, list: list, body: rule, Line: rule.Line}
	if list == "routes" {
		if _, to := lookup(rule, nameKey(routeKind)); to != nil {
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
	var found []Thing
	var names []string
	for _, t := range e.things() {
		names = append(names, t.Name)
		if t.is(name) && (kind == "" || t.Kind == kind) && (gateway == "" || t.Gateway == gateway) {
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
	key, rules := lookup(g, list)
	anchor, where := before, "before"
	if after != "" {
		anchor, where = after, "after"
	}
	if anchor != "" {
		t, err := e.rule(rules, gateway, list, anchor)
		if err != nil {
			return err
		}
		return e.insertRule(rules, t, where == "after", kind, keys)
	}
	switch {
	case g.Style&yaml.FlowStyle != 0:
		return fmt.Errorf("gateway %s is written between braces; write it on lines of its own first", gateway)
	case rules == nil:
		column := g.Content[0].Column
		_, last := e.extent(g, column-1)
		return e.replaceLines(last, last, strings.Repeat(" ", column-1)+list+":\n"+ruleLines(column+2, kind, keys))
	case len(rules.Content) == 0:
		_, last := e.extent(rules, key.Column)
		return e.replaceLines(key.Line, last, strings.Repeat(" ", key.Column-1)+list+":\n"+ruleLines(key.Column+2, kind, keys))
	}
	return e.insertRule(rules, ruleThing(gateway, list, rules.Content[len(rules.Content)-1]), true, kind, keys)
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
		item := "{" + flowSettings(keys) + "}"
		if behind {
			end := e.flowEnd(e.offset(at.body))
			return e.splice(end, end, ", "+item)
		}
		start := e.offset(at.body)
		return e.splice(start, start, item+", ")
	}
	first, last, column := e.itemLines(at.body)
	if behind {
		return e.replaceLines(last, last, ruleLines(column, kind, keys))
	}
	return e.replaceLines(first, first, ruleLines(column, kind, keys))
}

// itemLines returns the lines of an item of a block list, with the comments right
// above it, and the column of its dash.
func (e *Editor) itemLines(item *yaml.Node) (first, last, column int) {
	line := item.Line
	for {
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

func ruleLines(column int, kind string, keys []network.Setting) string {
	var b strings.Builder
	indent := strings.Repeat(" ", column-1)
	if kind == routeKind { // routes are a table, one a line
		return indent + "- {" + flowSettings(keys) + "}\n"
	}
	for i, s := range keys {
		mark := "  "
		if i == 0 {
			mark = "- "
		}
		fmt.Fprintf(&b, "%s%s%s: %s\n", indent, mark, s.Key, valueText(s.Key, s.Value, false))
	}
	return b.String()
}

func flowSettings(keys []network.Setting) string {
	var texts []string
	for _, s := range keys {
		texts = append(texts, s.Key+": "+valueText(s.Key, s.Value, true))
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
	key, entries := lookup(e.root, section)
	switch {
	case entries == nil:
		at := e.lineCount() + 1
		if k, _ := lookup(e.root, "gateways"); k != nil {
			at = k.Line
			for at > 1 && strings.HasPrefix(e.line(at-1), "#") {
				at--
			}
		}
		return e.replaceLines(at, at, fmt.Sprintf("%s:\n  %s: %s\n\n", section, name, body))
	case entries.Style&yaml.FlowStyle != 0 && len(entries.Content) > 0:
		end := e.flowEnd(e.offset(entries)) - 1
		return e.splice(end, end, fmt.Sprintf(", %s: %s", name, body))
	case len(entries.Content) == 0:
		_, last := e.extent(key, key.Column)
		return e.replaceLines(key.Line, max(last, key.Line+1), fmt.Sprintf("%s:\n  %s: %s\n", section, name, body))
	}
	column := entries.Content[0].Column
	_, last := e.extent(entries, column-1)
	return e.replaceLines(last, last, fmt.Sprintf("%s%s: %s\n", strings.Repeat(" ", column-1), name, body))
}

// Change gives keys of a rule or host new values. A group or service has one
// value and no keys; it is changed by the key "members" or "ports".
func (e *Editor) Change(t Thing, settings []network.Setting) error {
	for _, s := range settings {
		if t.Kind == "group" || t.Kind == "service" {
			if s.Key != bodyKey(t.Kind) || s.Value == "" {
				return fmt.Errorf("%s: a %s is changed by %s=VALUE", s.Key, t.Kind, bodyKey(t.Kind))
			}
			if err := e.replaceValue(t.key, t.body, valueText(s.Key, s.Value, e.inFlow(t.key))); err != nil {
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
	return nil
}

// bodyKey is what the one value of a group or service is called on the command line.
func bodyKey(kind string) string {
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

func (e *Editor) setKey(t Thing, s network.Setting) error {
	k, v := lookup(t.body, s.Key)
	flow := t.body.Style&yaml.FlowStyle != 0
	text := valueText(s.Key, s.Value, flow)
	switch {
	case k == nil && s.Value == "":
		return nil
	case k != nil && s.Value == "":
		return e.removeKey(t.body, k, v)
	case k != nil:
		return e.replaceValue(k, v, text)
	case flow:
		end := e.flowEnd(e.offset(t.body)) - 1
		return e.splice(end, end, ", "+s.Key+": "+text)
	}
	column := t.body.Content[0].Column
	_, last := e.extent(t.body, column-1)
	return e.replaceLines(last, last, strings.Repeat(" ", column-1)+s.Key+": "+text+"\n")
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
		return fmt.Errorf("%s is in use by %s; change or remove these first", t, strings.Join(uses, ", "))
	}
	if t.key == nil {
		return e.removeItem(t)
	}
	_, section := lookup(e.root, e.sectionOf(t.Kind))
	if section.Style&yaml.FlowStyle != 0 {
		return e.removeKey(section, t.key, t.body)
	}
	_, last := e.extent(t.body, t.key.Column)
	first := t.key.Line
	for first > 1 && strings.HasPrefix(e.line(first-1), strings.Repeat(" ", t.key.Column-1)+"#") {
		first--
	}
	if len(section.Content) == 2 {
		key, _ := lookup(e.root, e.sectionOf(t.Kind))
		first = key.Line
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
	_, gateways := lookup(e.root, "gateways")
	_, g := lookup(gateways, t.Gateway)
	key, rules := lookup(g, t.list)
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
		return fmt.Errorf("%s of %s is written between brackets; write it on lines of its own first", t.list, t.Gateway)
	}
	first, last, _ := e.itemLines(t.body)
	moved := string(e.text[e.lineStart(first):e.lineStart(last)])
	if !strings.HasSuffix(moved, "\n") {
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

// referring are the keys whose values name hosts, groups or services.
var referring = []string{"from", "to", "at", "inside", "outside", "service", "serves", "listen", "allow", "drop", "reject", "destination", "only", "never", "reach", "reaches", "blocks"}

// uses returns what names a host, group or service.
func (e *Editor) uses(t Thing) []string {
	if t.key == nil {
		return nil
	}
	var found []string
	names := func(n *yaml.Node) bool {
		words := strings.FieldsFunc(n.Value, func(r rune) bool { return strings.ContainsRune(" ,[]:", r) })
		return slices.Contains(words, t.Name)
	}
	add := func(n *yaml.Node, what string) {
		found = append(found, fmt.Sprintf("%s (line %d)", what, n.Line))
	}
	var walk func(n *yaml.Node, what string, refers bool)
	walk = func(n *yaml.Node, what string, refers bool) {
		switch n.Kind {
		case yaml.ScalarNode:
			if refers && names(n) {
				add(n, what)
			}
		case yaml.SequenceNode:
			for _, item := range n.Content {
				walk(item, what, refers)
			}
		case yaml.MappingNode:
			if rule := ruleThing("", "", n); rule.Name != "" {
				what = rule.String()
			}
			for i := 0; i+1 < len(n.Content); i += 2 {
				k, v := n.Content[i], n.Content[i+1]
				isName := v.Kind == yaml.ScalarNode && what == k.Value+" "+v.Value
				walk(v, what, !isName && slices.Contains(referring, k.Value))
				if t.Kind == "service" && refers && k.Value == t.Name {
					add(k, what)
				}
			}
		}
	}
	for _, other := range e.things() {
		if other.key == nil || other.key == t.key {
			continue
		}
		if sameWorld := other.Kind == t.Kind || t.Kind == "host" && other.Kind == "group"; sameWorld && other.Kind != "host" {
			walk(other.body, other.String(), true)
		} else if other.Kind == "host" {
			walk(other.body, other.String(), false)
		}
	}
	for _, section := range []string{"gateways", "expect"} {
		_, n := lookup(e.root, section)
		if n != nil && n.Kind == yaml.MappingNode {
			for i := 0; i+1 < len(n.Content); i += 2 {
				walk(n.Content[i+1], "gateway "+n.Content[i].Value, false)
			}
		} else if n != nil {
			walk(n, "an expectation", false)
		}
	}
	return e.onlyKind(t, found)
}

// onlyKind drops uses where a service and a host or group have the same name and
// the other one is meant.
func (e *Editor) onlyKind(t Thing, uses []string) []string {
	twin := false
	for _, other := range e.things() {
		if other.key != nil && other.key != t.key && other.Name == t.Name {
			twin = true
		}
	}
	if !twin {
		return uses
	}
	return nil // the edited file is read again before it is saved, and names what is missing
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
			if before := e.text[i-1]; before == ' ' || before == '\n' {
				for i+1 < len(e.text) && e.text[i+1] != '\n' {
					i++
				}
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
	for end < len(e.text) && e.text[end] != '\n' && e.text[end] != '\r' {
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
