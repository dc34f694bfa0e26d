package advice

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/reach"
)

// usual returns a connection of a region that a person would take for an example.
func (x *exam) usual(o *origin) header.Packet {
	p, _ := x.explorer.Space.Usual(o.Set)
	return p.Packet
}

// anywhere is an address out on the internet.
var anywhere = netip.MustParseAddr("192.0.2.1")

// outside reports whether an expression of a rule lets strangers of the internet in.
func (x *exam) fromOutside(g *network.Gateway, e network.Expression) bool {
	for _, i := range g.Interfaces {
		for _, family := range header.Families {
			if i.FacesInternet(family) && x.names.Open(e.In(i.Zone)) {
				return true
			}
		}
	}
	return false
}

func (x *exam) anyServices() {
	for _, g := range x.net.Gateways {
		for _, r := range g.Filter {
			any := len(r.Services) == 0 || slices.Contains(r.Services, header.AnyService)
			if r.Verb == network.Allow && !r.Off() && any && x.fromOutside(g, r.From) {
				x.rule(network.AnyService, &r.Rule, "it lets everybody outside use every service of "+cmp.Or(r.To.Text, "anybody"), x.served(r)...)
			}
		}
	}
}

// served are edits that make a filter rule allow only what the one host serves that it is for.
func (x *exam) served(r *network.FilterRule) []network.Edits {
	for _, h := range x.net.Hosts {
		if h.Name == r.To.Text && len(h.Serves) > 0 {
			return []network.Edits{x.change(&r.Rule, network.Setting{Key: "service", Value: servesText(h)})}
		}
	}
	return nil
}

// exposure looks at what everybody on the internet can reach, or many there.
func (x *exam) exposure() {
	for i := range x.open.Reached {
		a := &x.open.Reached[i]
		if x.names.Exposure(a.From) == reach.OpenToFew {
			continue
		}
		rule, place := x.opener(a)
		who := x.outsiders(a.From)
		tell := func(kind network.FindingKind, ports []uint16) {
			for _, p := range ports {
				if a.Services.Matches(header.TCP, p) {
					x.report(kind, place, a.Host, fmt.Sprintf("%s of %s is open to %s", header.ServiceAt(header.TCP, p).String(), a.Host, who), rule)
				}
			}
		}
		if a.Gateway {
			tell(network.GatewayOpen, management)
			continue
		}
		for _, s := range attacked {
			if p, open := firstPort(a.Services, s); open {
				x.report(s.kind, place, a.Host, fmt.Sprintf("%s of %s is open to %s; %s", header.ServiceAt(s.protocol, p).String(), a.Host, who, s.reason), rule)
			}
		}
		tell(network.ClearTextOpen, clearText)
	}
}

// firstPort returns the first port of an attacked service that is among services.
func firstPort(among header.Services, s attackedService) (uint16, bool) {
	for p := s.first; p <= s.last; p++ {
		if among.Matches(s.protocol, p) {
			return p, true
		}
	}
	return 0, false
}

// opener returns the rule by which something gets in, nil where none does, and its place.
func (x *exam) opener(a *reach.Access) (*network.Rule, network.Position) {
	if len(a.Rules) > 0 {
		rule := a.Rules[len(a.Rules)-1]
		return rule, rule.Place
	}
	if g := x.net.Gateway(a.Host); g != nil {
		return nil, g.Place
	}
	return nil, x.net.Gateways[0].Place
}

// outsiders names sources, and says how many they are where that is not everybody.
func (x *exam) outsiders(from header.Addresses) string {
	if x.names.Exposure(from) == reach.OpenToMany {
		return x.names.Name(from) + ", which are " + x.names.Count(from)
	}
	return x.names.Name(from)
}

// nobodyThere finds what the internet is let through to although nobody is known to answer. What
// another finding says of the same rule is not said again.
func (x *exam) nobodyThere() {
	said := map[network.Position]bool{}
	for _, f := range x.found {
		if tellsNobody[f.Kind] {
			said[f.Place] = true
		}
	}
	for i := range x.open.LetThrough {
		a := &x.open.LetThrough[i]
		if x.names.Exposure(a.From) == reach.OpenToFew || slices.ContainsFunc(a.Rules, func(r *network.Rule) bool { return said[r.Place] }) {
			continue
		}
		rule, place := x.opener(a)
		to := fmt.Sprintf("%s of %s, which is not said to serve it", a.Services, a.Host)
		if a.Host == "" {
			to = fmt.Sprintf("%s, where no host is listed", x.names.Name(a.Delivered))
		}
		subject := cmp.Or(a.Host, "nobody")
		if rule != nil {
			subject, said[rule.Place] = rule.Kind+" "+rule.Name, true
		}
		x.report(network.NobodyThere, place, subject, fmt.Sprintf("%s gets through to %s", x.outsiders(a.From), to), rule)
	}
}

// tellsNobody are the findings that say already that too much is let through to somebody, or that
// nobody is there.
var tellsNobody = map[network.FindingKind]bool{network.AnyService: true, network.OneToOneWide: true, network.NoSuchHost: true, network.NotServed: true}

// nameServers finds zones with a notice page whose people may ask any name server.
func (x *exam) nameServers() {
	for _, g := range x.net.Gateways {
		for _, notice := range g.NAT {
			if notice.Does != network.DestinationNAT || notice.Off() || notice.From.IsAny() {
				continue
			}
			for _, r := range g.Filter {
				if r.Verb != network.Allow || r.Off() || len(r.Services) == 0 || !r.Services.Matches(header.UDP, 53) {
					continue
				}
				for _, i := range notice.On {
					if notice.From.In(i.Zone).Minus(r.From.In(i.Zone)).Empty() && x.opensOutside(g, r) {
						x.rule(network.DNSAnywhere, &r.Rule, fmt.Sprintf("whom %s sends to a page can ask any name server by it", notice.Name))
					}
				}
			}
		}
	}
}

// opensOutside reports whether a rule lets packets out to the internet at large.
func (x *exam) opensOutside(g *network.Gateway, r *network.FilterRule) bool {
	return slices.ContainsFunc(g.Interfaces, func(i *network.Interface) bool {
		return (i.IsUplink()) && x.names.Open(r.To.In(i.Zone))
	})
}

func (x *exam) openMappings() {
	for _, g := range x.net.Gateways {
		if g.Mappings == nil {
			continue
		}
		subject := "mappings of " + g.Name
		allows := false
		for _, i := range g.Mappings.On {
			if i.IsUplink() {
				x.report(network.MappingsOutside, g.Mappings.Place, subject, fmt.Sprintf("%s, where programs may ask, leads to the internet", i.Name), nil)
			}
		}
		for i := range g.Mappings.Rules {
			if r := &g.Mappings.Rules[i]; r.Verb == network.Allow {
				allows = true
				x.mappingRule(subject, r)
			}
		}
		if !allows {
			x.report(network.MappingsForNobody, g.Mappings.Place, subject, "no rule allows anything", nil)
		}
	}
}

// mappingRule looks at a rule that lets programs open ports.
func (x *exam) mappingRule(subject string, r *network.MappingRule) {
	switch {
	case r.Ask:
	case r.From.IsAny():
		x.report(network.MappingsOpen, r.Place, subject, fmt.Sprintf("every machine may open ports %s", r.Ports), nil)
	case x.names.Open(r.From.Addresses()):
		x.report(network.MappingsOpen, r.Place, subject, fmt.Sprintf("%s, which holds the internet, may open ports %s", r.From.Text, r.Ports), nil)
	}
	if r.Ports.First < network.HighPorts.First {
		x.report(network.MappingsLowPorts, r.Place, subject, fmt.Sprintf("%s may open ports %s", r.From.Text, r.Ports), nil)
	}
	if r.Lifetime == 0 {
		x.report(network.MappingsForever, r.Place, subject, fmt.Sprintf("%s may open ports for as long as it likes; lifetime: says for how long at most", r.From.Text), nil)
	}
}
