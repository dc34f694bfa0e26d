package engine

import (
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

// Times are when rules take part, as spans of moments; all where at all of them.
type times func(*network.Rule) (spans []flowset.Span, all bool)

// values returns which values of a field meet a condition in one aspect, of packets of one protocol, in a scope and
// between two blocks, as sorted disjoint spans; all where every value does.
func (c *condition) values(a aspect, protocol header.Protocol, in scope, between blocks, active times) (f flowset.Field, spans []flowset.Span, all bool) {
	switch a {
	case serviceAspect:
		ports, any := c.services.Of(protocol)
		return flowset.Port, portSpans(ports), any
	case redirectedAspect:
		return flowset.Protocol, nil, !c.redirected || in.redirected
	case destinationAspect:
		spans, all = c.to.values(in.toZone, between.to)
		return flowset.Destination, spans, all
	case sourceAspect:
		spans, all = c.from.values(in.fromZone, between.from)
		return flowset.Source, spans, all
	case sourcePortAspect:
		if len(c.sourcePorts) == 0 || !protocol.HasPorts() {
			return flowset.SourcePort, nil, len(c.sourcePorts) == 0
		}
		return flowset.SourcePort, portSpans(c.sourcePorts), false
	default:
		spans, all = active(c.rule)
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

// opposes reports whether one of two conditions of a filter allows what the other does not.
func (c *condition) opposes(other *condition) bool {
	return (c.verb == network.Allow) != (other.verb == network.Allow)
}

// goesTo reports whether packets that meet a condition may go to some addresses.
func (c *condition) goesTo(in scope, to header.Addresses) bool {
	return c.to.any || to.IsAll() || c.to.in(in.toZone).Overlaps(to)
}

// isOf reports whether a condition can be met in a scope.
func (c *condition) isOf(in scope) bool {
	return (!c.redirected || in.redirected) && (c.from.any || !c.from.in(in.fromZone).Empty()) && (c.to.any || !c.to.in(in.toZone).Empty())
}
