package netfile

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"hollowbridge/core/network"
)

// The kinds of what is part of something else, or has a number in place of a name.
const (
	interfaceKind   = "interface"    // of a gateway, as GATEWAY:INTERFACE
	expectationKind = "expectation"  // known by what it says
	hostRuleKind    = "host-rule"    // of a host's own firewall, as HOST/NUMBER
	relayKind       = "relay"        // of a host, as HOST/NUMBER
	mappingRuleKind = "mapping-rule" // of a gateway, as GATEWAY/NUMBER
)

var partKinds = []string{interfaceKind, expectationKind, hostRuleKind, relayKind, mappingRuleKind}

// firewallList is the list of a host's own firewall.
const firewallList = "firewall"

// parts returns what is part of something else.
func (e *Editor) parts() (found []Thing) {
	numbered := func(kind, owner, gateway, list string, in *yaml.Node) {
		_, items := lookup(in, list)
		for i := 0; items != nil && i < len(items.Content); i++ {
			item := items.Content[i]
			found = append(found, Thing{Kind: kind, Name: fmt.Sprintf("%s/%d", owner, i+1), Gateway: gateway, Line: item.Line, list: list, body: item})
		}
	}
	_, hosts := lookup(e.root, "hosts")
	for i := 0; hosts != nil && i+1 < len(hosts.Content); i += 2 {
		numbered(hostRuleKind, hosts.Content[i].Value, "", firewallList, hosts.Content[i+1])
		numbered(relayKind, hosts.Content[i].Value, "", "relays", hosts.Content[i+1])
	}
	_, gateways := lookup(e.root, "gateways")
	for i := 0; gateways != nil && i+1 < len(gateways.Content); i += 2 {
		name, body := gateways.Content[i].Value, gateways.Content[i+1]
		_, interfaces := lookup(body, "interfaces")
		for k := 0; interfaces != nil && k+1 < len(interfaces.Content); k += 2 {
			key := interfaces.Content[k]
			found = append(found, Thing{Kind: interfaceKind, Name: name + ":" + key.Value, Gateway: name, Line: key.Line, key: key, body: interfaces.Content[k+1]})
		}
		if _, mappings := lookup(body, "mappings"); mappings != nil {
			numbered(mappingRuleKind, name, name, "rules", mappings)
		}
	}
	_, expect := lookup(e.root, "expect")
	for i := 0; expect != nil && i < len(expect.Content); i++ {
		if _, say := lookup(expect.Content[i], "say"); say != nil {
			found = append(found, Thing{Kind: expectationKind, Name: say.Value, Line: expect.Content[i].Line, list: "expect", body: expect.Content[i]})
		}
	}
	return found
}

// ownerOf returns the mapping that has the list which a thing stands in.
func (e *Editor) ownerOf(t Thing) *yaml.Node {
	_, gateways := lookup(e.root, "gateways")
	_, g := lookup(gateways, t.Gateway)
	owner, _, _ := strings.Cut(t.Name, "/")
	switch t.Kind {
	case expectationKind:
		return e.root
	case hostRuleKind, relayKind:
		_, hosts := lookup(e.root, "hosts")
		_, h := lookup(hosts, owner)
		return h
	case mappingRuleKind:
		_, mappings := lookup(g, "mappings")
		return mappings
	}
	return g
}

// addPart adds a gateway, an interface, an expectation, or what has a number.
func (e *Editor) addPart(edit network.Edit) error {
	switch edit.Kind {
	case "gateway":
		return e.addGateway(edit)
	case interfaceKind:
		gateway, name, ok := strings.Cut(edit.Name, ":")
		if !ok {
			return fmt.Errorf("%s: write an interface as GATEWAY:INTERFACE", edit.Name)
		}
		if _, err := e.GatewayFor(gateway); err != nil {
			return err
		}
		_, gateways := lookup(e.root, "gateways")
		_, g := lookup(gateways, gateway)
		return e.addEntry(g, "interfaces", name, "{"+e.flowSettings(edit.Settings)+"}")
	case expectationKind:
		keys := append([]network.Setting{{Key: network.KeySay, Value: edit.Name}}, edit.Settings...)
		return e.addItem(e.root, "expect", edit.Kind, keys)
	}
	if strings.Contains(edit.Name, "/") {
		return fmt.Errorf("%s: a %s is added behind the name of its host or gateway; it gets its number by itself", edit.Name, edit.Kind)
	}
	t := Thing{Kind: edit.Kind, Name: edit.Name, Gateway: edit.Name}
	owner := e.ownerOf(t)
	list := map[string]string{hostRuleKind: firewallList, relayKind: "relays", mappingRuleKind: "rules"}[edit.Kind]
	switch {
	case owner == nil && edit.Kind == mappingRuleKind:
		return fmt.Errorf("%s: no gateway of this name has mappings", edit.Name)
	case owner == nil:
		var names []string
		for _, other := range e.things() {
			if other.Kind == "host" {
				names = append(names, other.Name)
			}
		}
		return fmt.Errorf("%s: no such host%s", edit.Name, DidYouMean(edit.Name, names))
	case edit.Before+edit.After == "":
		return e.addItem(owner, list, edit.Kind, edit.Settings)
	}
	at, err := e.Find(edit.Kind, edit.Name+"/"+strings.TrimPrefix(edit.Before+edit.After, edit.Name+"/"), "")
	if err != nil {
		return err
	}
	_, items := lookup(owner, list)
	return e.insertRule(items, at, edit.After != "", edit.Kind, edit.Settings)
}

// addGateway adds a gateway with its first interface.
func (e *Editor) addGateway(edit network.Edit) error {
	var first, own []network.Setting
	name := ""
	for _, s := range edit.Settings {
		switch s.Key {
		case "interface":
			name = s.Value
		case "address", "zone":
			first = append(first, s)
		default:
			own = append(own, s)
		}
	}
	body := "{" + e.keyText("interfaces") + ": {" + e.keyText(name) + ": {" + e.flowSettings(first) + "}}"
	if len(own) > 0 {
		body += ", " + e.flowSettings(own)
	}
	return e.addEntry(e.root, "gateways", edit.Name, body+"}")
}

// isJSON reports whether the file is JSON, which edits leave it.
func (e *Editor) isJSON() bool {
	return bytes.HasPrefix(bytes.TrimSpace(e.before), []byte("{")) && json.Valid(e.before)
}

// keyText writes a key as the file has them.
func (e *Editor) keyText(key string) string {
	if e.isJSON() {
		return strconv.Quote(key)
	}
	return scalarText(key, true)
}

// valueText writes a value as the file has them.
func (e *Editor) valueText(key, value string, flow bool) string {
	return e.asJSON(valueText(key, value, flow))
}

// asJSON writes YAML that was made here as JSON, where the file is that.
func (e *Editor) asJSON(text string) string {
	if !e.isJSON() {
		return text
	}
	var node yaml.Node
	if err := yaml.Unmarshal([]byte(text), &node); err != nil || len(node.Content) != 1 {
		return strconv.Quote(text)
	}
	return jsonOf(node.Content[0])
}

func jsonOf(n *yaml.Node) string {
	return inBrackets(n, func(n *yaml.Node) string {
		if number, err := strconv.Atoi(n.Value); n.Style == 0 && (err == nil && strconv.Itoa(number) == n.Value || slices.Contains([]string{"true", "false"}, n.Value)) {
			return n.Value
		}
		text, err := json.Marshal(n.Value)
		if err != nil {
			return strconv.Quote(n.Value)
		}
		return string(text)
	})
}
