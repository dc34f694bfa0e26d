package table

import (
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A Condition is what a packet must meet for a rule.
type Condition struct {
	Rule        *network.Rule
	Verb        network.Verb // of a filter rule
	From, To    Matcher
	Index       int             // in the gateway's nat or filter list
	Services    header.Services // empty: every service
	SourcePorts []header.Ports  // empty: every port
	Redirected  bool            // only what a rule redirected
}

// An aspect is one question that a condition asks. It is asked of a packet (asks) or of a set of
// packets (values), and in no other way: that rules match, how a set is narrowed by them, and in
// which aspect a packet nearly met one, are all made of these two.
type aspect uint8

// The aspects, in the order in which they are asked: those first that the most packets fail.
const (
	ServiceAspect aspect = iota
	RedirectedAspect
	DestinationAspect
	SourceAspect
	SourcePortAspect
	activeAspect
	AspectCount
)

// Aspects are some of those of a condition.
type Aspects uint8

const AllAspects Aspects = 1<<AspectCount - 1

func (a aspect) Bit() Aspects { return 1 << a }

// One reports whether it is just one.
func (a Aspects) One() bool { return a != 0 && a&(a-1) == 0 }

// asks reports whether a packet meets a condition in one aspect.
func (c *Condition) asks(a aspect, q *Query) bool {
	switch a {
	case ServiceAspect:
		return len(c.Services) == 0 || c.Services.Matches(q.Packet.Protocol, q.Packet.DestinationPort)
	case RedirectedAspect:
		return !c.Redirected || q.Redirected
	case DestinationAspect:
		return c.To.contains(q.Packet.Destination, q.ToZone)
	case SourceAspect:
		return c.From.contains(q.Packet.Source, q.FromZone)
	case SourcePortAspect:
		return len(c.SourcePorts) == 0 || q.Packet.Protocol.HasPorts() && containPort(c.SourcePorts, q.Packet.SourcePort)
	default:
		return c.Rule.Active(q.Moment)
	}
}

// Times are when rules take part, as spans of moments; all where at all of them.
type times func(*network.Rule) (spans []flowset.Span, all bool)

// Values returns which values of a field meet a condition in one aspect, of packets of one protocol, in a scope and
// between two blocks, as sorted disjoint spans; all where every value does.
func (c *Condition) Values(a aspect, protocol header.Protocol, in Scope, between Blocks, active times) (f flowset.Field, spans []flowset.Span, all bool) {
	switch a {
	case ServiceAspect:
		ports, any := c.Services.Of(protocol)
		return flowset.Port, PortSpans(ports), any
	case RedirectedAspect:
		return flowset.Protocol, nil, !c.Redirected || in.Redirected
	case DestinationAspect:
		spans, all = c.To.values(in.ToZone, between.To)
		return flowset.Destination, spans, all
	case SourceAspect:
		spans, all = c.From.values(in.FromZone, between.From)
		return flowset.Source, spans, all
	case SourcePortAspect:
		if len(c.SourcePorts) == 0 || !protocol.HasPorts() {
			return flowset.SourcePort, nil, len(c.SourcePorts) == 0
		}
		return flowset.SourcePort, PortSpans(c.SourcePorts), false
	default:
		spans, all = active(c.Rule)
		return flowset.Time, spans, all
	}
}

// Unmet returns in which of some aspects a packet does not meet a condition: up to so many, and not the rest.
func (c *Condition) Unmet(q *Query, asked Aspects, most int) (unmet Aspects) {
	for a := range AspectCount {
		if asked&a.Bit() != 0 && !c.asks(a, q) {
			unmet |= a.Bit()
			if most--; most == 0 {
				break
			}
		}
	}
	return unmet
}

// Meets reports whether a packet meets a condition in the aspects that are asked.
func (c *Condition) Meets(q *Query, asked Aspects) bool { return c.Unmet(q, asked, 1) == 0 }

func containPort(list []header.Ports, port uint16) bool {
	for _, ports := range list {
		if ports.Contains(port) {
			return true
		}
	}
	return false
}

func ProtocolSpan(p header.Protocol) []flowset.Span {
	return []flowset.Span{flowset.PortSpan(uint16(p), uint16(p))}
}

// PortSpans returns ranges of ports as sorted, disjoint spans.
func PortSpans(list []header.Ports) []flowset.Span {
	ports := header.MergePorts(list)
	spans := make([]flowset.Span, len(ports))
	for i, p := range ports {
		spans[i] = flowset.PortSpan(p.First, p.Last)
	}
	return spans
}

// Opposes reports whether one of two conditions of a filter allows what the other does not.
func (c *Condition) Opposes(other *Condition) bool {
	return (c.Verb == network.Allow) != (other.Verb == network.Allow)
}

// GoesTo reports whether packets that meet a condition may go to some addresses.
func (c *Condition) GoesTo(in Scope, to header.Addresses) bool {
	return c.To.Any || to.IsAll() || c.To.In(in.ToZone).Overlaps(to)
}

// IsOf reports whether a condition can be met in a scope.
func (c *Condition) IsOf(in Scope) bool {
	return (!c.Redirected || in.Redirected) && (c.From.Any || !c.From.In(in.FromZone).Empty()) && (c.To.Any || !c.To.In(in.ToZone).Empty())
}
