package advice

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"hollowbridge/core/engine"
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

// fromOutside reports whether an expression of a rule lets strangers of the internet in.
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
			return []network.Edits{x.change(&r.Rule, network.Setting{Key: network.KeyService, Value: servesText(h)})}
		}
	}
	return nil
}

// exposure looks at what everybody on the internet can reach, or many there.
func (x *exam) exposure() {
	for i := range x.open.Reached {
		a := &x.open.Reached[i]
		if a.Sender.By != nil || x.names.Exposure(a.From) == reach.OpenToFew {
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
		if a.Sender.By != nil || x.names.Exposure(a.From) == reach.OpenToFew || slices.ContainsFunc(a.Rules, func(r *network.Rule) bool { return said[r.Place] }) {
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

// A besideWay is what machines beside uplinks get to by one rule.
type besideWay struct {
	by      *network.Rule // nil where no rule stops them
	senders []reach.Straight
	targets []string
}

// mostBesideNamed is how many targets are named.
const mostBesideNamed = 3

// besideUplinks finds what only machines beside uplinks get to, by inside addresses.
func (x *exam) besideUplinks() {
	var ways []*besideWay
	for k, list := range [][]reach.Access{x.open.Reached, x.open.LetThrough} {
		for i := range list {
			a := &list[i]
			if a.Sender.By == nil || a.Gateway || k > 0 && a.Host != "" {
				continue
			}
			rule := x.letsIn(a)
			if a.Sender.Hop && !x.names.Open(a.From) && x.isNeeded(rule) {
				continue // it takes the addresses of those for whom the rule is
			}
			at := slices.IndexFunc(ways, func(w *besideWay) bool { return w.by == rule })
			if at < 0 {
				at, ways = len(ways), append(ways, &besideWay{by: rule})
			}
			w := ways[at]
			if !slices.ContainsFunc(w.senders, func(s reach.Straight) bool { return s.By == a.Sender.By }) {
				w.senders = append(w.senders, a.Sender)
			}
			if target := fmt.Sprintf("%s of %s", a.Services, cmp.Or(a.Host, x.names.Name(a.Delivered))); !slices.Contains(w.targets, target) {
				w.targets = append(w.targets, target)
			}
		}
	}
	for _, w := range ways {
		x.tellBeside(w)
	}
}

func (x *exam) tellBeside(w *besideWay) {
	var names []string
	for _, s := range w.senders {
		names = append(names, s.Machines())
	}
	targets := strings.Join(w.targets[:min(len(w.targets), mostBesideNamed)], "; ")
	if more := len(w.targets) - mostBesideNamed; more > 0 {
		targets += fmt.Sprintf("; and %d more", more)
	}
	text := fmt.Sprintf("%s can get to %s by an inside address: no NAT rule has to lead there", strings.Join(names, ", and "), targets)
	if w.by == nil {
		by := w.senders[0].By
		x.report(network.BesideUplink, by.Place, "interface "+by.String(), text, nil)
		return
	}
	var edits []network.Edits
	if r := x.filterRule(w.by); r != nil && r.Verb == network.Allow && !r.Redirected {
		edits = append(edits, x.change(w.by, network.Setting{Key: network.KeyRedirected, Value: "true"}))
	}
	x.rule(network.BesideUplink, w.by, text, edits...)
}

// letsIn returns the filter rule by which a straight way passes the gateway where it begins, nil where none does.
func (x *exam) letsIn(a *reach.Access) *network.Rule {
	for _, r := range a.Rules {
		if r.Gateway == a.Sender.By.Gateway && x.filterRule(r) != nil {
			return r
		}
	}
	return nil
}

// isNeeded reports whether somebody gets somewhere by a rule who does not hand the packets to the gateway himself.
func (x *exam) isNeeded(r *network.Rule) bool {
	return slices.ContainsFunc(x.through[r], func(o *origin) bool { return o.From.Through == nil && o.Verdict.Outcome == engine.Reached })
}

// filterRule returns the filter rule that a rule is, or nil.
func (x *exam) filterRule(rule *network.Rule) *network.FilterRule {
	for _, r := range rule.Gateway.Filter {
		if &r.Rule == rule {
			return r
		}
	}
	return nil
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
