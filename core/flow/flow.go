// Package flow is what is on its way through a network: one packet, or a set of connections that every question narrows to those that
// answer it alike. Read flow.go first, what can be asked and changed; narrowing.go is what a question does to a set, view.go how a
// table becomes one.
//
// A packet of a set that asks First of a table goes so: the table answers for it, the view of the table gives each connection of the
// set its own answer, those with the same one go on and each other is set aside to be walked later.
package flow

import (
	"net/netip"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// A Flow is what is on its way through the network: one packet or, where it has a region, a
// set of connections of which the packet is one.
//
// Whatever decides about a packet asks the flow. The flow answers for the packet and, of a
// set, keeps the connections for which the answer is the same and sets the others aside. So
// what is asked of a packet and how that narrows a set can't differ: the steps have no other
// way to look at a packet. They may see it (now) to write down what happened.
type Flow struct {
	packet header.Packet
	terms  *flowset.Terms // of a set: what the packet is in terms of the connection
	region *narrowing     // nil for one packet
}

// An Image is a packet as it was somewhere on its way.
type Image struct {
	header.Packet
	terms int // of a set: which of the region's images it is
}

// FlowOf returns the flow of one packet.
func FlowOf(p header.Packet) Flow { return Flow{packet: p} }

// ImageOf returns an image by the packet that it is of and, of a set, its number.
func ImageOf(p header.Packet, number int) *Image { return &Image{p, number} }

// Number returns which of a set's images it is.
func (i *Image) Number() int { return i.terms }

// Now returns the packet as it is, for events and results.
func (f *Flow) Now() header.Packet { return f.packet }

// Image remembers the packet as it is.
func (f *Flow) Image() Image {
	return Image{f.packet, f.Remember()}
}

// Remember returns which image the packet is, as it is, of a set; 0 of one packet.
func (f *Flow) Remember() int {
	if f.region == nil {
		return 0
	}
	return f.region.remember(f.terms)
}

// IsForSender reports whether the destination is the source that an image had, of all connections of a set. It does not ask.
func (f *Flow) IsForSender(i *Image) bool {
	if f.region == nil {
		return f.packet.Destination == i.Source
	}
	return f.terms[flowset.Destination] == f.region.images[i.terms][flowset.Source]
}

// Become makes the packet what an image was, or what answers that.
func (f *Flow) Become(i *Image, answer bool) {
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

// With makes a copy of a flow ask the same questions of the packet with the source that an
// image had, and with its destination too where both is set; it must not be changed.
func (f *Flow) With(i *Image, both bool) {
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

// AsReport returns a flow that asks about an ICMP error which somebody sends on the way of
// the packet: from the packet's own source where that is not known. It is of one packet.
func (f *Flow) AsReport(sender netip.Addr) Flow {
	asked := Flow{packet: f.packet}
	asked.packet.Protocol, asked.packet.SourcePort, asked.packet.DestinationPort = header.ICMP, 0, 0
	if sender.IsValid() {
		asked.packet.Source = sender
	}
	return asked
}

// SenderAfter returns who sends an ICMP error, which is of one packet, once a translation of
// the packet that it quotes has given it that one's source: nobody else.
func (f *Flow) SenderAfter(sender netip.Addr, before *Image) netip.Addr {
	if f.packet.Source != before.Source {
		return netip.Addr{}
	}
	return sender
}

// Begin puts another packet on its way; of one packet only.
func (f *Flow) Begin(p header.Packet) { f.packet = p }

// Turn says whether it is an answer that is on its way.
func (f *Flow) Turn(back bool) {
	if f.region != nil {
		f.region.turned = back
	}
}

// TookPart notes that a rule has a part in what happens.
func (f *Flow) TookPart(rule *network.Rule) {
	if f.region != nil {
		f.region.rule(rule)
	}
}

// Deliver notes how the packet comes to whoever answers it.
func (f *Flow) Deliver() {
	if f.region != nil {
		f.region.Delivered = *f.terms
	}
}

// IsOne reports whether it is one packet.
func (f *Flow) IsOne() bool { return f.region == nil }

// Protocol returns the protocol, and family the family of both ends: a set is of one.
func (f *Flow) Protocol() header.Protocol { return f.packet.Protocol }

func (f *Flow) Family() header.Family { return header.FamilyOf(f.packet.Destination) }

func (f *Flow) address(field flowset.Field) netip.Addr {
	if field == flowset.Source {
		return f.packet.Source
	}
	return f.packet.Destination
}

// In asks whether an address is in a set.
func (f *Flow) In(field flowset.Field, set *table.AddressSet) bool {
	holds := set.Contains(f.address(field))
	if f.region == nil {
		return holds
	}
	return f.among(field, set.Addresses, holds)
}

// IsClaimed asks whether the destination is among the outside addresses of rules that are active, and not among
// those of hosts beside, where these are given.
func (f *Flow) IsClaimed(c *table.Claims, beside *table.Numbers, at network.Moment) bool {
	a := f.packet.Destination
	holds := c.Hold(a, at) && (beside == nil || !beside.Has(a))
	if f.region == nil {
		return holds
	}
	f.region.where(f.terms, f.region.views.claimed(c, beside), holds)
	return holds
}

// IsHeld asks whether an outside address, which is not the packet's, is of a rule that is active.
func (f *Flow) IsHeld(a netip.Addr, c *table.Claims, at network.Moment) bool {
	holds := c.Hold(a, at)
	if f.region != nil {
		f.region.where(f.terms, f.region.views.held(a, c), holds)
	}
	return holds
}

// From asks whether the source is among some addresses.
func (f *Flow) From(set header.Addresses) bool {
	return f.among(flowset.Source, set, set.Contains(f.packet.Source))
}

// IsAt asks whether the destination is one address.
func (f *Flow) IsAt(a netip.Addr) bool {
	holds := f.packet.Destination == a
	if f.region != nil { // a set of one address is made only here
		f.among(flowset.Destination, header.Single(a), holds)
	}
	return holds
}

// among answers that an address is in a set, or not, and keeps those of which it is so.
func (f *Flow) among(field flowset.Field, set header.Addresses, holds bool) bool {
	if f.region != nil {
		f.region.address(f.terms, field, header.FamilyOf(f.address(field)), set, holds)
	}
	return holds
}

// IsFor asks whether the packet is for one of the services.
func (f *Flow) IsFor(services header.Services) bool {
	holds := services.Matches(f.packet.Protocol, f.packet.DestinationPort)
	if f.region != nil {
		f.region.services(f.terms, services, f.packet.Protocol, holds)
	}
	return holds
}

// KeepsPort asks whether the source port is among some; zero ports are all.
func (f *Flow) KeepsPort(ports header.Ports) bool {
	if ports == (header.Ports{}) {
		return true
	}
	holds := ports.Contains(f.packet.SourcePort)
	if f.region != nil {
		f.region.where(f.terms, f.region.ports(flowset.SourcePort, ports), holds)
	}
	return holds
}

// First asks which condition of a table the packet meets first; noMatch where it meets none.
func (f *Flow) First(t *table.Table, in table.Scope) int32 {
	if f.region == nil && t.IsEmpty() {
		return table.NoMatch
	}
	q := table.Query{Packet: &f.packet}
	q.Fill(in)
	found := t.Find(&q)
	if f.region != nil {
		f.region.table(f.terms, t, &f.packet, in, found)
	}
	return found
}

// By asks which of the routes the destination has; nil where it has none.
func (f *Flow) By(routes *table.Routes) *table.Route {
	winner := routes.Winner(f.packet.Destination)
	if f.region != nil {
		f.region.route(f.terms, routes, f.packet.Destination, valueOf(int(winner), routes.At(winner) != nil))
	}
	return routes.At(winner)
}

// Whose asks who of several has the destination; nil where it is nobody's.
func Whose[T any](f *Flow, owners *table.ByAddress[T]) *T {
	if f.region != nil {
		f.region.one(f.terms, owners.All, f.packet.Destination)
	}
	return owners.Of(f.packet.Destination)
}

// Somebody returns who has the destination without asking: only where it does not matter
// who that is.
func Somebody[T any](f *Flow, owners *table.ByAddress[T]) *T { return owners.Of(f.packet.Destination) }

// ends are the fields in which a packet is another one's answer, or the same.
var ends = []flowset.Field{flowset.Destination, flowset.Port, flowset.Source, flowset.SourcePort}

// Is asks whether the packet is what an image was, or what answers that.
func (f *Flow) Is(i *Image, answer bool) bool {
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

// GoesTo asks whether the packet has the destination of what answers an image.
func (f *Flow) GoesTo(i *Image) bool {
	want := i.Answer()
	if f.region == nil {
		return f.packet.Destination == want.Destination
	}
	return f.region.same(f.terms, f.region.termsOf(i, true, want.Protocol), justDestination, f.packet.Destination == want.Destination)
}

// SetAddress gives an end another address.
func (f *Flow) SetAddress(field flowset.Field, a netip.Addr) {
	f.readdress(field, a)
	if f.region != nil {
		f.terms[field] = flowset.Constant(a)
	}
}

// readdress gives an end of the packet, but not of the set, another address.
func (f *Flow) readdress(field flowset.Field, a netip.Addr) {
	if field == flowset.Source {
		f.packet.Source = a
	} else {
		f.packet.Destination = a
	}
}

// SetPort gives an end another port.
func (f *Flow) SetPort(field flowset.Field, port uint16) {
	if field == flowset.SourcePort {
		f.packet.SourcePort = port
	} else {
		f.packet.DestinationPort = port
	}
	if f.region != nil {
		f.terms[field] = flowset.ConstantPort(port)
	}
}

// Shift moves an address as far as from lies before to.
func (f *Flow) Shift(field flowset.Field, from, to netip.Addr) {
	f.readdress(field, header.Shift(f.address(field), from, to))
	if f.region != nil {
		f.terms[field] = f.terms[field].Shifted(from, to)
	}
}

// MapPort asks whether the port is among those of a map, and gives the packet what it
// becomes.
func (f *Flow) MapPort(m *network.PortMap) bool {
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

// Move asks by how far a prefix-nat rule moves an address, and moves it. It returns false
// where the translation has no place for it.
func (f *Flow) Move(field flowset.Field, r *network.NATRule) bool {
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
	f.Shift(field, a, to)
	return true
}
