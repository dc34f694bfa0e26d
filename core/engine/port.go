package engine

import (
	"fmt"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// The ports that a source gets where its own is taken and the rule names none.
var otherPorts = header.Ports{First: 1024, Last: 65535}

// takePort rewrites the source to the first address with a free port, for a packet
// that will be like final but for its source.
func (w *Walk) takePort(g *gateway, addresses header.Range, ports header.Ports, p *header.Packet, final header.Packet) bool {
	for a := addresses.First; ; a = a.Next() {
		final.Source = a
		if port, ok := w.freePort(g, ports, p, final); ok {
			w.region.hide(a, ports, p, port, g.Handling.PortAssignment == network.PortPreserving)
			p.Source, p.SourcePort = a, port
			return true
		}
		if a == addresses.Last {
			return false
		}
	}
}

// freePort returns the source port that a packet gets, which will be like final but for
// that. An inside address and port that has one already keeps it, for every destination
// or for the same one, as the gateway maps (RFC 4787, 4.1).
func (w *Walk) freePort(g *gateway, ports header.Ports, p *header.Packet, final header.Packet) (uint16, bool) {
	if !p.Protocol.Numbered() {
		return 0, !w.portTaken(g, &final, 0)
	}
	any := ports == (header.Ports{})
	for i := range w.sessions[:w.earlier] {
		s := &w.sessions[i]
		if s.binds(g, &final) && s.before.Source == p.Source && s.before.SourcePort == p.SourcePort && (any || ports.Contains(s.after.SourcePort)) {
			return s.after.SourcePort, true
		}
	}
	own := p.SourcePort
	if g.Handling.PortAssignment == network.PortPreserving {
		if (any || ports.Contains(own)) && !w.portTaken(g, &final, own) {
			return own, true
		}
	} else {
		own = 0 // from the first on
	}
	return nextPort(ports, own, func(port uint16) bool { return !w.portTaken(g, &final, port) })
}

// nextPort returns the next port after one that is free, among those of a rule, or
// otherPorts where it names none.
func nextPort(ports header.Ports, after uint16, free func(uint16) bool) (uint16, bool) {
	if ports == (header.Ports{}) {
		ports = otherPorts
	}
	if !ports.Contains(after) {
		after = ports.Last
	}
	for range ports.Count() {
		if after++; after < ports.First || after > ports.Last {
			after = ports.First
		}
		if free(after) {
			return after, true
		}
	}
	return 0, false
}

// portTaken reports whether an earlier session holds the port against a packet that is
// to leave like final.
func (w *Walk) portTaken(g *gateway, final *header.Packet, port uint16) bool {
	for i := range w.sessions[:w.earlier] {
		if s := &w.sessions[i]; s.binds(g, final) && s.after.SourcePort == port {
			return true
		}
	}
	return false
}

// binds reports whether the session's source port stands for packets that leave like
// final, by the gateway's mapping behavior: it hides behind the same address, and, where
// that matters, goes to the same destination. Without ports the destination always matters.
func (s *session) binds(g *gateway, final *header.Packet) bool {
	if s.gateway != g || s.local || s.after.Source != final.Source || s.after.Protocol != final.Protocol {
		return false
	}
	sameAddress := s.after.Destination == final.Destination
	switch {
	case !final.Protocol.Numbered():
		return sameAddress
	case g.Handling.Mapping == network.AddressDependent:
		return sameAddress
	case g.Handling.Mapping == network.AddressAndPortDependent:
		return sameAddress && s.after.DestinationPort == final.DestinationPort
	}
	return true
}

// distinct gives a packet, which will leave like final, another source port where an
// earlier session leaves just so: else their answers could not be told apart. It returns
// false where it can't.
func (w *Walk) distinct(g *gateway, rule *network.Rule, ports header.Ports, p *header.Packet, final header.Packet) bool {
	clash := func(port uint16) bool {
		final.SourcePort = port
		for i := range w.sessions[:w.earlier] {
			if s := &w.sessions[i]; s.gateway == g && !s.local && s.after == final {
				return true
			}
		}
		return false
	}
	own := p.SourcePort
	if w.earlier == 0 || !clash(own) {
		return true
	}
	var port uint16
	ok := false
	if p.Protocol.Numbered() {
		port, ok = nextPort(ports, own, func(port uint16) bool { return !clash(port) && !w.portTaken(g, &final, port) })
	}
	if !ok {
		w.exhausted(g, rule, fmt.Sprintf("An earlier session goes from %s to %s already, and %s can't tell the answers apart.", p.Source, final.To(), g.Name))
		return false
	}
	before := p.From()
	p.SourcePort = port
	if w.trace != nil {
		w.note(g.Name, StepSource, "source", "", before+" -> "+p.From()+": an earlier session leaves just so"+otherChoice(p.Protocol))
	}
	return true
}
