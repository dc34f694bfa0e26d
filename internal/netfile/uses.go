package netfile

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"hollowbridge/core/network"
)

// InUse is the error where something can't be removed, because other parts of the file use it.
type InUse struct {
	Thing Thing
	Uses  []InUseBy
}

// An InUseBy is a part of the file that uses something.
type InUseBy struct {
	In   Thing
	Line int          // where it begins
	Edit network.Edit // what takes the use away; its Verb is empty where the editor can't
}

func (u *InUse) Error() string {
	var texts []string
	for _, by := range u.Uses {
		texts = append(texts, fmt.Sprintf("%s (line %d)", by.In, by.Line))
	}
	return fmt.Sprintf("%s is in use by %s; change or remove these first", u.Thing, strings.Join(texts, ", "))
}

// uses returns what uses a thing by name, but the thing itself, and each with the edit that takes the use away: made one after
// the other, none is left, where there are not very many. A file that is wrong says nothing.
func (e *Editor) uses(t Thing) (list []InUseBy) {
	if t.key == nil {
		return nil
	}
	rest := e.Copy()
	for {
		found := rest.usedBy(t)
		if len(found) == 0 || len(list) == 0 && len(found) > mostUses {
			return append(list, found...)
		}
		by := found[0]
		var deeper *InUse
		err := rest.Apply(by.Edit)
		for errors.As(err, &deeper) { // what uses it is in use itself
			by = deeper.Uses[0]
			deeper = nil
			err = rest.Apply(by.Edit)
		}
		if len(list) >= 2*mostUses || err != nil {
			for i := range found {
				found[i].Edit = network.Edit{}
			}
			return append(list, found...)
		}
		by.Line = 0 // lines have moved since
		if now, err := e.Find(by.In.Kind, by.Edit.Name, by.In.Gateway); err == nil {
			by.Line = now.Line
		}
		list = append(list, by)
	}
}

// mostUses is how many uses of a thing are taken away one by one; of more the edits are not tried.
const mostUses = 30

// usedBy returns the uses of a thing in the file as it is, each with an edit that was not tried.
func (e *Editor) usedBy(t Thing) (list []InUseBy) {
	used, _, err := e.references()
	if err != nil {
		return nil
	}
	above := map[*yaml.Node]*yaml.Node{}
	var walk func(n *yaml.Node)
	walk = func(n *yaml.Node) {
		for _, child := range n.Content {
			above[child] = n
			walk(child)
		}
	}
	walk(e.root)
	things := map[*yaml.Node]Thing{}
	var self *yaml.Node
	for _, u := range e.things() {
		things[u.body] = u
		if u.Kind == t.Kind && u.Name == t.Name && u.Gateway == t.Gateway {
			self = u.body
		}
	}
	for _, r := range used {
		is := r.kind == t.Kind && r.name == t.Name || t.Kind == "gateway" && r.kind == interfaceKind && strings.HasPrefix(r.name, t.Name+":")
		if !is {
			continue
		}
		path, owner, own := []*yaml.Node{r.node}, -1, false
		for n := r.node; n != nil; n = above[n] {
			if n != r.node {
				path = append(path, n)
			}
			if _, is := things[n]; is && owner < 0 { // the innermost
				owner = len(path) - 1
			}
			own = own || n == self
		}
		if own || owner < 0 {
			continue
		}
		path = path[:owner+1]
		slices.Reverse(path)
		list = append(list, InUseBy{things[path[0]], r.node.Line, e.without(things[path[0]], path)})
	}
	slices.SortStableFunc(list, func(a, b InUseBy) int { return a.Line - b.Line })
	return list
}

// without returns the edit of a thing that takes a node out of it, by the path from its body to the node: out of a list that holds more, with a
// key that may go, or else with the whole thing. A rule without one of its keys would be for more, so that goes as a whole.
func (e *Editor) without(in Thing, path []*yaml.Node) network.Edit {
	edit := network.Edit{Verb: network.Remove, Kind: in.Kind, Name: in.Name}
	if in.list == "routes" && in.hop != "" {
		edit.Name += " via " + in.hop
	}
	if in.IsRule() || in.Kind == routeKind {
		edit.Gateway = in.Gateway
	}
	key, list, item := "", (*yaml.Node)(nil), (*yaml.Node)(nil)
	for i := 1; i < len(path); i++ {
		switch parent := path[i-1]; parent.Kind {
		case yaml.MappingNode:
			if list != nil { // a mapping that is an item goes as a whole
				continue
			}
			name := path[i].Value
			if at := slices.Index(parent.Content, path[i]); at%2 == 1 {
				name = parent.Content[at-1].Value
			}
			key = strings.TrimPrefix(key+"."+name, ".")
		case yaml.SequenceNode:
			if list == nil {
				list, item = parent, path[i]
			}
		}
	}
	if in.Kind == "group" || in.Kind == "service" {
		key = string(bodyKey(in.Kind))
	}
	whole := in.IsRule() || slices.Contains([]string{routeKind, relayKind, hostRuleKind, mappingRuleKind, expectationKind, "group", "service"}, in.Kind)
	if strings.HasPrefix(key, "mappings.") && list == nil || strings.HasPrefix(key, "mappings.") && len(list.Content) < 2 {
		key = "mappings" // which does not do without
	}
	switch rest, ok := restOf(list, item); {
	case ok:
		edit.Verb, edit.Settings = network.Change, []network.Setting{{Key: network.Key(key), Value: rest}}
	case whole || in.Kind == interfaceKind && strings.HasPrefix(key, "vlan."):
	default:
		edit.Verb, edit.Settings = network.Change, []network.Setting{{Key: network.Key(key)}}
	}
	return edit
}

// restOf returns what is left of a list without an item, as it is typed; false where nothing is, or what can't be typed.
func restOf(list, without *yaml.Node) (string, bool) {
	var texts []string
	for i := 0; list != nil && i < len(list.Content); i++ {
		item := list.Content[i]
		switch {
		case item == without:
		case item.Kind != yaml.ScalarNode || strings.ContainsAny(item.Value, "[]"):
			return "", false
		default:
			texts = append(texts, item.Value)
		}
	}
	text := strings.Join(texts, ",")
	return text, len(texts) > 0 && slices.Equal(splitList(text), texts)
}
