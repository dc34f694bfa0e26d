package netfile

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"hollowbridge/core/network"
)

// ruleKind stands for all kinds of rules.
const ruleKind = "rule"

// NamedKinds returns the kinds of what can be renamed.
func NamedKinds() []string {
	return slices.Concat([]string{"host", "group", "service", zoneKind, interfaceKind, "gateway", ruleKind}, ruleKinds)
}

// A patch puts a text in place of some bytes of the file.
type patch struct {
	first, last int
	with        string
}

// rename gives something another name, wherever it is meant. Where the file would then say anything else than before but for
// the name, that is an error and nothing changes.
func (e *Editor) rename(edit network.Edit) error {
	if len(edit.Values) != 1 {
		return fmt.Errorf("it needs the new name")
	}
	t, err := e.named(edit)
	if err != nil {
		return err
	}
	old, name, whole := t.Name, edit.Values[0], t.Name
	if t.Kind == interfaceKind {
		gateway, own, _ := strings.Cut(t.Name, ":")
		old, name = own, strings.TrimPrefix(name, gateway+":")
	}
	if wrong := wrongName(name); wrong != "" {
		return fmt.Errorf("%s", wrong)
	}
	if name == old {
		return fmt.Errorf("%s has this name already", t)
	}
	used, before, err := e.references()
	if err != nil {
		return err
	}
	for _, r := range used {
		switch {
		case r.kind == registeredKind && r.name == name && t.Kind == "service":
			return fmt.Errorf("%s: line %d means the registered service of this name; it would then mean this one", name, r.node.Line)
		case r.kind == zoneKind && r.name == name && t.Kind == zoneKind:
			return fmt.Errorf("%s: there is a zone of this name (line %d); a rename does not make one of two", name, r.node.Line)
		}
	}
	var patches []patch
	switch {
	case t.key != nil:
		patches = append(patches, e.patchOf(t.key, 0, len(old), name))
	case t.Kind != zoneKind: // a rule, whose name nothing else uses
		_, v := lookup(t.body, t.Kind)
		patches = append(patches, e.patchOf(v, 0, len(old), name))
	}
	for _, r := range used {
		if r.kind == t.Kind && r.name == whole {
			patches = append(patches, e.patchOf(r.node, r.at, r.length, name))
		}
	}
	text, root := e.text, e.root
	if err := e.patchAll(patches); err != nil {
		return err
	}
	now, err := e.Network()
	if err != nil {
		return err
	}
	now.On(before.Now)
	if !network.AlikeButForName(before, now, old, name) {
		e.text, e.root, e.starts, e.now = text, root, nil, nil
		return fmt.Errorf("%s: with the name %s something else in the file would mean another thing too; nothing was written", e.path, name)
	}
	// The machine still has the old name, of the gateway and of a device.
	change := network.Edit{Verb: network.Change, Kind: t.Kind, Name: name}
	set := func(key, value string) error {
		if value == name {
			value = ""
		}
		change.Settings = []network.Setting{{Key: network.Key(key), Value: value}}
		return e.Apply(change)
	}
	switch t.Kind {
	case "gateway":
		return set(formerlyKey, cmp.Or(before.Gateway(old).Formerly, old))
	case interfaceKind:
		change.Name = t.Gateway + ":" + name
		return set(deviceKey, cmp.Or(before.Gateway(t.Gateway).Interface(old).Device, old))
	}
	return nil
}

// named returns what an edit renames; a zone is known by the interfaces that are in it.
func (e *Editor) named(edit network.Edit) (Thing, error) {
	var list []Thing
	var zones []string
	for _, t := range e.things() {
		if t.Kind == interfaceKind {
			if _, zone := lookup(t.body, zoneKind); zone != nil && !slices.Contains(zones, zone.Value) {
				zones = append(zones, zone.Value)
				list = append(list, Thing{Kind: zoneKind, Name: zone.Value, Line: zone.Line})
			}
		}
		if slices.Contains(NamedKinds(), t.Kind) {
			list = append(list, t)
		}
	}
	return find(list, edit.Kind, edit.Name, edit.Gateway)
}

// patchOf puts a name in place of a part of a node's value.
func (e *Editor) patchOf(n *yaml.Node, at, length int, name string) patch {
	start := e.offset(n)
	if n.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0 {
		start++
	}
	if bytes.HasPrefix(e.text[start:], []byte(n.Value[:at+length])) {
		return patch{start + at, start + at + length, name}
	}
	flow := e.inFlow(n)
	return patch{e.offset(n), e.valueEnd(n, flow), e.valueText("", n.Value[:at]+name+n.Value[at+length:], flow)}
}

// patchAll makes changes that do not overlap, each once.
func (e *Editor) patchAll(list []patch) error {
	slices.SortFunc(list, func(a, b patch) int { return cmp.Compare(a.first, b.first) })
	list = slices.Compact(list)
	var text []byte
	at := 0
	for _, p := range list {
		if p.first < at {
			return fmt.Errorf("%s: a value there is written so that a name in it can't be told; write this part by hand", e.path)
		}
		text = append(append(text, e.text[at:p.first]...), p.with...)
		at = p.last
	}
	return e.set(append(text, e.text[at:]...))
}

// A Mention is a line on which a name stands that means nothing there, as in a note.
type Mention struct {
	File string
	Line int
	Text string
}

// Mentions returns the lines of the file, and of the lists that it names, on which a name stands as a word of its own and means nothing.
func (e *Editor) Mentions(name string) (list []Mention) {
	means := e.meaningAt()
	in := func(file string, text []byte) {
		start := 0
		for number := 1; start < len(text); number++ {
			end, next := lineEnd(text, start)
			line := string(text[start:end])
			if slices.ContainsFunc(wordsAt(line, name), func(at int) bool { return file != e.path || !means[start+at] }) {
				list = append(list, Mention{file, number, strings.TrimSpace(line)})
			}
			start = next
		}
	}
	in(e.path, e.text)
	_, groups := lookup(e.root, "groups")
	var lists func(n *yaml.Node)
	lists = func(n *yaml.Node) {
		if _, file := lookup(n, "file"); n.Kind == yaml.MappingNode && file != nil {
			r := newReader(e.path, nil)
			if text, err := r.list(file.Value); err == nil {
				in(r.beside(file.Value), text)
			}
		}
		for _, child := range n.Content {
			lists(child)
		}
	}
	if groups != nil {
		lists(groups)
	}
	return list
}

// meaningAt returns the places of the text, in bytes, where names are given to something or mean it.
func (e *Editor) meaningAt() map[int]bool {
	places := map[int]bool{}
	note := func(n *yaml.Node, at int) { places[e.patchOf(n, at, 0, "").first] = true }
	used, _, err := e.references()
	if err != nil {
		return places
	}
	for _, r := range used {
		note(r.node, r.at)
	}
	for _, t := range e.things() {
		if t.key != nil {
			note(t.key, 0)
		} else if _, v := lookup(t.body, t.Kind); v != nil && t.IsRule() {
			note(v, 0)
		}
		for _, key := range []string{formerlyKey, deviceKey} {
			if _, v := lookup(t.body, key); v != nil && (t.Kind == "gateway" || t.Kind == interfaceKind) {
				note(v, 0)
			}
		}
	}
	return places
}

// copyRule puts a rule like another one right behind it, with another name and, where the edit says so, other values.
func (e *Editor) copyRule(edit network.Edit, t Thing) error {
	switch {
	case !t.IsRule():
		return fmt.Errorf("%s is no rule; only rules are copied", t)
	case len(edit.Values) != 1:
		return fmt.Errorf("it needs the name of the new rule")
	}
	name := edit.Values[0]
	if wrong := wrongName(name); wrong != "" {
		return fmt.Errorf("%s", wrong)
	}
	_, rules := lookup(e.ownerOf(t), t.list)
	if other, err := e.rule(rules, t.Gateway, t.list, name); err == nil {
		return fmt.Errorf("%s: %s has this name already (line %d)", name, other, other.Line)
	}
	text, root := e.text, e.root
	err := e.double(rules, t, name)
	if err == nil {
		var made Thing
		if made, err = e.Find(t.Kind, name, t.Gateway); err == nil {
			err = e.Change(made, edit.Settings)
		}
	}
	if err == nil && !e.isCopy(edit, t, root) {
		err = fmt.Errorf("%s: to copy %s would change something else in the file too, or not be what was said; nothing was written; line ends, quotes or comments there are unusual: write this part by hand", e.path, edit.Name)
	}
	if err != nil {
		e.text, e.root, e.starts, e.now = text, root, nil, nil
	}
	return err
}

// double writes a rule once more, right behind itself and with another name.
func (e *Editor) double(rules *yaml.Node, t Thing, name string) error {
	_, v := lookup(t.body, t.Kind)
	as := e.patchOf(v, 0, len(t.Name), name)
	if rules.Style&yaml.FlowStyle != 0 {
		first, last := e.offset(t.body), e.valueEnd(t.body, true)
		return e.splice(last, last, ", "+string(e.text[first:as.first])+as.with+string(e.text[as.last:last]))
	}
	_, last, column := e.itemLines(t.body)
	line := t.body.Line
	for !strings.HasPrefix(e.line(line), strings.Repeat(" ", column-1)+"-") { // comments above it are about that one
		line--
	}
	text := string(e.text[e.lineStart(line):as.first]) + as.with + string(e.text[as.last:e.lineStart(last)])
	if !endsLine([]byte(text)) {
		text += "\n"
	}
	return e.replaceLines(last, last, text)
}

// isCopy reports whether the file says what it did, whose root that was, and, right behind the rule that was copied, the copy.
func (e *Editor) isCopy(edit network.Edit, was Thing, root *yaml.Node) bool {
	original, err := e.Find(was.Kind, was.Name, was.Gateway)
	if err != nil {
		return false
	}
	made, err := e.Find(was.Kind, edit.Values[0], was.Gateway)
	if err != nil || valuesOf(e.root, []*yaml.Node{made.body}) != valuesOf(root, nil) {
		return false
	}
	rest := func(t Thing) string {
		_, name := lookup(t.body, t.Kind)
		without := []*yaml.Node{name}
		for _, s := range edit.Settings {
			if v := valueAt(t.body, string(s.Key)); v != nil {
				without = append(without, v)
			}
		}
		return valuesOf(t.body, without)
	}
	changed := edit
	changed.Verb = network.Change
	_, rules := lookup(e.ownerOf(original), original.list)
	return rest(original) == rest(made) && e.isAsSaid(changed, made) && slices.Index(rules.Content, made.body) == slices.Index(rules.Content, original.body)+1
}
