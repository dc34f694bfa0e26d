package engine

import (
	"net/netip"
	"slices"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A routeKey is the routes of a table to one family.
type routeKey struct {
	table  *routeTable
	family header.Family
}

// A whereKey names a set of addresses, which never changes, by where it is stored.
type whereKey struct {
	first  *header.Range
	count  int
	field  flowset.Field
	family header.Family
}

// A tableView is a table as it is for a pair of zones. Turned, it is asked by
// answers: what rules say about the source stands at the destination's place.
type tableView struct {
	table            *table
	fromZone, toZone int
	turned           bool
}

// view returns a table as a set that gives each packet the number of the first
// condition it meets, counted from 1.
func (x *Explorer) view(v tableView) flowset.Set {
	if known, ok := x.tables[v]; ok {
		return known
	}
	var sets []flowset.Set
	for n, c := range v.table.ordered() {
		sets = append(sets, x.condition(c, int(n)+1, v))
	}
	made := x.Space.OverlayAll(sets)
	x.tables[v] = made
	return made
}

// condition returns the packets that meet a condition, with a value.
func (x *Explorer) condition(c *condition, value int, v tableView) flowset.Set {
	if !c.rule.Active(x.moment) {
		return flowset.Nothing
	}
	source, destination := flowset.Source, flowset.Destination
	sourcePort, port := flowset.SourcePort, flowset.Port
	if v.turned {
		source, destination, sourcePort, port = destination, source, port, sourcePort
	}
	spans := map[flowset.Field][]flowset.Span{}
	for _, side := range []struct {
		field flowset.Field
		m     *matcher
		zone  int
	}{{source, &c.from, v.fromZone}, {destination, &c.to, v.toZone}} {
		if !side.m.any {
			spans[side.field] = flowset.AddressSpans(side.m.set(side.zone))
		}
	}
	whole := flowset.Nothing
	for _, protocol := range header.Protocols() {
		ports, any, ok := portsOf(c.services, protocol)
		if !ok || len(c.sourcePorts) > 0 && !protocol.HasPorts() {
			continue
		}
		delete(spans, port)
		delete(spans, sourcePort)
		if !any {
			spans[port] = portSpans(ports)
		}
		if len(c.sourcePorts) > 0 {
			spans[sourcePort] = portSpans(c.sourcePorts)
		}
		one := flowset.Terminal(value)
		for f := flowset.SourcePort; f > flowset.Protocol; f-- {
			if s, limited := spans[f]; limited {
				one = x.Space.Where(f, s, one)
			}
		}
		whole = x.Space.Overlay(whole, x.Space.Where(flowset.Protocol, protocolSpan(protocol), one))
	}
	return whole
}

func (m *matcher) set(zone int) header.Addresses {
	if len(m.zones) == 0 {
		return m.all
	}
	return m.zones[zone]
}

func protocolSpan(p header.Protocol) []flowset.Span {
	return []flowset.Span{flowset.PortSpan(uint16(p), uint16(p))}
}

// portsOf returns which ports of a protocol are among the services: any of them,
// or those listed; ok is false where the protocol is not among them.
func portsOf(services header.Services, protocol header.Protocol) (ports []header.Ports, any, ok bool) {
	if len(services) == 0 {
		return nil, true, true
	}
	for _, s := range services {
		switch {
		case s.Protocol == header.AnyProtocol, s.Protocol == protocol && !protocol.HasPorts():
			return nil, true, true
		case s.Protocol == protocol:
			ports = append(ports, s.Ports)
		}
	}
	return ports, false, len(ports) > 0
}

// portSpans returns ranges of ports as sorted, disjoint spans.
func portSpans(list []header.Ports) []flowset.Span {
	ports := merged(list)
	spans := make([]flowset.Span, len(ports))
	for i, p := range ports {
		spans[i] = flowset.PortSpan(p.First, p.Last)
	}
	return spans
}

// merged returns ranges of ports sorted and disjoint.
func merged(list []header.Ports) []header.Ports {
	sorted := slices.Clone(list)
	slices.SortFunc(sorted, func(a, b header.Ports) int { return int(a.First) - int(b.First) })
	merged := sorted[:1]
	for _, p := range sorted[1:] {
		last := &merged[len(merged)-1]
		if int(p.First) <= int(last.Last)+1 {
			last.Last = max(last.Last, p.Last)
			continue
		}
		merged = append(merged, p)
	}
	return merged
}

// where returns the packets whose field is among the addresses of one family.
func (x *Explorer) where(f flowset.Field, set header.Addresses, family header.Family) flowset.Set {
	ranges := set.Ranges()
	if len(ranges) == 0 {
		return flowset.Nothing
	}
	key := whereKey{&ranges[0], len(ranges), f, family}
	known, ok := x.wheres[key]
	if !ok {
		known = x.Space.Where(f, flowset.AddressSpans(set.Intersect(family.All())), flowset.Everything)
		x.wheres[key] = known
	}
	return known
}

// routes returns the set that gives each destination of one family the number of its
// route, counted from 1.
func (x *Explorer) routes(t *routeTable, family header.Family) flowset.Set {
	key := routeKey{t, family}
	known, ok := x.routed[key]
	if !ok {
		known = x.Space.Choice(flowset.Destination, t.spans(family))
		x.routed[key] = known
	}
	return known
}

// A choice gives each of some addresses, of one family, its number, counted from 1.
type choice struct {
	addresses []netip.Addr
	set       flowset.Set
}

func (x *Explorer) choice(among header.Addresses, family header.Family) *choice {
	key := whereKey{&among.Ranges()[0], len(among.Ranges()), flowset.Destination, family}
	known := x.choices[key]
	if known == nil {
		known = &choice{}
		var spans []flowset.ValueSpan
		for _, r := range among.Intersect(family.All()).Ranges() {
			for address := r.First; ; address = address.Next() {
				known.addresses = append(known.addresses, address)
				one := flowset.AddressSpan(header.Range{First: address, Last: address})
				spans = append(spans, flowset.ValueSpan{Span: one, Value: len(known.addresses)})
				if address == r.Last {
					break
				}
			}
		}
		known.set = x.Space.Choice(flowset.Destination, spans)
		x.choices[key] = known
	}
	return known
}

// A moveKey is a translation of prefixes, and the field it changes.
type moveKey struct {
	rule  *network.NATRule
	field flowset.Field
}

// Moves gives each address of one side of a translation of prefixes the number of its
// class, counted from 1.
type moves struct {
	classes []header.PrefixClass
	set     flowset.Set
}

func (x *Explorer) movesOf(rule *network.NATRule, f flowset.Field) *moves {
	key := moveKey{rule, f}
	known := x.moves[key]
	if known == nil {
		known = &moves{classes: rule.Prefixes.Classes(f == flowset.Destination)}
		var spans []flowset.ValueSpan
		for i, c := range known.classes {
			for _, r := range c.Alike.Ranges() {
				spans = append(spans, flowset.ValueSpan{Span: flowset.AddressSpan(r), Value: i + 1})
			}
		}
		slices.SortFunc(spans, flowset.ValueSpan.Compare)
		known.set = x.Space.Choice(f, spans)
		x.moves[key] = known
	}
	return known
}
