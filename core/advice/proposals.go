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
	"hollowbridge/core/words"
)

// mostProposals is how many edits of one sort are suggested.
const mostProposals = 4

// Wanted is what a traced connection stands for. The zero Wanted is that connection alone.
type Wanted struct {
	Who      string          // whose connections, as files say it; its sender's alone where empty
	Service  string          // of which services, as files say it; its own alone where empty
	Services header.Services // these; a connection stands for the one that begins with its port
	Alike    []*words.Trace  // those of other services that were asked about too and end at the same place
}

// who returns whom an edit is for, where the sender of the connection is somebody.
func (w Wanted) who(sender netip.Addr) string { return cmp.Or(w.Who, sender.String()) }

// services returns what the connections asked for, as what stopped them saw it or, of a host, as they came there.
func (w Wanted) services(t *words.Trace, seen func(*words.Trace) header.Packet) string {
	var found header.Services
	for _, t := range append([]*words.Trace{t}, w.Alike...) {
		s, sent := seen(t).Service(), t.Connection.Packet.Service()
		for _, asked := range w.Services {
			if asked.Protocol == s.Protocol && sent.Protocol == s.Protocol && asked.Ports.First == sent.Ports.First { // ranges are translated one to one
				s.Ports.Last = s.Ports.First + uint16(min(asked.Ports.Count()-1, int(header.AllPorts.Last-s.Ports.First)))
			}
		}
		if !slices.Contains(found, s) {
			found = append(found, s)
		}
	}
	if w.Service != "" && slices.Equal(found, w.Services) {
		return w.Service
	}
	return strings.ReplaceAll(found.String(), ", ", ",")
}

func seenOf(t *words.Trace) header.Packet  { return t.Stood.Seen }
func endedOf(t *words.Trace) header.Packet { return t.Ended }

// Proposals lists edits that may make a stopped connection reach its service, judged by
// where its trace ended; edits for all that it stands for. They still have to be tried.
func Proposals(t *words.Trace, n *network.Network, wanted Wanted) []network.Edits {
	var list, wider []network.Edits
	for _, near := range t.Near {
		switch near.Differs {
		case "from", "port", "to": // it may be meant as it is, for others
			wider = append(wider, nearProposals(t, near, wanted)...)
		default:
			list = append(list, nearProposals(t, near, wanted)...)
		}
	}
	switch t.Outcome {
	case engine.Dropped, engine.Rejected:
		switch t.Step {
		case engine.StepFilter:
			list = append(list, strayProposals(t, n)...)
			allow := Allow(t, n).With("service", wanted.services(t, seenOf))
			if f := t.Stood.Forward; wanted.Who != "" && (f == nil || f.From.IsAny()) { // not the one that stands for them
				allow = allow.With("from", wanted.Who)
			}
			list = append(list, network.Edits{allow})
		case engine.StepTurnBack:
			list = append(list, wayProposals(t, n)...)
			list = append(list, change("gateway", t.At.Gateway.Name, "", network.Setting{Key: network.KeyHandlingTurnBack, Value: "allow"}))
		}
	case engine.Itself:
		list = append(list, hairpinProposals(t)...)
	case engine.Refused:
		list = append(list, portProposals(t)...)
		list = append(list, relayProposals(t)...)
	case engine.HostFirewall:
		list = append(list, admitProposals(t, wanted)...)
	case engine.Absent:
		list = append(list, targetProposals(t, n)...)
	case engine.UpstreamBlocks:
		list = append(list, sentProposals(t, n)...)
	case engine.Unrouted:
		list = append(list, downProposals(t, n)...)
		list = append(list, wayProposals(t, n)...)
	case engine.Loop:
		list = append(list, wayProposals(t, n)...)
	case engine.Unanswered:
		list = append(list, answerProposals(t, n, wanted)...)
	}
	return append(list, wider...)
}

// sentProposals say that a provider sends the prefix of a host here, where the file does not.
func sentProposals(t *words.Trace, n *network.Network) (list []network.Edits) {
	to := t.Connection.Packet.Destination
	h := hostAt(n, to)
	if !t.Unsent || h == nil {
		return nil
	}
	prefix := netip.PrefixFrom(to, to.BitLen())
	if s := h.Segment(to); s != nil {
		for _, p := range s.Prefixes {
			if p.Contains(to) && (prefix.IsSingleIP() || p.Bits() > prefix.Bits()) {
				prefix = p.Masked()
			}
		}
	}
	for _, g := range n.Gateways {
		for _, r := range g.Upstreams() {
			if header.FamilyOf(r.To.Addr()) != header.FamilyOf(to) || r.Out == nil {
				continue
			}
			var routes []string
			for _, p := range append(slices.Clone(r.Out.Upstream.Routes), prefix) {
				routes = append(routes, p.String())
			}
			edits := change("interface", r.Out.String(), "", network.Setting{Key: network.KeyUpstreamRoutes, Value: strings.Join(routes, ",")})
			if !slices.ContainsFunc(list, edits.Equal) {
				list = append(list, edits)
			}
		}
	}
	return list[:min(len(list), mostProposals)]
}

// change are edits that give keys of something new values.
func change(kind, name, gateway string, settings ...network.Setting) network.Edits {
	return network.Edits{{Verb: network.Change, Kind: kind, Name: name, Gateway: gateway, Settings: settings}}
}

// nearProposals correct the one field in which a rule differs.
func nearProposals(t *words.Trace, near words.Near, wanted Wanted) []network.Edits {
	g, r := t.Stood.Gateway, near.Rule
	to := func(settings ...network.Setting) []network.Edits {
		return []network.Edits{change(r.Kind, r.Name, g.Name, settings...)}
	}
	for _, nat := range g.NAT {
		if &nat.Rule == r && near.Differs == words.MismatchInterface {
			return to(network.Setting{Key: network.KeyOn, Value: strings.Join(append(network.InterfaceNames(nat.On), t.Stood.In.Name), ",")})
		}
	}
	seen := t.Stood.Seen
	switch near.Differs {
	case words.MismatchDisabled:
		return []network.Edits{{{Verb: network.Enable, Kind: r.Kind, Name: r.Name, Gateway: g.Name}}}
	case words.MismatchTime:
		return to(network.Setting{Key: network.KeyWhen, Value: ""})
	case words.MismatchRedirected:
		return to(network.Setting{Key: network.KeyRedirected, Value: ""})
	case words.MismatchOrder:
		return []network.Edits{{{Verb: network.Move, Kind: r.Kind, Name: r.Name, Gateway: g.Name, Before: t.Rule.Name}}}
	case words.MismatchSide:
		right := Permission{To: seen.Destination.String(), Service: seen.Service().String()}
		if t.Stood.Forward != nil && t.Stood.Forward.Does.Permits() {
			right = PermissionFor(g, t.Stood.Forward)
		}
		return []network.Edits{corrected(r, g, right)}
	}
	var from *network.Expression
	for _, nat := range g.NAT {
		if &nat.Rule == r {
			from = &nat.From
		}
	}
	for _, filter := range g.Filter {
		if &filter.Rule == r {
			if !filter.To.IsAny() && len(filter.Services) > 0 { // else much more is opened than is wanted
				from = &filter.From
			}
			switch near.Differs {
			case words.MismatchPort:
				return to(network.Setting{Key: network.KeyService, Value: wanted.services(t, seenOf)})
			case words.MismatchTo:
				return to(network.Setting{Key: network.KeyTo, Value: seen.Destination.String()})
			}
		}
	}
	if near.Differs == words.MismatchFrom && from != nil && !strings.Contains(from.Text, "except") {
		return to(network.Setting{Key: network.KeyFrom, Value: strings.ReplaceAll(from.Text, ", ", ",") + "," + wanted.who(seen.Source)})
	}
	return nil
}

// corrected are edits that make a filter rule name the right side of the translation.
func corrected(r *network.Rule, g *network.Gateway, p Permission) network.Edits {
	m := change(r.Kind, r.Name, g.Name, network.Setting{Key: network.KeyTo, Value: p.To}, network.Setting{Key: network.KeyService, Value: p.Service})
	m[0].Corrects = true
	return m
}

// Allow is the filter rule that is missing where a trace ended, for this source,
// service and host alone, or for all whom the forward is meant for.
func Allow(t *words.Trace, n *network.Network) network.Edit {
	g, seen := t.Stood.Gateway, t.Stood.Seen
	from, name := seen.Source.String(), "let-in"
	if f := t.Stood.Forward; f != nil {
		name = f.Name
		if !f.From.IsAny() {
			from = strings.ReplaceAll(f.From.Text, ", ", ",")
		}
	}
	to := seen.Destination.String()
	if h := hostAt(n, seen.Destination); h != nil {
		to = h.Name
	}
	e := allowEdit(filterNames(g), g, name, Permission{From: from, To: to, Service: seen.Service().String(), Redirected: t.Stood.Forward != nil && !g.Handling.FilterSeesOriginal})
	if t.Rule != nil {
		e.Before = t.Rule.Name
	}
	return e
}

func filterNames(g *network.Gateway) map[string]bool {
	names := make(map[string]bool, len(g.Filter))
	for _, r := range g.Filter {
		names[r.Name] = true
	}
	return names
}

// allowEdit adds a filter rule, under a name that is free.
func allowEdit(taken map[string]bool, g *network.Gateway, name string, p Permission) network.Edit {
	for taken[name] {
		name += "-too"
	}
	settings := []network.Setting{{Key: network.KeyFrom, Value: p.From}, {Key: network.KeyTo, Value: p.To}}
	if p.Service != "" {
		settings = append(settings, network.Setting{Key: network.KeyService, Value: p.Service})
	}
	if p.Redirected {
		settings = append(settings, network.Setting{Key: network.KeyRedirected, Value: "true"})
	}
	return network.Edit{Verb: network.Add, Kind: string(network.Allow), Name: name, Gateway: g.Name, Settings: settings}
}

// hairpinProposals let an inside client use a forward that listens for outsiders.
func hairpinProposals(t *words.Trace) []network.Edits {
	g, p := t.Stood.Gateway, t.Stood.Before
	if g == nil || t.Stood.In.FacesInternet(header.FamilyOf(p.Destination)) {
		return nil
	}
	var list []network.Edits
	for _, r := range g.NAT {
		listening := len(r.Ports) == 0 || slices.ContainsFunc(r.Ports, func(m network.PortMap) bool { return m.Matches(p.Protocol, p.DestinationPort) })
		if (r.Does == network.PortForward || r.Does == network.OneToOne) && !r.Hairpin && listening {
			list = append(list, change(r.Kind, r.Name, g.Name, network.Setting{Key: network.KeyHairpin, Value: "true"}))
		}
	}
	return list[:min(len(list), mostProposals)]
}

// strayProposals mend a forward that leads to nobody, or to a port that the host does not
// listen on, where a filter stops it before that is seen.
func strayProposals(t *words.Trace, n *network.Network) []network.Edits {
	f, p := t.Stood.Forward, t.Stood.After
	if f == nil {
		return nil
	}
	h := hostAt(n, p.Destination)
	switch {
	case h == nil:
		return targetProposals(t, n)
	case !served(h, p.Protocol, p.DestinationPort, p.Destination):
		return portMendsOf(t.Stood.Gateway, f, h, p.Protocol)
	}
	return nil
}

// hostAt returns the host with an address, nil where there is none.
func hostAt(n *network.Network, a netip.Addr) *network.Host {
	for _, h := range n.Hosts {
		if h.Has(a) {
			return h
		}
	}
	return nil
}

// portProposals lead a forward to a port that the host does listen on.
func portProposals(t *words.Trace) []network.Edits {
	f, h := t.Stood.Forward, t.To.Machine.Host
	if f == nil || h == nil {
		return nil
	}
	return portMendsOf(t.Stood.Gateway, f, h, t.Connection.Packet.Protocol)
}

func portMendsOf(g *network.Gateway, f *network.NATRule, h *network.Host, protocol header.Protocol) []network.Edits {
	if len(f.Ports) != 1 || f.Ports[0].Ports.Count() != 1 {
		return nil
	}
	var list, others []network.Edits
	for _, s := range h.Serves {
		for _, service := range s.Services {
			if service.Protocol != protocol || service.Ports.Count() != 1 {
				continue
			}
			m := change(f.Kind, f.Name, g.Name, network.Setting{Key: network.KeyTo, Value: targetText(f.TargetIs, service.Ports.First)})
			if published(g, f, service) {
				others = append(others, m)
			} else {
				list = append(list, m)
			}
		}
	}
	if len(list) == 0 {
		list = others
	}
	return list[:min(len(list), mostProposals)]
}

func targetText(host string, port uint16) string {
	if a, err := netip.ParseAddr(host); err == nil {
		return netip.AddrPortFrom(a, port).String()
	}
	return fmt.Sprintf("%s:%d", host, port)
}

// published reports whether another forward leads to the host's service already.
func published(g *network.Gateway, f *network.NATRule, service header.Service) bool {
	return slices.ContainsFunc(g.NAT, func(r *network.NATRule) bool {
		return r != f && !r.Off() && r.Target == f.Target && slices.ContainsFunc(r.Ports, func(m network.PortMap) bool {
			return m.Protocol == service.Protocol && m.ToFirst <= service.Ports.First && service.Ports.First <= m.ToFirst+(m.Ports.Last-m.Ports.First)
		})
	})
}

// targetProposals lead a forward to a host that listens on the port it wants.
func targetProposals(t *words.Trace, n *network.Network) []network.Edits {
	f := t.Stood.Forward
	if f == nil || !f.Does.Permits() {
		return nil
	}
	return targetMendsOf(t.Stood.Gateway, f, n, t.Stood.After)
}

func targetMendsOf(g *network.Gateway, f *network.NATRule, n *network.Network, p header.Packet) []network.Edits {
	var list []network.Edits
	for _, h := range n.Hosts {
		a, has := h.AddressOf(header.FamilyOf(p.Destination))
		if !has || h.Segment(a) == nil || !served(h, p.Protocol, p.DestinationPort, a) {
			continue
		}
		list = append(list, change(f.Kind, f.Name, g.Name, network.Setting{Key: network.KeyTo, Value: targetText(h.Name, p.DestinationPort)}))
		if len(list) == mostProposals {
			break
		}
	}
	return list
}

// answerProposals mend the way back.
func answerProposals(t *words.Trace, n *network.Network, wanted Wanted) []network.Edits {
	var list []network.Edits
	g := t.Stood.Gateway
	if g == nil {
		return nil
	}
	if h := t.To.Machine.Host; h != nil && h.Gateway != g {
		list = append(list, change("host", h.Name, "", network.Setting{Key: network.KeyGateway, Value: g.Name}))
	}
	if f := t.Stood.Forward; f != nil && !f.Hairpin && f.Does == network.PortForward {
		list = append(list, change(f.Kind, f.Name, g.Name, network.Setting{Key: network.KeyHairpin, Value: "true"}))
	}
	if t.At.Gateway != nil {
		list = append(list, routeProposals(n, t.At.Gateway, t.Delivered.Source)...)
	}
	if out := t.Stood.Out; out != nil && out.FacesInternet(header.FamilyOf(t.Stood.After.Source)) {
		from := nameOf(n, t.Stood.After.Source)
		if wanted.Who != "" && wanted.Who != "internet" && t.Stood.After.Source == t.Connection.Packet.Source {
			from = wanted.Who
		}
		list = append(list, network.Edits{hideEdit(t.Stood.In, out, from)})
	}
	return list
}

// nameOf returns the name of the host with an address, or the address.
func nameOf(n *network.Network, a netip.Addr) string {
	if h := hostAt(n, a); h != nil {
		return h.Name
	}
	return a.String()
}

// segmentOf returns the prefix of the segment that an address is on, or the address.
func segmentOf(n *network.Network, a netip.Addr) string {
	from := a.String()
	if s := n.SegmentOf(a, ""); s != nil {
		for _, p := range s.Prefixes {
			if p.Contains(a) {
				from = p.String()
			}
		}
	}
	return from
}

// admitProposals let a source in at a host's own firewall.
func admitProposals(t *words.Trace, wanted Wanted) []network.Edits {
	h := t.At.Machine.Host
	if h == nil {
		return nil
	}
	from := t.Ended.Source.String()
	if t.Ended.Source == t.Connection.Packet.Source {
		from = wanted.who(t.Ended.Source)
	}
	return []network.Edits{{{Verb: network.Add, Kind: "host-rule", Name: h.Name, Before: "1",
		Settings: []network.Setting{{Key: "allow", Value: wanted.services(t, endedOf)}, {Key: network.KeyFrom, Value: from}}}}}
}

// relayProposals lead a host's relay to a port that the host listens on.
func relayProposals(t *words.Trace) []network.Edits {
	h, p := t.At.Machine.Host, t.Delivered
	if h == nil {
		return nil
	}
	var list []network.Edits
	for i, r := range h.Relays {
		if !r.To.IsLoopback() && !h.Has(r.To) || r.ToPort == 0 || r.ToPort != p.DestinationPort {
			continue
		}
		for _, s := range h.Serves {
			for _, service := range s.Services {
				if service.Protocol == p.Protocol && service.Ports.Count() == 1 && (!s.At.IsValid() || s.At == r.To) {
					list = append(list, change("relay", fmt.Sprintf("%s/%d", h.Name, i+1), "", network.Setting{Key: network.KeyTo, Value: targetText(r.To.String(), service.Ports.First)}))
				}
			}
		}
	}
	return list[:min(len(list), mostProposals)]
}

// downProposals bring the interfaces up that are down on the way: where the destination is, where a
// route to it leads, or where it came in.
func downProposals(t *words.Trace, n *network.Network) []network.Edits {
	var list []network.Edits
	to := t.Ended.Destination
	for _, g := range n.Gateways {
		for _, i := range g.Interfaces {
			leads := slices.ContainsFunc(i.Addresses, func(p netip.Prefix) bool { return p.Contains(to) || p.Contains(t.Ended.Source) }) ||
				slices.ContainsFunc(g.Routes, func(r network.Route) bool { return r.Out == i && r.To.Contains(to) })
			if i.Down && leads {
				list = append(list, change("interface", i.String(), "", network.Setting{Key: network.KeyState}))
			}
		}
	}
	return list[:min(len(list), mostProposals)]
}

// hideEdit adds the rule that translates sources on their way out: no more of them than the
// question is about.
func hideEdit(in, out *network.Interface, from string) network.Edit {
	g := out.Gateway
	name := "hide-" + in.Name
	for slices.ContainsFunc(g.NAT, func(r *network.NATRule) bool { return r.Name == name }) {
		name += "-too"
	}
	return network.Edit{Verb: network.Add, Kind: "source-nat", Name: name, Gateway: g.Name,
		Settings: []network.Setting{{Key: network.KeyOn, Value: out.Name}, {Key: network.KeyFrom, Value: from}, {Key: network.KeyAs, Value: "interface"}}}
}

// wayProposals are routeProposals for the gateways that a connection has passed, the last first:
// where it is stopped, sent to the internet, turned back or sent round, one of them lacks
// the route.
func wayProposals(t *words.Trace, n *network.Network) []network.Edits {
	var list []network.Edits
	passed := map[*network.Gateway]bool{}
	for _, g := range slices.Backward(t.Passed) {
		if !passed[g] {
			passed[g] = true
			list = append(list, routeProposals(n, g, t.Stood.After.Destination)...)
		}
	}
	return list
}

// routeProposals add the route that a gateway lacks: to the segment the destination is on,
// or, for the internet, to default, by the next of the gateways on the way there.
func routeProposals(n *network.Network, g *network.Gateway, destination netip.Addr) []network.Edits {
	if !destination.IsValid() {
		return nil
	}
	there := func(k *network.Gateway) bool {
		return slices.ContainsFunc(k.Routes, func(r network.Route) bool { return r.To.Bits() == 0 && r.To.Addr().Is6() == destination.Is6() })
	}
	to := "default"
	if s := n.SegmentOf(destination, ""); s != nil {
		there = func(k *network.Gateway) bool {
			return slices.ContainsFunc(s.Interfaces, func(i *network.Interface) bool { return i.Gateway == k })
		}
		for _, p := range s.Prefixes {
			if p.Contains(destination) {
				to = p.String()
			}
		}
	}
	var list []network.Edits
	for _, via := range nextHops(g, header.FamilyOf(destination), there) {
		if leadsBy(g, destination, via) {
			continue
		}
		list = append(list, network.Edits{{Verb: network.Add, Kind: "route", Name: to, Gateway: g.Name, Settings: []network.Setting{{Key: network.KeyVia, Value: via.String()}}}})
	}
	return list
}

// leadsBy reports whether the longest of a gateway's static routes to an address leads
// by a next hop already.
func leadsBy(g *network.Gateway, to, via netip.Addr) bool {
	bits, leads := -1, false
	for _, r := range g.Routes {
		if r.To.Contains(to) && r.To.Bits() >= bits {
			leads = r.Via == via || leads && r.To.Bits() == bits
			bits = r.To.Bits()
		}
	}
	return leads
}

// nextHops returns the addresses of a gateway's neighbours from which there is a way,
// over further neighbours, to one that is there, the shortest first.
func nextHops(g *network.Gateway, family header.Family, there func(*network.Gateway) bool) []netip.Addr {
	type step struct {
		gateway *network.Gateway
		first   netip.Addr // the neighbour of g it goes by
	}
	var hops []netip.Addr
	seen := map[*network.Gateway]bool{g: true}
	waiting := []step{{gateway: g}}
	for len(waiting) > 0 {
		s := waiting[0]
		waiting = waiting[1:]
		if s.gateway != g && there(s.gateway) {
			hops = append(hops, s.first)
			continue
		}
		for _, i := range s.gateway.Interfaces {
			if i.Segment == nil || !i.IsUp() {
				continue
			}
			for _, j := range i.Segment.Interfaces {
				a, has := j.Address(family)
				if !has || !j.IsUp() || seen[j.Gateway] {
					continue
				}
				seen[j.Gateway] = true
				next := step{j.Gateway, s.first}
				if s.gateway == g {
					next.first = a
				}
				waiting = append(waiting, next)
			}
		}
	}
	return slices.Compact(hops)
}
