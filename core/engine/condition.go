package engine

import (
	"net/netip"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A condition is what a packet must meet for a rule.
type condition struct {
	rule        *network.Rule
	verb        network.Verb // of a filter rule
	from, to    matcher
	index       int             // in the gateway's nat or filter list
	services    header.Services // empty: every service
	sourcePorts []header.Ports  // empty: every port
	redirected  bool            // only what a rule redirected
}

// An aspect is one question that a condition asks. It is asked of a packet (asks) or of a set of
// packets (values), and in no other way: that rules match, how a set is narrowed by them, and in
// which aspect a packet nearly met one, are all made of these two.
type aspect uint8

// The aspects, in the order in which they are asked: those first that the most packets fail.
const (
	serviceAspect aspect = iota
	redirectedAspect
	destinationAspect
	sourceAspect
	sourcePortAspect
	activeAspect
	aspectCount
)

// Aspects are some of those of a condition.
type aspects uint8

const allAspects aspects = 1<<aspectCount - 1

func (a aspect) bit() aspects { return 1 << a }

// one reports whether it is just one.
func (a aspects) one() bool { return a != 0 && a&(a-1) == 0 }

// A scope is what conditions are compared in: the zones that a packet comes from and goes
// to, whether a rule redirected it, and when; of a set, that is in the set.
type scope struct {
	fromZone, toZone int
	redirected       bool
	moment           network.Moment
}

// asks reports whether a packet meets a condition in one aspect.
func (c *condition) asks(a aspect, q *query) bool {
	switch a {
	case serviceAspect:
		return len(c.services) == 0 || c.services.Matches(q.packet.Protocol, q.packet.DestinationPort)
	case redirectedAspect:
		return !c.redirected || q.redirected
	case destinationAspect:
		return c.to.contains(q.packet.Destination, q.toZone)
	case sourceAspect:
		return c.from.contains(q.packet.Source, q.fromZone)
	case sourcePortAspect:
		return len(c.sourcePorts) == 0 || q.packet.Protocol.HasPorts() && containPort(c.sourcePorts, q.packet.SourcePort)
	default:
		return c.rule.Active(q.moment)
	}
}

// values returns which values of a field meet a condition in one aspect, of packets of one protocol,
// as sorted disjoint spans; all where every value does.
func (c *condition) values(x *Explorer, a aspect, protocol header.Protocol, v *tableView) (f flowset.Field, spans []flowset.Span, all bool) {
	switch a {
	case serviceAspect:
		ports, any := c.services.Of(protocol)
		return flowset.Port, portSpans(ports), any
	case redirectedAspect:
		return flowset.Protocol, nil, !c.redirected || v.in.redirected
	case destinationAspect:
		spans, all = c.to.values(v.in.toZone, v.between.to)
		return flowset.Destination, spans, all
	case sourceAspect:
		spans, all = c.from.values(v.in.fromZone, v.between.from)
		return flowset.Source, spans, all
	case sourcePortAspect:
		if len(c.sourcePorts) == 0 || !protocol.HasPorts() {
			return flowset.SourcePort, nil, len(c.sourcePorts) == 0
		}
		return flowset.SourcePort, portSpans(c.sourcePorts), false
	default:
		spans, all = x.active(c.rule)
		return flowset.Time, spans, all
	}
}

// unmet returns in which of some aspects a packet does not meet a condition: up to so many, and not the rest.
func (c *condition) unmet(q *query, asked aspects, most int) (unmet aspects) {
	for a := range aspectCount {
		if asked&a.bit() != 0 && !c.asks(a, q) {
			unmet |= a.bit()
			if most--; most == 0 {
				break
			}
		}
	}
	return unmet
}

// meets reports whether a packet meets a condition in the aspects that are asked.
func (c *condition) meets(q *query, asked aspects) bool { return c.unmet(q, asked, 1) == 0 }

// set returns the packets that meet a condition in a view, each with a value. Turned, it is met by
// what answers them: what the condition says of the source stands at the destination's place.
func (c *condition) set(x *Explorer, value int, v tableView) flowset.Set {
	whole := flowset.Nothing
	for _, protocol := range header.Protocols() {
		one := c.setOf(x, protocol, value, v)
		whole = x.Space.Overlay(whole, x.Space.Where(flowset.Protocol, protocolSpan(protocol), one))
	}
	return whole
}

// setOf is set for the packets of one protocol.
func (c *condition) setOf(x *Explorer, protocol header.Protocol, value int, v tableView) flowset.Set {
	var limits [flowset.Fields][]flowset.Span
	for p := range aspectCount {
		field, spans, all := c.values(x, p, protocol, &v)
		switch {
		case all:
		case len(spans) == 0:
			return flowset.Nothing
		case v.turned:
			limits[field.Opposite()] = spans
		default:
			limits[field] = spans
		}
	}
	one := flowset.Terminal(value)
	for f := flowset.Fields - 1; f > flowset.Protocol; f-- { // from the last field that is tested to the first
		if limits[f] != nil {
			one = x.Space.Where(f, limits[f], one)
		}
	}
	return one
}

// A matcher is an address expression compiled for the zones of one gateway.
type matcher struct {
	any   bool
	all   header.Addresses   // for all zones, or
	zones []header.Addresses // one a zone
}

// sets returns the sets of all zones.
func (m *matcher) sets() []header.Addresses {
	if len(m.zones) == 0 {
		return []header.Addresses{m.all}
	}
	return m.zones
}

// in returns the addresses for one zone.
func (m *matcher) in(zone int) *header.Addresses {
	if len(m.zones) == 0 {
		return &m.all
	}
	return &m.zones[zone]
}

func (m *matcher) contains(a netip.Addr, zone int) bool { return m.any || m.in(zone).Contains(a) }

// values returns the addresses for one zone, of a block where there is one, as spans.
func (m *matcher) values(zone int, of *block) (spans []flowset.Span, all bool) {
	switch {
	case m.any && of == nil:
		return nil, true
	case m.any:
		return of.spans, false
	case of == nil:
		return flowset.AddressSpans(*m.in(zone)), false
	}
	return flowset.AddressSpans(m.in(zone).Intersect(of.addresses)), false
}

func containPort(list []header.Ports, port uint16) bool {
	for _, ports := range list {
		if ports.Contains(port) {
			return true
		}
	}
	return false
}

func protocolSpan(p header.Protocol) []flowset.Span {
	return []flowset.Span{flowset.PortSpan(uint16(p), uint16(p))}
}

// portSpans returns ranges of ports as sorted, disjoint spans.
func portSpans(list []header.Ports) []flowset.Span {
	ports := header.MergePorts(list)
	spans := make([]flowset.Span, len(ports))
	for i, p := range ports {
		spans[i] = flowset.PortSpan(p.First, p.Last)
	}
	return spans
}
