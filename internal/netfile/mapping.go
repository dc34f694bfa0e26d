package netfile

import (
	"slices"
	"strings"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// mappings reads who may ask a gateway for automatic port mappings.
func (r *reader) mappings(g *network.Gateway, f *fields) *network.Mappings {
	m := &network.Mappings{AtMost: f.number("at-most", 1, 1_000_000, network.UsualMappings), Place: f.place(f.node)}
	m.Protocols = f.words("protocols", network.MappingProtocols)
	if n := f.values["on"]; n != nil {
		m.On = r.interfaces(g, n)
	}
	if n, ok := f.scalar("external"); ok {
		if m.External = g.Interface(n.Value); m.External == nil {
			r.fail(n, "%s: %s has no such interface%s", n.Value, g.Name, oneOf(n.Value, network.InterfaceNames(g.Interfaces)))
		} else {
			r.refersTo(n, 0, m.External, false)
		}
	}
	for _, rule := range f.children("rules") {
		m.Rules = append(m.Rules, r.mappingRule(rule))
	}
	r.servesMappings(g, m)
	return m
}

// words reads a list of some words.
func (f *fields) words(key string, known []string) (list []string) {
	for _, n := range f.scalars(key) {
		if !slices.Contains(known, n.Value) {
			f.fail(n, "%s: no such protocol%s", n.Value, oneOf(n.Value, known))
		}
		list = append(list, n.Value)
	}
	return list
}

// servesMappings notes what a gateway answers of itself where programs may ask it for mappings.
func (r *reader) servesMappings(g *network.Gateway, m *network.Mappings) {
	var services header.Services
	if m.Speaks(network.PCP) || m.Speaks(network.NATPMP) {
		services = append(services, header.ServiceAt(header.UDP, network.PCPPort))
	}
	if m.Speaks(network.IGD) {
		services = append(services, header.ServiceAt(header.UDP, network.SSDPPort), header.ServiceAt(header.TCP, network.IGDPort))
	}
	if len(services) > 0 && len(m.On) > 0 {
		g.Serves = append(g.Serves, network.GatewayService{Name: "mappings", Services: services, On: m.On, Mappings: true, Place: m.Place})
	}
}

func (r *reader) mappingRule(f *fields) network.MappingRule {
	rule := network.MappingRule{
		Ports: f.ports("ports", network.HighPorts), Inside: f.ports("inside-ports", header.AllPorts), By: f.words("by", network.MappingProtocols),
		Shortest: f.lifetime("shortest"), Lifetime: f.lifetime("lifetime"),
		AtMost: f.number("at-most", 1, 65535, 0), Ask: f.flag("ask", false), Place: f.place(f.node),
	}
	for _, name := range f.words("transport", mappedTransports) {
		protocol, _ := header.ParseProtocol(name)
		rule.Transport = append(rule.Transport, protocol)
	}
	if f.values["for"] != nil {
		rule.For, rule.ForOthers = f.expression("for"), true
	}
	if rule.Lifetime > 0 && rule.Shortest > rule.Lifetime {
		r.fail(f.values["shortest"], "the shortest lifetime is longer than the longest one")
	}
	switch allow, drop := f.values["allow"] != nil, f.values["drop"] != nil; {
	case allow == drop:
		r.fail(f.node, "a mapping rule begins with allow or drop, and who it is for")
	case allow:
		rule.Verb, rule.From = network.Allow, f.expression("allow")
	default:
		rule.Verb, rule.From = network.Drop, f.expression("drop")
	}
	return rule
}

func (f *fields) ports(key string, otherwise header.Ports) header.Ports {
	n, ok := f.scalar(key)
	if !ok {
		return otherwise
	}
	ports, err := header.ParsePorts(n.Value)
	if err != nil {
		f.fail(n, "%s", err)
	}
	return ports
}

func (f *fields) lifetime(key string) time.Duration {
	n, ok := f.scalar(key)
	if !ok {
		return 0
	}
	lifetime, err := network.ParseLifetime(n.Value)
	if err != nil {
		f.fail(n, "%s", err)
	}
	return lifetime
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
			r.refers(n, 0, "host", n.Value)
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
