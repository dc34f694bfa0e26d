package engine

import (
	"net/netip"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A flow is what is on its way through the network: one packet or, where it has a region, a
// set of connections of which the packet is one.
//
// Whatever decides about a packet asks the flow. The flow answers for the packet and, of a
// set, keeps the connections for which the answer is the same and sets the others aside. So
// what is asked of a packet and how that narrows a set can't differ: the steps have no other
// way to look at a packet. They may see it (now) to write down what happened.
type flow struct {
	packet header.Packet
	terms  *flowset.Terms // of a set: what the packet is in terms of the connection
	region *narrowing     // nil for one packet
}

// An image is a packet as it was somewhere on its way.
type image struct {
	header.Packet
	terms int // of a set: which of the region's images it is
}

// flowOf returns the flow of one packet.
func flowOf(p header.Packet) flow { return flow{packet: p} }

// imageOf returns an image by the packet that it is of and, of a set, its number.
func imageOf(p header.Packet, number int) *image { return &image{p, number} }

// number returns which of a set's images it is.
func (i *image) number() int { return i.terms }

// now returns the packet as it is, for events and results.
func (f *flow) now() header.Packet { return f.packet }

// image remembers the packet as it is.
func (f *flow) image() image {
	return image{f.packet, f.remember()}
}

// remember returns which image the packet is, as it is, of a set; 0 of one packet.
func (f *flow) remember() int {
	if f.region == nil {
		return 0
	}
	return f.region.remember(f.terms)
}

// isForSender reports whether the destination is the source that an image had, of all connections of a set. It does not ask.
func (f *flow) isForSender(i *image) bool {
	if f.region == nil {
		return f.packet.Destination == i.Source
	}
	return f.terms[flowset.Destination] == f.region.images[i.terms][flowset.Source]
}

// become makes the packet what an image was, or what answers that.
func (f *flow) become(i *image, answer bool) {
	f.packet = i.Packet
	if f.region != nil {
		*f.terms = f.region.images[i.terms]
	}
	if answer {
		f.packet = f.packet.Answer()
		if f.region != nil {
			*f.terms = f.terms.Answer(f.packet.Protocol)
		}
	}
}

// with makes a copy of a flow ask the same questions of the packet with the source that an
// image had, and with its destination too where both is set; it must not be changed.
func (f *flow) with(i *image, both bool) {
	p := &f.packet
	p.Source, p.SourcePort = i.Source, i.SourcePort
	if both {
		p.Destination, p.DestinationPort = i.Destination, i.DestinationPort
	}
	if f.region != nil {
		was := &f.region.images[i.terms]
		f.region.asked = *f.terms
		f.terms = &f.region.asked
		f.terms[flowset.Source], f.terms[flowset.SourcePort] = was[flowset.Source], was[flowset.SourcePort]
		if both {
			f.terms[flowset.Destination], f.terms[flowset.Port] = was[flowset.Destination], was[flowset.Port]
		}
	}
}

// asReport returns a flow that asks about an ICMP error which somebody sends on the way of
// the packet: from the packet's own source where that is not known. It is of one packet.
func (f *flow) asReport(sender netip.Addr) flow {
	asked := flow{packet: f.packet}
	asked.packet.Protocol, asked.packet.SourcePort, asked.packet.DestinationPort = header.ICMP, 0, 0
	if sender.IsValid() {
		asked.packet.Source = sender
	}
	return asked
}

// senderAfter returns who sends an ICMP error, which is of one packet, once a translation of
// the packet that it quotes has given it that one's source: nobody else.
func (f *flow) senderAfter(sender netip.Addr, before *image) netip.Addr {
	if f.packet.Source != before.Source {
		return netip.Addr{}
	}
	return sender
}

// begin puts another packet on its way; of one packet only.
func (f *flow) begin(p header.Packet) { f.packet = p }

// turn says whether it is an answer that is on its way.
func (f *flow) turn(back bool) {
	if f.region != nil {
		f.region.turned = back
	}
}

// tookPart notes that a rule has a part in what happens.
func (f *flow) tookPart(rule *network.Rule) {
	if f.region != nil {
		f.region.rule(rule)
	}
}

// deliver notes how the packet comes to whoever answers it.
func (f *flow) deliver() {
	if f.region != nil {
		f.region.Delivered = *f.terms
	}
}

// isOne reports whether it is one packet.
func (f *flow) isOne() bool { return f.region == nil }

// protocol returns the protocol, and family the family of both ends: a set is of one.
func (f *flow) protocol() header.Protocol { return f.packet.Protocol }

func (f *flow) family() header.Family { return header.FamilyOf(f.packet.Destination) }

func (f *flow) address(field flowset.Field) netip.Addr {
	if field == flowset.Source {
		return f.packet.Source
	}
	return f.packet.Destination
}

// in asks whether an address is in a set.
func (f *flow) in(field flowset.Field, set *addressSet) bool {
	holds := set.Contains(f.address(field))
	if f.region == nil {
		return holds
	}
	return f.among(field, set.Addresses, holds)
}

// isClaimed asks whether the destination is among the outside addresses of rules that are active, and not among
// those of hosts beside, where these are given.
func (f *flow) isClaimed(c *claims, beside *addressIndex, at network.Moment) bool {
	a := f.packet.Destination
	holds := c.hold(a, at) && (beside == nil || !beside.has(a))
	if f.region == nil {
		return holds
	}
	f.region.where(f.terms, f.region.views.claimed(c, beside), holds)
	return holds
}

// isHeld asks whether an outside address, which is not the packet's, is of a rule that is active.
func (f *flow) isHeld(a netip.Addr, c *claims, at network.Moment) bool {
	holds := c.hold(a, at)
	if f.region != nil {
		f.region.where(f.terms, f.region.views.held(a, c), holds)
	}
	return holds
}

// from asks whether the source is among some addresses.
func (f *flow) from(set header.Addresses) bool {
	return f.among(flowset.Source, set, set.Contains(f.packet.Source))
}

// isAt asks whether the destination is one address.
func (f *flow) isAt(a netip.Addr) bool {
	holds := f.packet.Destination == a
	if f.region != nil { // a set of one address is made only here
		f.among(flowset.Destination, header.Single(a), holds)
	}
	return holds
}

// among answers that an address is in a set, or not, and keeps those of which it is so.
func (f *flow) among(field flowset.Field, set header.Addresses, holds bool) bool {
	if f.region != nil {
		f.region.address(f.terms, field, header.FamilyOf(f.address(field)), set, holds)
	}
	return holds
}

// isFor asks whether the packet is for one of the services.
func (f *flow) isFor(services header.Services) bool {
	holds := services.Matches(f.packet.Protocol, f.packet.DestinationPort)
	if f.region != nil {
		f.region.services(f.terms, services, f.packet.Protocol, holds)
	}
	return holds
}

// keepsPort asks whether the source port is among some; zero ports are all.
func (f *flow) keepsPort(ports header.Ports) bool {
	if ports == (header.Ports{}) {
		return true
	}
	holds := ports.Contains(f.packet.SourcePort)
	if f.region != nil {
		f.region.where(f.terms, f.region.ports(flowset.SourcePort, ports), holds)
	}
	return holds
}

// first asks which condition of a table the packet meets first; noMatch where it meets none.
func (f *flow) first(t *table, in scope) int32 {
	if f.region == nil && t.isEmpty() {
		return noMatch
	}
	q := query{packet: &f.packet}
	q.fill(in)
	found := t.find(&q)
	if f.region != nil {
		f.region.table(f.terms, t, &f.packet, in, found)
	}
	return found
}

// by asks which of the routes the destination has; nil where it has none.
func (f *flow) by(routes *routeTable) *route {
	winner := routes.winner(f.packet.Destination)
	if f.region != nil {
		f.region.route(f.terms, routes, f.packet.Destination, winner)
	}
	return routes.at(winner)
}

// whose asks who of several has the destination; nil where it is nobody's.
func whose[T any](f *flow, owners *byAddress[T]) *T {
	if f.region != nil {
		f.region.one(f.terms, owners.all, f.packet.Destination)
	}
	return owners.of(f.packet.Destination)
}

// somebody returns who has the destination without asking: only where it does not matter
// who that is.
func somebody[T any](f *flow, owners *byAddress[T]) *T { return owners.of(f.packet.Destination) }

// ends are the fields in which a packet is another one's answer, or the same.
var ends = []flowset.Field{flowset.Destination, flowset.Port, flowset.Source, flowset.SourcePort}

// is asks whether the packet is what an image was, or what answers that.
func (f *flow) is(i *image, answer bool) bool {
	p := i.Packet
	if answer {
		p = p.Answer()
	}
	if f.region == nil {
		return f.packet == p
	}
	return f.region.same(f.terms, f.region.termsOf(i, answer, p.Protocol), ends, f.packet == p)
}

var justDestination = []flowset.Field{flowset.Destination}

// goesTo asks whether the packet has the destination of what answers an image.
func (f *flow) goesTo(i *image) bool {
	want := i.Answer()
	if f.region == nil {
		return f.packet.Destination == want.Destination
	}
	return f.region.same(f.terms, f.region.termsOf(i, true, want.Protocol), justDestination, f.packet.Destination == want.Destination)
}

// setAddress gives an end another address.
func (f *flow) setAddress(field flowset.Field, a netip.Addr) {
	f.readdress(field, a)
	if f.region != nil {
		f.terms[field] = flowset.Constant(a)
	}
}

// readdress gives an end of the packet, but not of the set, another address.
func (f *flow) readdress(field flowset.Field, a netip.Addr) {
	if field == flowset.Source {
		f.packet.Source = a
	} else {
		f.packet.Destination = a
	}
}

// setPort gives an end another port.
func (f *flow) setPort(field flowset.Field, port uint16) {
	if field == flowset.SourcePort {
		f.packet.SourcePort = port
	} else {
		f.packet.DestinationPort = port
	}
	if f.region != nil {
		f.terms[field] = flowset.ConstantPort(port)
	}
}

// shift moves an address as far as from lies before to.
func (f *flow) shift(field flowset.Field, from, to netip.Addr) {
	f.readdress(field, header.Shift(f.address(field), from, to))
	if f.region != nil {
		f.terms[field] = f.terms[field].Shifted(from, to)
	}
}

// mapPort asks whether the port is among those of a map, and gives the packet what it
// becomes.
func (f *flow) mapPort(m *network.PortMap) bool {
	matches := m.Matches(f.packet.Protocol, f.packet.DestinationPort)
	if f.region != nil {
		f.region.services(f.terms, header.Services{{Protocol: m.Protocol, Ports: m.Ports}}, f.packet.Protocol, matches)
	}
	if !matches {
		return false
	}
	f.packet.DestinationPort = m.Apply(f.packet.DestinationPort)
	if f.region != nil && m.Protocol.HasPorts() {
		f.terms[flowset.Port] = f.terms[flowset.Port].ShiftedPort(m.Ports.First, m.ToFirst)
	}
	return true
}

// move asks by how far a prefix-nat rule moves an address, and moves it. It returns false
// where the translation has no place for it.
func (f *flow) move(field flowset.Field, r *network.NATRule) bool {
	a := f.address(field)
	m := r.Prefixes.Outward
	if field == flowset.Destination {
		m = r.Prefixes.Inward
	}
	to := m(a).To
	if f.region != nil {
		f.region.prefix(f.terms, field, a, r)
	}
	if !to.IsValid() {
		return false
	}
	f.shift(field, a, to)
	return true
}
