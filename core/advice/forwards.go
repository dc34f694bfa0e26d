package advice

import (
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"strings"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
)

// samePorts finds forwards that both listen on a port which only the first gets.
func (x *exam) samePorts() {
	for _, g := range x.net.Gateways {
		earlier := listeners{by: newIndex()}
		for _, b := range g.NAT {
			if !forwards(b) || b.Off() {
				continue
			}
			left := b.Ports // that no earlier one has for everybody
			for a := range earlier.near(b) {
				if len(left) == 0 {
					break
				}
				both := commonPorts(a, b, left)
				if len(both) == 0 {
					continue
				}
				if a.Target != b.Target || a.TargetAs != b.TargetAs {
					x.rule(network.SamePort, &b.Rule, fmt.Sprintf("%s (line %d) has %s already", a.Name, a.Place.Line, both[0].String()), x.untangled(a, b, earlier.near(b))...)
				}
				if isForAll(a, b) {
					for _, s := range both {
						left = withoutPorts(left, s)
					}
				}
			}
			earlier.add(b)
		}
	}
}

// Listeners are forwards by what they listen on.
type listeners struct {
	all []*network.NATRule
	by  *index
}

// fewPorts returns each port that a forward listens on, or nil where they are many.
func fewPorts(r *network.NATRule) []header.Service {
	list := []header.Service{}
	for _, m := range r.Ports {
		if int(m.Ports.Last)-int(m.Ports.First)+len(list) >= mostFew {
			return nil
		}
		for port := int(m.Ports.First); port <= int(m.Ports.Last); port++ {
			list = append(list, header.ServiceAt(m.Protocol, uint16(port)))
		}
	}
	return list
}

// near returns, in their order, the forwards that may have a port in common with one.
func (l *listeners) near(r *network.NATRule) iter.Seq[*network.NATRule] {
	numbers := l.by.near(fewPorts(r), listens(r))
	return func(yield func(*network.NATRule) bool) {
		for _, n := range numbers {
			if !yield(l.all[n]) {
				return
			}
		}
	}
}

// add adds a forward behind the others.
func (l *listeners) add(r *network.NATRule) {
	l.by.add(fewPorts(r), listens(r))
	l.all = append(l.all, r)
}

func forwards(r *network.NATRule) bool { return r.Does == network.PortForward }

// untangled are edits after which a forward no longer listens on ports of earlier ones: the second one
// goes without these, goes before the first one where that is for more people, or goes.
func (x *exam) untangled(a, b *network.NATRule, earlier iter.Seq[*network.NATRule]) []network.Edits {
	var list []network.Edits
	if isSpecialCase(b.From, a.From) {
		list = append(list, x.moveBefore(&b.Rule, &a.Rule))
	}
	rest := b.Ports
	for c := range clashes(b, earlier) {
		for _, s := range c.Services {
			rest = withoutPorts(rest, s)
		}
		if len(rest) == 0 {
			break
		}
	}
	if len(rest) == 0 {
		return append(list, x.remove(&b.Rule))
	}
	settings := []network.Setting{{Key: network.KeyService, Value: portMapsText(rest)}}
	if moved := slices.ContainsFunc(rest, func(m network.PortMap) bool { return m.Protocol.HasPorts() && m.ToFirst != m.Ports.First }); moved {
		settings = append(settings, network.Setting{Key: network.KeyTo, Value: targetsText(b.TargetIs, rest)})
	}
	return append(list, x.change(&b.Rule, settings...))
}

// targetsText writes where forwarded ports lead to.
func targetsText(host string, maps []network.PortMap) string {
	var ports []string
	for _, m := range maps {
		if m.Protocol.HasPorts() {
			ports = append(ports, header.Ports{First: m.ToFirst, Last: m.ToFirst + (m.Ports.Last - m.Ports.First)}.String())
		}
	}
	if a, err := netip.ParseAddr(host); err == nil && a.Is6() {
		host = "[" + host + "]"
	}
	return host + ":" + strings.Join(ports, ",")
}

// A Clash is ports that an earlier forward has, so that another one does not get them.
type Clash struct {
	By       *network.NATRule
	Services header.Services
}

// Clashes returns which ports of a forward earlier forwards of its gateway have already, for the
// same people, and the ports that are left.
func Clashes(r *network.NATRule) (list []Clash, rest []network.PortMap) {
	earlier := r.Gateway.NAT
	if at := slices.Index(earlier, r); at >= 0 {
		earlier = earlier[:at]
	}
	rest = r.Ports
	for c := range clashes(r, slices.Values(earlier)) {
		list = append(list, c)
		for _, s := range c.Services {
			rest = withoutPorts(rest, s)
		}
	}
	return list, rest
}

// clashes returns which ports of a forward some earlier rules have already.
func clashes(r *network.NATRule, earlier iter.Seq[*network.NATRule]) iter.Seq[Clash] {
	return func(yield func(Clash) bool) {
		for a := range earlier {
			if !forwards(a) || a.Off() {
				continue
			}
			if both := commonPorts(a, r, r.Ports); len(both) > 0 && !yield(Clash{a, both}) {
				return
			}
		}
	}
}

// withoutPorts takes the ports of a service out of a forward's.
func withoutPorts(maps []network.PortMap, s header.Service) (rest []network.PortMap) {
	for _, m := range maps {
		if m.Protocol != s.Protocol || !m.Protocol.HasPorts() || m.Ports.Last < s.Ports.First || s.Ports.Last < m.Ports.First {
			if m.Protocol != s.Protocol || m.Protocol.HasPorts() {
				rest = append(rest, m)
			}
			continue
		}
		if m.Ports.First < s.Ports.First {
			rest = append(rest, network.PortMap{Protocol: m.Protocol, Ports: header.Ports{First: m.Ports.First, Last: s.Ports.First - 1}, ToFirst: m.ToFirst})
		}
		if s.Ports.Last < m.Ports.Last {
			rest = append(rest, network.PortMap{Protocol: m.Protocol, Ports: header.Ports{First: s.Ports.Last + 1, Last: m.Ports.Last}, ToFirst: m.ToFirst + (s.Ports.Last + 1 - m.Ports.First)})
		}
	}
	return rest
}

// isForAll reports whether a forward listens to all for whom another one is.
func isForAll(a, b *network.NATRule) bool {
	all := !slices.ContainsFunc(b.On, func(i *network.Interface) bool { return !slices.Contains(a.On, i) })
	if !all || !listens(b).Minus(listens(a)).Empty() {
		return false
	}
	return a.From.IsAny() || len(a.From.Zones()) == 0 && len(b.From.Zones()) == 0 && b.From.Addresses().Minus(a.From.Addresses()).Empty()
}

// commonPorts returns those of some ports of a forward on which an earlier one listens for the same
// people, whenever the other does. That may be for some of them alone: then the other is for the rest.
func commonPorts(a, b *network.NATRule, of []network.PortMap) (both header.Services) {
	for _, m := range a.Ports {
		for _, n := range of {
			shared := header.Ports{First: max(m.Ports.First, n.Ports.First), Last: min(m.Ports.Last, n.Ports.Last)}
			if m.Protocol == n.Protocol && shared.First <= shared.Last {
				both = append(both, header.Service{Protocol: m.Protocol, Ports: shared})
			}
		}
	}
	if len(both) == 0 { // which is quickly seen, and so of most
		return nil
	}
	shared := slices.ContainsFunc(a.On, func(i *network.Interface) bool { return slices.Contains(b.On, i) })
	if !shared || listens(a).Intersect(listens(b)).Empty() || !a.Hours().Cover(b.Hours()) {
		return nil
	}
	if !a.From.IsAny() && !b.From.IsAny() && a.From.Addresses().Intersect(b.From.Addresses()).Empty() || isSpecialCase(a.From, b.From) {
		return nil
	}
	return both
}

// isSpecialCase reports whether one expression has only some of the addresses of another.
func isSpecialCase(a, b network.Expression) bool {
	if a.IsAny() || len(a.Zones()) > 0 || len(b.Zones()) > 0 {
		return false
	}
	some, all := a.Addresses(), b.Addresses()
	return b.IsAny() || some.Minus(all).Empty() && !all.Minus(some).Empty()
}

func listens(r *network.NATRule) header.Addresses {
	if r.AtOwn {
		return r.OwnAddresses()
	}
	return r.At
}

// stoppedForwards finds forwards whose connections are all stopped behind them.
func (x *exam) stoppedForwards() {
	for _, g := range x.net.Gateways {
		for _, r := range g.NAT {
			if !r.Does.Permits() || r.Off() {
				continue
			}
			through := x.meant(r)
			filtered, refused := 0, 0
			var refusing []string
			var shut []header.Range // who is stopped by the filter
			for _, o := range through {
				if o.Verdict.EndedAt(g) && o.Verdict.Step == engine.StepFilter {
					filtered++
					shut = append(shut, x.explorer.Space.Sources(o.Set).Ranges()...)
				}
				if o.Verdict.Outcome == engine.HostFirewall {
					refused++
					if name := o.Verdict.At.Name(); !slices.Contains(refusing, name) {
						refusing = append(refusing, name)
					}
				}
			}
			switch {
			case len(through) == 0:
			case filtered == len(through):
				p := PermissionFor(g, r)
				who := ""
				if g.Handling.UnmatchedByTrust { // some may get through without one
					who = " from " + x.names.Name(header.AddressesOf(shut...))
					p.From = strings.Join(x.shutZones(g, r), ",")
				}
				add := allowEdit(x.filterNames(g), g, r.Name, p)
				verdict, wrong := x.sample(r, through[0].Moment)
				if verdict.EndedAt(g) && verdict.Rule != nil {
					add.Before = verdict.Rule.Name
				}
				proposals := []network.Edits{{add}}
				if wrong != nil && verdict.EndedAt(g) {
					right := corrected(wrong.Rule, g, p)
					x.rule(network.WrongSide, wrong.Rule, fmt.Sprintf("%s needs it: %s", r.Name, wrong.Text), right)
					proposals = append([]network.Edits{right}, proposals...)
				}
				x.rule(network.ForwardNotPermitted, &r.Rule, fmt.Sprintf("no filter rule lets it through%s; it needs one from %s to %s, %s", who, strings.ReplaceAll(p.From, ",", ", "), p.To, p.Service), proposals...)
			case refused > 0 && filtered+refused == len(through):
				x.rule(network.HostRefuses, &r.Rule, fmt.Sprintf("the firewall of %s itself lets nobody in", strings.Join(refusing, " and of ")))
			}
		}
	}
}

// wrongSides finds filter rules that are meant for what a one-to-one leads to, and name it on the side that their gateway's filter does not see.
func (x *exam) wrongSides() {
	for _, g := range x.net.Gateways {
		var list []*network.NATRule // by the address that the filter does not see
		other := func(r *network.NATRule) netip.Addr {
			if g.Handling.FilterSeesOriginal {
				return r.Inside.First
			}
			return r.Outside.First
		}
		for _, r := range g.NAT {
			if r.Does == network.OneToOne && !r.Off() && len(r.On) > 0 {
				list = append(list, r)
			}
		}
		if len(list) == 0 {
			continue
		}
		slices.SortFunc(list, func(a, b *network.NATRule) int { return other(a).Compare(other(b)) })
		for _, f := range g.Filter {
			if f.Verb != network.Allow || f.Off() || f.To.IsAny() {
				continue
			}
			ranges := f.To.Addresses().Ranges()
			for _, named := range ranges[:min(len(ranges), mostSampled)] {
				at, _ := slices.BinarySearchFunc(list, named.First, func(r *network.NATRule, a netip.Addr) int { return other(r).Compare(a) })
				if at < len(list) && named.Contains(other(list[at])) && x.namesWrongSide(list[at], f) {
					break
				}
			}
		}
	}
}

// namesWrongSide reports, as a finding too, whether a filter rule would let through what a one-to-one leads to if it named the other side.
func (x *exam) namesWrongSide(r *network.NATRule, f *network.FilterRule) bool {
	to, inside, ok := ends(r, f)
	if !ok || inside == to {
		return false
	}
	c := walk.Connection{Packet: header.Packet{Destination: to, Protocol: header.TCP, DestinationPort: 443, SourcePort: header.UsualSourcePort}}
	if len(f.Services) > 0 {
		c.Packet.Protocol, c.Packet.DestinationPort = f.Services[0].Protocol, f.Services[0].Ports.First
	}
	if !c.Packet.Protocol.Numbered() {
		c.Packet.SourcePort = 0
	}
	who := f.From.In(r.On[0].Zone)
	if r.On[0].FacesInternet(header.FamilyOf(to)) {
		who = who.Intersect(x.net.Internet())
	}
	if c.Packet.Source, ok = who.Usual(header.FamilyOf(to)); !ok {
		return false
	}
	c.From = x.engine.Behind(r.On[0], c.Packet.Source)
	_, wrong := words.WrongSide(x.walk, c)
	if wrong == nil || wrong.Rule != &f.Rule {
		return false
	}
	var right []network.Edits
	if r.Outside.First == r.Outside.Last && len(f.To.Items) == 1 {
		seen := to.String()
		if !r.Gateway.Handling.FilterSeesOriginal {
			if seen = inside.String(); hostAt(x.net, inside) != nil {
				seen = hostAt(x.net, inside).Name
			}
		}
		edit := x.change(&f.Rule, network.Setting{Key: network.KeyTo, Value: seen})
		edit[0].Corrects = true
		right = append(right, edit)
	}
	x.rule(network.WrongSide, &f.Rule, fmt.Sprintf("%s needs it: %s", r.Name, wrong.Text), right...)
	return true
}

// ends returns the outside address of a one-to-one, the first where there are several, and the inside one, where a filter rule names only the one
// that its gateway's filter does not see.
func ends(r *network.NATRule, f *network.FilterRule) (to, inside netip.Addr, ok bool) {
	to, inside = r.Outside.First, r.Inside.First
	named, original := f.To.Addresses(), r.Gateway.Handling.FilterSeesOriginal
	return to, inside, to.IsValid() && named.Contains(inside) == original && named.Contains(to) != original
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
			return in && (o.isOutside() && (i.IsUplink()) || o.From.Segment != nil && o.From.Segment == i.Segment || o.From.Clients == i && i != nil)
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

// sample walks a connection that a forward is meant for, at a moment. It returns also the filter rule
// that would let it through if it named the other side of the translation, or nil.
func (x *exam) sample(r *network.NATRule, at network.Moment) (v walk.Verdict, wrong *words.Near) {
	c, ok := Sample(x.engine, r, at)
	if !ok {
		return v, nil
	}
	if v, wrong = words.WrongSide(x.walk, c); wrong != nil {
		return v, wrong
	}
	other, port := c.Packet.Destination, c.Packet.DestinationPort // what a rule of the wrong side names
	if r.Gateway.Handling.FilterSeesOriginal {
		other, _ = r.Target.Of(c.Packet.Destination)
		if len(r.Ports) > 0 {
			port = r.Ports[0].ToFirst
		}
	}
	looked := 0
	for _, f := range x.permitting(r.Gateway, header.ServiceAt(c.Packet.Protocol, port), other) { // one that is for some of them alone
		if f.From.IsAny() || f.To.IsAny() || !f.To.Addresses().Contains(other) {
			continue
		}
		if looked++; looked > mostSampled {
			break
		}
		one := c
		who := f.From.In(r.On[0].Zone).Intersect(r.From.In(r.On[0].Zone))
		if r.On[0].FacesInternet(header.FamilyOf(c.Packet.Source)) {
			who = who.Intersect(x.net.Internet())
		}
		if one.Packet.Source, ok = who.FirstOf(header.FamilyOf(c.Packet.Source)); !ok {
			continue
		}
		one.From = x.engine.Behind(r.On[0], one.Packet.Source)
		if also, wrong := words.WrongSide(x.walk, one); wrong != nil && wrong.Rule == &f.Rule {
			return also, wrong
		}
	}
	return v, nil
}

// permitting returns the filter rules of a gateway that may allow a service by its one port at an address, in
// order.
func (x *exam) permitting(g *network.Gateway, s header.Service, at netip.Addr) (list []*network.FilterRule) {
	by := x.permits[g]
	if by == nil {
		by = newIndex()
		for _, f := range g.Filter {
			ports := []header.Service{} // of a rule that allows nothing
			for _, own := range f.Services {
				if f.Verb == network.Allow && !f.Off() && own.Ports.Count() == 1 {
					ports = append(ports, own)
				}
			}
			by.add(ports, f.To.Addresses())
		}
		x.permits[g] = by
	}
	for _, n := range by.near([]header.Service{s}, header.Single(at)) {
		list = append(list, g.Filter[n])
	}
	return list
}

// mostSampled is how many filter rules are tried for one that names the wrong side.
const mostSampled = 20

// filterNames returns the names of a gateway's filter rules.
func (x *exam) filterNames(g *network.Gateway) map[string]bool {
	names := x.ruleNames[g]
	if names == nil {
		names = filterNames(g)
		x.ruleNames[g] = names
	}
	return names
}

// forwardTargets looks at the hosts that forwards lead to.
func (x *exam) forwardTargets() {
	for _, g := range x.net.Gateways {
		for _, r := range g.NAT {
			if !r.Does.Permits() || r.Off() {
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
	g := r.Gateway
	switch {
	case host == nil:
		var proposals []network.Edits
		if len(r.Ports) == 1 {
			p := header.Packet{Destination: a.First, Protocol: r.Ports[0].Protocol, DestinationPort: r.Ports[0].ToFirst}
			proposals = targetMendsOf(g, r, x.net, p)
		}
		x.rule(network.NoSuchHost, &r.Rule, fmt.Sprintf("no host has %s", a.First), proposals...)
		return
	case host.Assigned == network.Dynamic:
		x.rule(network.DynamicTarget, &r.Rule, fmt.Sprintf("%s got %s dynamically; reserve it", host.Name, a.First),
			change("host", host.Name, "", network.Setting{Key: network.KeyAssigned, Value: string(network.Reserved)}))
	}
	for _, m := range r.Ports {
		for _, port := range []uint16{m.ToFirst, m.ToFirst + (m.Ports.Last - m.Ports.First)} {
			if m.Protocol.HasPorts() && !served(host, m.Protocol, port, a.First) {
				x.rule(network.NotServed, &r.Rule, fmt.Sprintf("%s does not listen on %s", host.Name, header.ServiceAt(m.Protocol, port).String()), portMendsOf(g, r, host, m.Protocol)...)
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

// forwardsOnUplinks finds forwards on uplinks that let nothing in.
func (x *exam) forwardsOnUplinks() {
	for _, g := range x.net.Gateways {
		for _, r := range g.NAT {
			if !r.Does.RewritesDestination() || r.Off() {
				continue
			}
			for _, i := range r.On {
				switch blocked := blockedPort(i, r); {
				case i.Upstream.CarrierNAT:
					x.rule(network.UpstreamBlocks, &r.Rule, fmt.Sprintf("%s is behind a carrier's NAT", i.Name))
				case blocked != "":
					x.rule(network.UpstreamBlocks, &r.Rule, fmt.Sprintf("the upstream of %s blocks %s", i.Name, blocked))
				case r.Does == network.PortForward && r.AtOwn && privateUplink(i):
					x.rule(network.UpstreamBlocks, &r.Rule, fmt.Sprintf("%s has a private or shared address, to which nobody on the internet can send: whoever is in front of it has to forward it here", i.Name))
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
		!slices.ContainsFunc(i.Addresses, func(p netip.Prefix) bool { return leads(p) && (i.Dynamic || network.Carried(p.Addr())) })
}

// outsideAddresses finds outside addresses of rules on uplinks for which no packets come.
func (x *exam) outsideAddresses() {
	for _, g := range x.net.Gateways {
		sent := g.Sent()
		for _, r := range g.NAT {
			uplink := slices.IndexFunc(r.On, func(i *network.Interface) bool { return i.IsUplink() })
			if lost := r.Claims().Minus(sent); uplink >= 0 && !lost.Empty() {
				x.rule(network.NotSentHere, &r.Rule, fmt.Sprintf("%s is in no prefix of %s; if the provider sends it here, say so there: upstream: {routes: [...]}", lost, r.On[uplink]))
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

// plainTargets finds redirects from https to ports for plain pages.
func (x *exam) plainTargets() {
	for _, g := range x.net.Gateways {
		for _, r := range g.NAT {
			for _, m := range r.Ports {
				if m.Protocol == header.TCP && m.Ports.Contains(443) && !r.Off() {
					if to := m.Apply(443); to == 80 || to == 8080 || to == 8008 {
						x.rule(network.TLSToPlain, &r.Rule, fmt.Sprintf("tcp/443 goes to port %d of %s", to, r.TargetIs), x.change(&r.Rule, network.Setting{Key: network.KeyTo, Value: targetText(r.TargetIs, 443)}))
					}
				}
			}
		}
	}
}

// wideOneToOne finds hosts behind a one-to-one rule of which more is let through than they serve.
func (x *exam) wideOneToOne() {
	for _, g := range x.net.Gateways {
		for _, r := range g.NAT {
			if r.Does != network.OneToOne || r.Off() {
				continue
			}
			for _, o := range x.through[&r.Rule] {
				if o.From.Internet && o.Verdict.Outcome == engine.Refused {
					p := x.usual(o)
					x.rule(network.OneToOneWide, &r.Rule, fmt.Sprintf("%s gets to %s too, which does not serve it", header.ServiceAt(p.Protocol, p.DestinationPort).String(), o.Verdict.At.Name()), x.narrowed(o)...)
					break
				}
			}
		}
	}
}

// narrowed are edits that make the filter rule of a region allow only what the host
// serves to which it leads.
func (x *exam) narrowed(o *origin) []network.Edits {
	h := o.Verdict.To.Machine.Host
	for _, r := range o.Rules {
		if h != nil && r.Kind == string(network.Allow) && len(h.Serves) > 0 {
			return []network.Edits{x.change(r, network.Setting{Key: network.KeyService, Value: servesText(h)})}
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

// missingHairpins finds forwards without hairpin at gateways where others have it.
func (x *exam) missingHairpins() {
	for _, g := range x.net.Gateways {
		some := slices.ContainsFunc(g.NAT, func(r *network.NATRule) bool { return r.Hairpin && !r.Off() })
		for _, r := range g.NAT {
			if some && r.Does == network.PortForward && !r.Off() && !r.Hairpin && r.From.IsAny() {
				x.rule(network.NoHairpin, &r.Rule, "people inside can't use it; others of "+g.Name+" have hairpin: true", x.change(&r.Rule, network.Setting{Key: network.KeyHairpin, Value: "true"}))
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

func (x *exam) limits() {
	for _, g := range x.net.Gateways {
		if count := g.Forwards(); g.Limits.PortForwards > 0 && count > g.Limits.PortForwards {
			x.report(network.TooManyForwards, g.Place, "gateway "+g.Name, fmt.Sprintf("%d forwards, room for %d", count, g.Limits.PortForwards), nil)
		}
	}
}

// ports finds source-nat rules of running gateways that have hardly a port left.
func (x *exam) ports() {
	for _, g := range x.net.Gateways {
		for _, p := range g.Taken {
			if p.IsNearlyFull() {
				x.rule(network.PortsNearlyGone, &p.Rule.Rule, p.String())
			}
		}
	}
}

// hairpinsTurnedDown finds hairpins whose clients are on the segment of the host, at gateways that turn
// nothing back.
func (x *exam) hairpinsTurnedDown() {
	for _, g := range x.net.Gateways {
		if g.Handling.TurnBack {
			continue
		}
		for _, r := range g.NAT {
			if !r.Hairpin || r.Off() || !r.Does.RewritesDestination() {
				continue
			}
			for _, o := range x.through[&r.Rule] {
				if v := &o.Verdict; v.EndedAt(g) && v.Outcome == engine.Dropped && v.Step == engine.StepTurnBack && o.From.Segment != nil {
					x.rule(network.NoTurnBack, &r.Rule, fmt.Sprintf("people on %s, where it leads to, can't use it from inside: %s turns nothing back", o.From.Segment.Name, g.Name),
						network.Edits{{Verb: network.Change, Kind: "gateway", Name: g.Name, Settings: []network.Setting{{Key: network.KeyHandlingTurnBack, Value: "allow"}}}})
					break
				}
			}
		}
	}
}

// dynamicOutside finds rules that write an outside address where the provider gives the interface one.
func (x *exam) dynamicOutside() {
	for _, g := range x.net.Gateways {
		for _, r := range g.NAT {
			at := slices.IndexFunc(r.On, func(i *network.Interface) bool { return i.Dynamic })
			if at < 0 || r.Off() {
				continue
			}
			i := r.On[at]
			written := r.Claims().Intersect(header.IPv4.All()).Minus(i.Own()).Minus(header.AddressesOfPrefixes(i.Upstream.Routes...))
			for _, other := range r.On {
				written = written.Minus(header.AddressesOfPrefixes(other.Addresses...))
			}
			if written.Empty() {
				continue
			}
			var edits []network.Edits
			switch r.Does {
			case network.PortForward:
				edits = append(edits, x.change(&r.Rule, network.Setting{Key: network.KeyAt}))
			case network.SourceNAT:
				edits = append(edits, x.change(&r.Rule, network.Setting{Key: network.KeyAs, Value: "interface"}))
			}
			x.rule(network.DynamicOutside, &r.Rule, fmt.Sprintf("it names %s, but the provider gives %s its address", written, i), edits...)
		}
	}
}
