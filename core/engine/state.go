package engine

import (
	"net/netip"

	"hollowbridge/core/flow"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A Session is a connection that a gateway has accepted and remembers, with its translation.
type Session struct {
	In, Out       *network.Interface // Out is nil where the gateway itself answers
	Before, After header.Packet      // the first packet as it came and as it left
	Local         bool               // the gateway itself answers
	Answered      bool               // an answer has passed
	Redirect      *network.Rule      // that translated its destination, or nil
	Permit        *network.Rule      // the filter rule that let it through, or nil
	Source        *network.Rule      // that translated its source, or nil
	Ticket        Ticket             // of the grant of its source, or zero
	Size          int                // of the first packet, in bytes, where that was said

	images [2]int // of the first packet, as it came and as it left, in a set
}

// came and left return the images of the first packet, as it came and as it left.
func (s *Session) came() *flow.Image { return flow.ImageOf(s.Before, s.images[0]) }

func (s *Session) left() *flow.Image { return flow.ImageOf(s.After, s.images[1]) }

// A Direction is which way a packet of a session goes.
type Direction uint8

// The directions.
const (
	Forth Direction = iota // as its first packet
	Back                   // as what answers that
)

// A Lease is the wish for a translated address and port.
type Lease struct {
	Packet   header.Packet    // as it will leave, but for its source, which is as before
	Pool     header.Addresses // of one family, tried in order
	Ports    header.Ports     // to choose from; zero: see network.WithoutPorts
	KeepPort bool             // its own port is among them, and is kept where it is free
	Mapping  network.MappingBehavior
}

// A Grant is a translated address and port.
type Grant struct {
	Address netip.Addr
	Port    uint16
	Alone   bool   // no session has it, so none leaves like the packet that gets it
	Ticket  Ticket // given back with the session
}

// A Ticket is what a state knows a grant by, which is nobody else's concern.
type Ticket struct{ A, B uint32 }

// State is what one gateway remembers between packets. What its methods are given by pointer
// they do not keep. It has two implementations: the few
// sessions of a trace, and the store of a running gateway, internal/sessions.
type State interface {
	// Find finds the session that a packet belongs to and which way it goes, and notes
	// that it has passed, with its size in bytes. What begins a connection, where that can be
	// told, answers nothing.
	Find(p *header.Packet, part header.Part, size int, found *Session) (Direction, bool)
	// Mapped returns the mapping that a packet is for which arrives by an interface, or nil.
	Mapped(in *network.Interface, p *header.Packet) *Mapping
	// Take grants the address and port that a source gets. An inside address and port that
	// has one already keeps it, the lowest of several, for every destination or for the same
	// one, as the gateway maps (RFC 4787, 4.1); so does one that has a mapping, and nobody else gets the mapping's
	// port. It returns false where none is free.
	Take(l *Lease, grant *Grant) bool
	// Distinct returns the source port with which no session leaves like a packet that will
	// leave like final: its own, or the next one of ports (zero: network.WithoutPorts). It
	// returns false where there is none.
	Distinct(final header.Packet, ports header.Ports, mapping network.MappingBehavior) (uint16, bool)
	// Keep remembers a session. It returns false where there is no room for it.
	Keep(s *Session) bool
}

// The ports that a source gets where its own is taken and the rule names none.
var otherPorts = header.Ports{First: 1024, Last: 65535}

// NextPort returns the next port after one that is free, among those of a rule, or those of
// network.WithoutPorts where it names none; from the first on where after is none of them.
// It asks for each port once at most.
func NextPort(ports header.Ports, after uint16, free func(uint16) bool) (uint16, bool) {
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

// Binds reports whether the source port of a session stands for packets that leave like
// final, by a mapping behavior: it hides behind the same address, and, where that matters,
// goes to the same destination. Without ports the destination always matters.
func (s *Session) Binds(final *header.Packet, mapping network.MappingBehavior) bool {
	if s.Local || s.After.Source != final.Source || s.After.Protocol != final.Protocol {
		return false
	}
	sameAddress := s.After.Destination == final.Destination
	switch {
	case !final.Protocol.Numbered():
		return sameAddress
	case mapping == network.AddressDependent:
		return sameAddress
	case mapping == network.AddressAndPortDependent:
		return sameAddress && s.After.DestinationPort == final.DestinationPort
	}
	return true
}
