package advice

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// lookHidden finds rules that others in front of them leave nothing for.
func lookHidden(x *exam) {
	for _, h := range x.hidden {
		if h.Rule.Disabled {
			continue
		}
		text := "it matches nothing at all"
		if len(h.By) > 0 {
			var names []string
			for _, r := range h.By {
				names = append(names, r.Name)
			}
			text = "it can never match: " + strings.Join(names, ", ") + " in front of it take everything"
		}
		x.rule("hidden-rule", h.Rule, text, x.remove(h.Rule))
	}
}

// lookSamePort finds forwards that both listen on a port which only the first gets.
func lookSamePort(x *exam) {
	for _, g := range x.net.Gateways {
		at := map[netip.Addr][]*network.NATRule{} // earlier ones, by the addresses they listen on
		var wide, all []*network.NATRule          // those that listen on many, and all
		for _, b := range g.NAT {
			if !forwards(b) || b.Disabled {
				continue
			}
			addresses, few := fewAddresses(listens(b))
			rivals := all
			if few {
				rivals = wide
				for _, a := range addresses {
					rivals = slices.Concat(rivals, at[a])
					at[a] = append(at[a], b)
				}
			} else {
				wide = append(wide, b)
			}
			all = append(all, b)
			for _, a := range rivals {
				if a.Target == b.Target && a.TargetAs == b.TargetAs {
					continue
				}
				if port, both := commonPort(a, b); both {
					x.rule("same-port", &b.Rule, fmt.Sprintf("%s (line %d) has %s already", a.Name, a.Place.Line, port), x.remove(&b.Rule))
				}
			}
		}
	}
}

// mostFew is how many addresses are looked at one by one.
const mostFew = 16

// fewAddresses returns the members of a set, where they are few.
func fewAddresses(set header.Addresses) (list []netip.Addr, few bool) {
	if set.Size() > mostFew {
		return nil, false
	}
	for _, r := range set.Ranges() {
		for a := r.First; ; a = a.Next() {
			if list = append(list, a); a == r.Last {
				break
			}
		}
	}
	return list, true
}

func forwards(r *network.NATRule) bool { return r.Does == network.PortForward }

// commonPort returns a port on which two forwards listen for the same people.
func commonPort(a, b *network.NATRule) (string, bool) {
	shared := slices.ContainsFunc(a.On, func(i *network.Interface) bool { return slices.Contains(b.On, i) })
	if !shared || listens(a).Intersect(listens(b)).Empty() {
		return "", false
	}
	if !a.From.IsAny() && !b.From.IsAny() && a.From.Addresses().Intersect(b.From.Addresses()).Empty() {
		return "", false
	}
	for _, m := range a.Ports {
		for _, n := range b.Ports {
			first := max(m.Ports.First, n.Ports.First)
			if m.Protocol == n.Protocol && first <= min(m.Ports.Last, n.Ports.Last) {
				return header.ServiceAt(m.Protocol, first).String(), true
			}
		}
	}
	return "", false
}

func listens(r *network.NATRule) header.Addresses {
	if !r.AtOwn {
		return r.At
	}
	var ranges []header.Range
	for _, i := range r.On {
		for _, p := range i.Addresses {
			ranges = append(ranges, header.Range{First: p.Addr(), Last: p.Addr()})
		}
	}
	return header.AddressesOf(ranges...)
}

// lookForwards finds forwards whose connections are all stopped behind them.
func lookForwards(x *exam) {
	for _, g := range x.net.Gateways {
		for _, r := range g.NAT {
			if !r.Does.Permits() || r.Disabled {
				continue
			}
			through := x.meant(r)
			filtered, refused := 0, 0
			var shut []header.Range // who is stopped by the filter
			for _, o := range through {
				if o.Verdict.EndedAt(g) && o.Verdict.Step == engine.StepFilter {
					filtered++
					shut = append(shut, x.explorer.Space.Sources(o.Set).Ranges()...)
				}
				if o.Verdict.Outcome == engine.HostFirewall {
					refused++
				}
			}
			switch {
			case len(through) == 0:
			case filtered == len(through):
				p := PermissionFor(g, r)
				who := ""
				if g.Handling.UnmatchedByTrust { // some may get through without one
					who = " from " + x.names.Who(header.AddressesOf(shut...))
					p.From = strings.Join(x.shutZones(g, r), ",")
				}
				add := allowEdit(x.filterNames(g), g, r.Name, p)
				verdict, wrong := x.sample(r)
				if verdict.EndedAt(g) && verdict.Rule != nil {
					add.Before = verdict.Rule.Name
				}
				mends := []Mend{{add}}
				if wrong != nil && verdict.EndedAt(g) {
					right := corrected(wrong.Rule, g, p)
					x.rule("wrong-side", wrong.Rule, fmt.Sprintf("%s needs it: %s", r.Name, wrong.Text), right)
					mends = append([]Mend{right}, mends...)
				}
				x.rule("forward-not-permitted", &r.Rule, fmt.Sprintf("no filter rule lets it through%s; it needs one from %s to %s, %s", who, strings.ReplaceAll(p.From, ",", ", "), p.To, p.Service), mends...)
			case refused > 0 && filtered+refused == len(through):
				x.rule("host-refuses", &r.Rule, fmt.Sprintf("the firewall of %s itself lets nobody in", r.TargetIs))
			}
		}
	}
}

// shutZones returns the sources that a filter rule for a forward has to name, where some
// who may use it get through already: those it is for, or the zones that are stopped.
func (x *exam) shutZones(g *network.Gateway, r *network.NATRule) []string {
	if !r.From.IsAny() {
		return []string{r.From.Text}
	}
	var zones []string
	for _, i := range r.On {
		stopped := slices.ContainsFunc(x.through[&r.Rule], func(o *origin) bool {
			in := o.Verdict.EndedAt(g) && o.Verdict.Step == engine.StepFilter
			return in && (o.isOutside() && (i.IsUplink()) || o.from.Segment != nil && o.from.Segment == i.Segment || o.from.Clients == i && i != nil)
		})
		if stopped && !slices.Contains(zones, i.Zone) {
			zones = append(zones, i.Zone)
		}
	}
	if len(zones) == 0 {
		return []string{PermissionFor(g, r).From}
	}
	return zones
}

// sample walks a connection that a forward is meant for. It returns also the filter rule
// that would let it through if it named the other side of the translation, or nil.
func (x *exam) sample(r *network.NATRule) (v engine.Verdict, wrong *engine.Near) {
	if c, ok := Sample(x.engine, r, network.Always); ok {
		return x.walk.WrongSide(c)
	}
	return v, nil
}

// filterNames returns the names of a gateway's filter rules.
func (x *exam) filterNames(g *network.Gateway) map[string]bool {
	names := x.ruleNames[g]
	if names == nil {
		names = filterNames(g)
		x.ruleNames[g] = names
	}
	return names
}

// lookHalfHidden finds filter rules that cross one in front of them with another verb.
func lookHalfHidden(x *exam) {
	verbs := map[*network.Rule]network.Verb{}
	for _, g := range x.net.Gateways {
		for _, r := range g.Filter {
			verbs[&r.Rule] = r.Verb
		}
	}
	told := map[*network.Rule]bool{}
	for _, c := range x.explorer.Crossings() {
		if (verbs[c.First] == network.Allow) != (verbs[c.Second] == network.Allow) && !told[c.Second] {
			told[c.Second] = true
			x.rule("half-hidden", c.Second, fmt.Sprintf("%s (line %d) decides about part of it, %s -> %s for one", c.First.Name, c.First.Place.Line, c.Example.From(), c.Example.To()))
		}
	}
}

// lookHairpins finds forwards without hairpin at gateways where others have it.
func lookHairpins(x *exam) {
	for _, g := range x.net.Gateways {
		some := slices.ContainsFunc(g.NAT, func(r *network.NATRule) bool { return r.Hairpin && !r.Disabled })
		for _, r := range g.NAT {
			if some && r.Does == network.PortForward && !r.Disabled && !r.Hairpin && r.From.IsAny() {
				x.rule("no-hairpin", &r.Rule, "people inside can't use it; others of "+g.Name+" have hairpin: true", x.change(&r.Rule, Setting{"hairpin", "true"}))
			}
		}
	}
}

// meant returns the regions through a forward that it is for: those from the internet
// where it listens on an uplink, else all.
func (x *exam) meant(r *network.NATRule) []*origin {
	through := x.through[&r.Rule]
	uplink := func(i *network.Interface) bool { return i.IsUplink() }
	if !slices.ContainsFunc(r.On, uplink) {
		return through
	}
	return slices.DeleteFunc(slices.Clone(through), func(o *origin) bool { return !o.isOutside() })
}

// lookUnused finds filter rules that no connection ever comes to.
func lookUnused(x *exam) {
	used := map[*network.Rule]bool{}
	for _, o := range x.regions {
		for _, r := range o.Rules {
			used[r] = true
		}
	}
	hidden := map[*network.Rule]bool{}
	for _, h := range x.hidden {
		hidden[h.Rule] = true
	}
	for _, g := range x.net.Gateways {
		for _, r := range g.Filter {
			wrong := slices.ContainsFunc(x.found, func(f Finding) bool { return f.Name == "wrong-side" && f.Place == r.Place })
			if !used[&r.Rule] && !hidden[&r.Rule] && !r.Disabled && !wrong {
				x.rule("unused-rule", &r.Rule, "no connection ever comes to it", x.remove(&r.Rule))
			}
		}
	}
}

// lookTargets looks at the hosts that forwards lead to.
func lookTargets(x *exam) {
	for _, g := range x.net.Gateways {
		for _, r := range g.NAT {
			if !r.Does.Permits() || r.Disabled {
				continue
			}
			for _, a := range []header.Range{{First: r.Target.V4, Last: r.Target.V4}, {First: r.Target.V6, Last: r.Target.V6}} {
				if a.First.IsValid() {
					x.target(r, a)
				}
			}
		}
	}
}

func (x *exam) target(r *network.NATRule, a header.Range) {
	host := x.hosts[a.First]
	for _, g := range x.net.Gateways {
		for _, i := range g.Interfaces {
			for _, p := range i.Addresses {
				if p.Addr() == a.First {
					return // the next gateway hands it on
				}
			}
		}
	}
	g := x.gateways[&r.Rule]
	switch {
	case host == nil:
		var mends []Mend
		if len(r.Ports) == 1 {
			p := header.Packet{Destination: a.First, Protocol: r.Ports[0].Protocol, DestinationPort: r.Ports[0].ToFirst}
			mends = targetMendsOf(g, r, x.net, p)
		}
		x.rule("no-such-host", &r.Rule, fmt.Sprintf("no host has %s", a.First), mends...)
		return
	case host.Assigned == network.Dynamic:
		x.rule("dynamic-target", &r.Rule, fmt.Sprintf("%s got %s dynamically; reserve it", host.Name, a.First),
			change("host", host.Name, "", Setting{"assigned", string(network.Reserved)}))
	}
	for _, m := range r.Ports {
		for _, port := range []uint16{m.ToFirst, m.ToFirst + (m.Ports.Last - m.Ports.First)} {
			if m.Protocol.HasPorts() && !served(host, m.Protocol, port, a.First) {
				x.rule("not-served", &r.Rule, fmt.Sprintf("%s does not listen on %s", host.Name, header.ServiceAt(m.Protocol, port).String()), portMendsOf(g, r, host, m.Protocol)...)
				return
			}
		}
	}
}

func served(h *network.Host, protocol header.Protocol, port uint16, at netip.Addr) bool {
	for _, s := range h.Serves {
		if (!s.At.IsValid() || s.At == at) && s.Services.Matches(protocol, port) {
			return true
		}
	}
	return slices.ContainsFunc(h.Relays, func(r network.Relay) bool { return r.Listen.Matches(protocol, port) })
}

// lookUplinks finds forwards on uplinks that let nothing in.
func lookUplinks(x *exam) {
	for _, g := range x.net.Gateways {
		for _, r := range g.NAT {
			if !r.Does.RewritesDestination() || r.Disabled {
				continue
			}
			for _, i := range r.On {
				switch blocked := blockedPort(i, r); {
				case i.Upstream.CarrierNAT:
					x.rule("upstream-blocks", &r.Rule, fmt.Sprintf("%s is behind a carrier's NAT", i.Name))
				case blocked != "":
					x.rule("upstream-blocks", &r.Rule, fmt.Sprintf("the upstream of %s blocks %s", i.Name, blocked))
				case r.Does == network.PortForward && r.AtOwn && privateUplink(i):
					x.rule("upstream-blocks", &r.Rule, fmt.Sprintf("%s has a private or shared address, to which nobody on the internet can send: whoever is in front of it has to forward it here", i.Name))
				}
			}
		}
	}
}

// privateUplink reports whether an interface leads to the internet, but has no address that
// the internet carries.
func privateUplink(i *network.Interface) bool {
	leads := func(p netip.Prefix) bool { return i.FacesInternet(header.FamilyOf(p.Addr())) }
	return slices.ContainsFunc(i.Addresses, leads) &&
		!slices.ContainsFunc(i.Addresses, func(p netip.Prefix) bool { return leads(p) && network.Carried(p.Addr()) })
}

// lookSent finds outside addresses of rules on uplinks for which no packets come.
func lookSent(x *exam) {
	for _, g := range x.net.Gateways {
		sent := g.Sent()
		for _, r := range g.NAT {
			uplink := slices.IndexFunc(r.On, func(i *network.Interface) bool { return i.IsUplink() })
			if lost := r.Claims().Minus(sent); uplink >= 0 && !lost.Empty() {
				x.rule("not-sent-here", &r.Rule, fmt.Sprintf("%s is in no prefix of %s; if the provider sends it here, say so there: upstream: {routes: [...]}", lost, r.On[uplink]))
			}
		}
	}
}

func blockedPort(i *network.Interface, r *network.NATRule) string {
	for _, m := range r.Ports {
		if i.Upstream.Blocks.Matches(m.Protocol, m.Ports.First) {
			return header.ServiceAt(m.Protocol, m.Ports.First).String()
		}
	}
	return ""
}

// lookTLS finds redirects from https to ports for plain pages.
func lookTLS(x *exam) {
	for _, g := range x.net.Gateways {
		for _, r := range g.NAT {
			for _, m := range r.Ports {
				if m.Protocol == header.TCP && m.Ports.Contains(443) && !r.Disabled {
					if to := m.Apply(443); to == 80 || to == 8080 || to == 8008 {
						x.rule("tls-to-plain", &r.Rule, fmt.Sprintf("tcp/443 goes to port %d of %s", to, r.TargetIs), x.change(&r.Rule, Setting{"to", targetText(r.TargetIs, 443)}))
					}
				}
			}
		}
	}
}

// lookOneToOne finds hosts behind a one-to-one rule of which more is let through than they serve.
func lookOneToOne(x *exam) {
	for _, g := range x.net.Gateways {
		for _, r := range g.NAT {
			if r.Does != network.OneToOne || r.Disabled {
				continue
			}
			for _, o := range x.through[&r.Rule] {
				if o.from.Internet && o.Verdict.Outcome == engine.Refused {
					p := x.usual(o)
					x.rule("one-to-one-wide", &r.Rule, fmt.Sprintf("%s gets to %s too, which does not serve it", header.ServiceAt(p.Protocol, p.DestinationPort).String(), o.Verdict.At.Name()), x.narrowed(o)...)
					break
				}
			}
		}
	}
}

// narrowed is a mend that makes the filter rule of a region allow only what the host
// serves to which it leads.
func (x *exam) narrowed(o *origin) []Mend {
	h := o.Verdict.To.Machine.Host
	for _, r := range o.Rules {
		if h != nil && r.Kind == string(network.Allow) && len(h.Serves) > 0 {
			return []Mend{x.change(r, Setting{"service", servesText(h)})}
		}
	}
	return nil
}

func servesText(h *network.Host) string {
	var texts []string
	for _, s := range h.Serves {
		if !s.At.IsValid() || !s.At.IsLoopback() {
			texts = append(texts, strings.ReplaceAll(s.Services.String(), ", ", ","))
		}
	}
	return strings.Join(texts, ",")
}

// lookLeaks finds inside sources that get out with their private address.
func lookLeaks(x *exam) {
	told := map[*network.Segment]bool{}
	for _, o := range x.regions {
		if o.from.Segment == nil || o.from.Segment.IsUplink(header.FamilyOf(o.Example.Source)) || told[o.from.Segment] || o.Verdict.Outcome != engine.Unanswered || !o.Verdict.At.Machine.Internet || o.Verdict.At.Machine.Host != nil || network.Carried(o.Example.Source) {
			continue
		}
		told[o.from.Segment] = true
		i := o.from.Segment.Interfaces[0]
		p := x.usual(o)
		x.report("leaking-source", i.Place, "interface "+i.String(), fmt.Sprintf("%s gets out untranslated, to %s for one; add a source-nat", p.Source, p.Destination), nil, x.hiding(o)...)
	}
}

// usual returns a connection of a region that a person would take for an example.
func (x *exam) usual(o *origin) header.Packet {
	p, _ := x.explorer.Space.Usual(o.Set)
	return p
}

// hiding is a mend that translates the sources of a region where they get out.
func (x *exam) hiding(o *origin) []Mend {
	t := x.engine.NewWalk().Trace(engine.Connection{Packet: o.Example, From: o.from, Moment: network.Always})
	if out := t.Stood.Out; out != nil {
		return []Mend{{hideEdit(x.net, t.Stood.In, out, t.Stood.After.Source)}}
	}
	return nil
}

func lookRoutes(x *exam) {
	for _, g := range x.net.Gateways {
		if !slices.ContainsFunc(g.Routes, func(r network.Route) bool { return r.To.Bits() == 0 }) {
			x.report("no-default-route", g.Place, "gateway "+g.Name, "it has no route to default", nil, routeMends(x.net, g, anywhere)...)
		}
	}
}

// anywhere is an address out on the internet.
var anywhere = netip.MustParseAddr("192.0.2.1")

func lookGroups(x *exam) {
	for _, g := range x.net.Groups {
		switch {
		case g.Members.Empty():
			x.report("empty-group", g.Place, "group "+g.Name, "it has no members", nil)
		case header.IPv4.All().Minus(g.Members).Empty() || header.IPv6.All().Minus(g.Members).Empty():
			x.report("group-of-everything", g.Place, "group "+g.Name, "it holds every address of a family", nil)
		}
	}
}

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

func lookAnyService(x *exam) {
	for _, g := range x.net.Gateways {
		for _, r := range g.Filter {
			any := len(r.Services) == 0 || slices.Contains(r.Services, header.AnyService)
			if r.Verb == network.Allow && !r.Disabled && any && x.fromOutside(g, r.From) {
				x.rule("any-service", &r.Rule, "it lets everybody outside use every service of "+orAny(r.To.Text), x.served(r)...)
			}
		}
	}
}

// served is a mend that makes a filter rule allow only what the one host serves that it is for.
func (x *exam) served(r *network.FilterRule) []Mend {
	for _, h := range x.net.Hosts {
		if h.Name == r.To.Text && len(h.Serves) > 0 {
			return []Mend{x.change(&r.Rule, Setting{"service", servesText(h)})}
		}
	}
	return nil
}

func orAny(text string) string {
	if text == "" {
		return "anybody"
	}
	return text
}

// administration and clearText are services by their ports.
var (
	administration = []uint16{22, 23, 3389, 5900, 5901, 5985, 5986}
	clearText      = []uint16{21, 23, 80, 110, 143, 513, 514, 8080}
	management     = []uint16{22, 23, 80, 443, 8080, 8443}
)

// lookExposure looks at what everybody on the internet can reach.
func lookExposure(x *exam) {
	for i := range x.open {
		a := &x.open[i]
		if !x.names.Open(a.From) {
			continue
		}
		var rule *network.Rule
		place := x.net.Gateways[0].Place
		if len(a.Rules) > 0 {
			rule = a.Rules[len(a.Rules)-1]
			place = rule.Place
		} else if g := x.net.Gateway(a.Host); g != nil {
			place = g.Place
		}
		tell := func(name string, ports []uint16) {
			for _, p := range ports {
				if a.Services.Matches(header.TCP, p) {
					x.report(name, place, a.Host, fmt.Sprintf("%s of %s is open to %s", header.ServiceAt(header.TCP, p).String(), a.Host, x.names.Who(a.From)), rule)
				}
			}
		}
		if a.Gateway {
			tell("gateway-open", management)
			continue
		}
		tell("administration-open", administration)
		tell("clear-text-open", clearText)
	}
}

// lookDropLists finds lists of who is stopped in front of a rule that lets everyone else through.
func lookDropLists(x *exam) {
	for _, g := range x.net.Gateways {
		for i, drop := range g.Filter {
			from := drop.From.Addresses()
			listed := !drop.From.IsAny() && len(drop.From.Zones()) == 0 && from.Intersect(x.net.Internet()).Empty() && from.Size() < 1024
			if drop.Verb == network.Allow || drop.Disabled || !listed {
				continue
			}
			for _, allow := range g.Filter[i+1:] {
				if allow.Verb == network.Allow && !allow.Disabled && from.Minus(allow.From.Addresses()).Empty() && sameServices(drop, allow) {
					x.rule("drop-list", &drop.Rule, fmt.Sprintf("%s lets through everyone of %s whom it does not list", allow.Name, orAny(allow.From.Text)))
					break
				}
			}
		}
	}
}

func sameServices(a, b *network.FilterRule) bool {
	if len(a.Services) == 0 || len(b.Services) == 0 {
		return true
	}
	return slices.ContainsFunc(a.Services, func(s header.Service) bool { return b.Services.Matches(s.Protocol, s.Ports.First) })
}

// lookDNS finds zones with a notice page whose people may ask any name server.
func lookDNS(x *exam) {
	for _, g := range x.net.Gateways {
		for _, notice := range g.NAT {
			if notice.Does != network.DestinationNAT || notice.Disabled || notice.From.IsAny() {
				continue
			}
			for _, r := range g.Filter {
				if r.Verb != network.Allow || r.Disabled || len(r.Services) == 0 || !r.Services.Matches(header.UDP, 53) {
					continue
				}
				for _, i := range notice.On {
					if notice.From.In(i.Zone).Minus(r.From.In(i.Zone)).Empty() && x.opensOutside(g, r) {
						x.rule("dns-anywhere", &r.Rule, fmt.Sprintf("whom %s sends to a page can ask any name server by it", notice.Name))
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

func lookLogging(x *exam) {
	for _, g := range x.net.Gateways {
		look := func(r *network.Rule, busy bool) {
			switch {
			case !r.Log || r.Disabled:
			case !g.Logging.Enabled:
				x.rule("log-without-logging", r, "the logging of "+g.Name+" is off; set logging: {enabled: true}", x.change(r, Setting{"log", ""}))
			case busy:
				x.rule("busy-log", r, "it matches every service from everybody", x.change(r, Setting{"log", ""}))
			}
		}
		for _, r := range g.NAT {
			look(&r.Rule, r.Does == network.SourceNAT && r.From.IsAny() && r.To.IsAny())
		}
		for _, r := range g.Filter {
			look(&r.Rule, r.From.IsAny() && len(r.Services) == 0)
		}
	}
}

func lookLimits(x *exam) {
	for _, g := range x.net.Gateways {
		count := 0
		for _, r := range g.NAT {
			if r.Does == network.PortForward && !r.Disabled {
				count++
			}
		}
		if g.Limits.PortForwards > 0 && count > g.Limits.PortForwards {
			x.report("too-many-forwards", g.Place, "gateway "+g.Name, fmt.Sprintf("%d forwards, room for %d", count, g.Limits.PortForwards), nil)
		}
	}
}

func lookDisabled(x *exam) {
	for _, g := range x.net.Gateways {
		for _, r := range g.NAT {
			if r.Disabled {
				x.rule("disabled-rule", &r.Rule, disabledText(&r.Rule), x.remove(&r.Rule))
			}
		}
		for _, r := range g.Filter {
			if r.Disabled {
				x.rule("disabled-rule", &r.Rule, disabledText(&r.Rule), x.remove(&r.Rule))
			}
		}
	}
}

func disabledText(r *network.Rule) string {
	if r.Note != "" {
		return "it is disabled: " + r.Note
	}
	return "it is disabled; remove it if it is not needed"
}

func lookMappings(x *exam) {
	for _, g := range x.net.Gateways {
		if g.Mappings == nil {
			continue
		}
		for _, r := range g.Mappings.Rules {
			if r.Verb == network.Allow && r.From.IsAny() && r.Ports == header.AllPorts {
				x.report("mappings-open", r.Place, "mappings of "+g.Name, "every machine may open every port", nil)
			}
		}
	}
}

func lookTwins(x *exam) {
	first := map[netip.Addr]*network.Host{}
	for _, h := range x.net.Hosts {
		for _, a := range h.Addresses {
			if other := first[a]; other != nil && other != h {
				x.report("twin-address", h.Place, "host "+h.Name, fmt.Sprintf("%s has %s too", other.Name, a), nil)
			} else {
				first[a] = h
			}
		}
	}
}
