package advice

import (
	"net/netip"
	"slices"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
)

// TryForward traces connections through a forward: one for each range of ports that earlier rules leave it, as many as most. With
// allowed, somebody whom the filter lets through takes the place of one who is stopped, where they differ in the source alone: the forward
// is for them.
func TryForward(e *walk.Engine, r *network.NATRule, at network.Moment, most int, allowed bool) (traces []*words.Trace) {
	_, rest := Clashes(r)
	if len(r.Ports) == 0 {
		rest = []network.PortMap{{Protocol: header.TCP}}
	}
	for _, m := range rest[:min(len(rest), most)] {
		connection, ok := SampleOf(e, r, m, at)
		if !ok {
			continue
		}
		t := words.TraceOf(e.NewWalk(), connection)
		if by := byNear(e, t); by != nil && allowed {
			t = by
		}
		traces = append(traces, t)
	}
	return traces
}

// byNear returns the trace of a connection like a stopped one, from somebody whom a filter rule allows that differs in its sources alone,
// where that gets through: the forward is for them. It returns nil where there is none.
func byNear(e *walk.Engine, t *words.Trace) *words.Trace {
	if t.Outcome == engine.Reached || t.Stood.In == nil {
		return nil
	}
	for _, near := range t.Near {
		for _, f := range t.Stood.Gateway.Filter {
			if &f.Rule != near.Rule || near.Differs != words.MismatchFrom || f.Verb != network.Allow {
				continue
			}
			like := t.Connection
			family := header.FamilyOf(like.Packet.Destination)
			a, some := f.From.In(t.Stood.In.Zone).Intersect(e.Network().Internet()).Usual(family)
			if like.Packet.Source = a; !some {
				continue
			}
			like.From = e.Behind(t.Stood.In, a)
			if by := words.TraceOf(e.NewWalk(), like); by.Outcome == engine.Reached {
				return by
			}
		}
	}
	return nil
}

// A Shut is people inside whom the filter keeps from a forward that is meant for them too.
type Shut struct {
	Zones   []string
	Permit  *network.Rule     // that differs in whom it is for alone, or nil
	Refused []walk.Connection // one of each zone
}

// ShutHairpin returns those of a forward, like the connections of its traces.
func ShutHairpin(e *walk.Engine, r *network.NATRule, traces []*words.Trace) (shut Shut) {
	for _, t := range traces {
		for _, i := range e.Network().Gateway(r.Gateway.Name).Interfaces {
			family := header.FamilyOf(t.Connection.Packet.Destination)
			a, some := senderOn(i, family)
			if !some || i.FacesInternet(family) || slices.Contains(shut.Zones, i.Zone) {
				continue
			}
			like := t.Connection
			like.Packet.Source, like.From = a, e.Behind(i, a)
			by := words.TraceOf(e.NewWalk(), like)
			if by.Outcome != engine.Dropped || by.Step != engine.StepFilter {
				continue
			}
			shut.Zones, shut.Refused = append(shut.Zones, i.Zone), append(shut.Refused, like)
			for _, near := range by.Near {
				if near.Differs == words.MismatchFrom && shut.Permit == nil {
					shut.Permit = near.Rule
				}
			}
		}
	}
	return shut
}

// NotTurned returns which zones' connections a gateway does not turn back, and that gateway; nil where there is none.
func (s *Shut) NotTurned(e *walk.Engine) (zones []string, at *network.Gateway) {
	for k, like := range s.Refused {
		from, err := e.Locate(like.Packet.Source)
		if err != nil {
			continue
		}
		like.From = from
		if t := words.TraceOf(e.NewWalk(), like); t.Outcome == engine.Dropped && t.Step == engine.StepTurnBack {
			zones, at = append(zones, s.Zones[k]), t.At.Gateway
		}
	}
	return zones, at
}

// senderOn returns an address that somebody on the segment of an interface can have.
func senderOn(i *network.Interface, family header.Family) (netip.Addr, bool) {
	own := header.Addresses{}
	var prefixes []netip.Prefix
	for _, p := range i.Addresses {
		if header.FamilyOf(p.Addr()) == family {
			own, prefixes = own.Union(header.Single(p.Addr())), append(prefixes, p.Masked())
		}
	}
	if len(prefixes) == 0 || !i.IsUp() {
		return netip.Addr{}, false
	}
	return header.AddressesOfPrefixes(prefixes...).Minus(own).Usual(family)
}
