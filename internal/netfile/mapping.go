package netfile

import (
	"slices"
	"strings"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// mappings reads who may ask a gateway for automatic port mappings.
func (r *reader) mappings(g *network.Gateway, f *fields) *network.Mappings {
	m := &network.Mappings{Place: f.place(f.node)}
	for _, n := range f.scalars("protocols") {
		if !slices.Contains(network.MappingProtocols, n.Value) {
			r.fail(n, "%s: no such protocol%s", n.Value, oneOf(n.Value, network.MappingProtocols))
		}
		m.Protocols = append(m.Protocols, n.Value)
	}
	if n := f.values["on"]; n != nil {
		m.On = r.interfaces(g, n)
	}
	if n, ok := f.scalar("external"); ok {
		if m.External = g.Interface(n.Value); m.External == nil {
			r.fail(n, "%s: %s has no such interface%s", n.Value, g.Name, oneOf(n.Value, network.InterfaceNames(g.Interfaces)))
		}
	}
	for _, rule := range f.children("rules") {
		m.Rules = append(m.Rules, r.mappingRule(rule))
	}
	return m
}

func (r *reader) mappingRule(f *fields) network.MappingRule {
	rule := network.MappingRule{Ports: header.AllPorts, AtMost: f.number("at-most", 1, 65535, 0), Place: f.place(f.node)}
	switch allow, drop := f.values["allow"] != nil, f.values["drop"] != nil; {
	case allow == drop:
		r.fail(f.node, "a mapping rule begins with allow or drop, and who it is for")
	case allow:
		rule.Verb, rule.From = network.Allow, f.expression("allow")
	default:
		rule.Verb, rule.From = network.Drop, f.expression("drop")
	}
	if n, ok := f.scalar("ports"); ok {
		ports, err := header.ParsePorts(n.Value)
		if err != nil {
			r.fail(n, "%s", err)
		}
		rule.Ports = ports
	}
	if n, ok := f.scalar("lifetime"); ok {
		lifetime, err := network.ParseLifetime(n.Value)
		if err != nil {
			r.fail(n, "%s", err)
		}
		rule.Lifetime = lifetime
	}
	return rule
}

// expectationForms are the keys that belong together, by the key that tells them apart.
var expectationForms = []struct {
	must network.Must
	key  string
	keys []string
}{
	{network.Reaches, "reaches", []string{"from", "to"}},
	{network.Stops, "stops", []string{"from", "to"}},
	{network.Only, "only", []string{"reach"}},
	{network.Never, "never", []string{"reach"}},
}

func (r *reader) readExpectation(f *fields) {
	e := &network.Expectation{Say: f.line("say"), Place: f.place(f.node)}
	var needs []string
	for _, form := range expectationForms {
		if f.values[form.key] == nil {
			continue
		}
		if e.Must != "" {
			r.fail(f.keys[form.key], "an expectation demands one thing: %s or %s", e.Must, form.must)
			return
		}
		e.Must, needs = form.must, form.keys
	}
	if e.Must == "" {
		r.fail(f.node, "this expectation demands nothing; it needs reaches: HOST, stops: true, only: WHO or never: WHO")
		return
	}
	for _, key := range []string{"from", "to", "reach"} {
		switch has, wanted := f.values[key] != nil, slices.Contains(needs, key); {
		case has && !wanted:
			r.fail(f.keys[key], "%s does not go with %s, which needs %s", key, e.Must, strings.Join(needs, " and "))
		case wanted && !has:
			r.fail(f.node, "%s needs %s", e.Must, key)
		}
	}
	e.Service, e.Text = f.services("service")
	switch e.Must {
	case network.Only, network.Never:
		e.From, e.To = f.expression(string(e.Must)), f.expression("reach")
		r.net.Expect = append(r.net.Expect, e)
		return
	case network.Stops:
		if !f.flag("stops", false) {
			r.fail(f.values["stops"], "stops is true or left out")
		}
	case network.Reaches:
		if n, ok := f.scalar("reaches"); ok {
			if e.Host = r.net.Host(n.Value); e.Host == nil {
				r.fail(n, "%s: no such host%s", n.Value, oneOf(n.Value, hostNames(r.net)))
			}
		}
	}
	e.From, e.To = f.expression("from"), f.expression("to")
	r.net.Expect = append(r.net.Expect, e)
}

func hostNames(n *network.Network) []string {
	var names []string
	for _, h := range n.Hosts {
		names = append(names, h.Name)
	}
	return names
}
