package header

import "net/netip"

// UsualSourcePort is a client's port where any will do: that of trace, and of examples where
// they can have it.
const UsualSourcePort = 40000

// A Packet is the first packet of a connection, or one that answers it, as it
// is at one place on its way. For ICMP echo the identifier stands in SourcePort
// and DestinationPort is 0.
type Packet struct {
	Source, Destination         netip.Addr
	SourcePort, DestinationPort uint16
	Protocol                    Protocol
}

// Answer returns the packet that answers p if nothing translates it.
func (p Packet) Answer() Packet {
	answer := Packet{p.Destination, p.Source, p.DestinationPort, p.SourcePort, p.Protocol}
	if p.Protocol == ICMP { // an echo reply carries the identifier of its request
		answer.SourcePort, answer.DestinationPort = p.SourcePort, 0
	}
	return answer
}

// Service returns the service that the packet is for.
func (p Packet) Service() Service { return ServiceAt(p.Protocol, p.DestinationPort) }

// From writes the sending end, with its port where the protocol has ports.
func (p Packet) From() string { return end(p.Source, p.SourcePort, p.Protocol) }

// To writes the receiving end, with its port where the protocol has ports.
func (p Packet) To() string { return end(p.Destination, p.DestinationPort, p.Protocol) }

func end(a netip.Addr, port uint16, protocol Protocol) string {
	if !protocol.HasPorts() {
		return a.String()
	}
	return netip.AddrPortFrom(a, port).String()
}

// A Part is what a packet is in its connection.
type Part uint8

// The parts. Only of TCP and ICMP can a gateway see them; of what else there is each packet
// Begins as far as it can tell.
const (
	Begins    Part = iota // the first packet: of TCP a SYN, of ICMP an echo request
	Answers               // the first that comes back: a SYN with an ACK, an echo reply
	Continues             // a TCP packet after those, either way
	Finishes              // a TCP packet with a FIN
	Resets                // a TCP packet with a RST
	Reports               // an ICMP error (RFC 792, RFC 4443); the packet is the answer to the one it quotes
)

// HasBeginning reports whether the first packet of a connection can be told from an answer.
func (p Protocol) HasBeginning() bool { return p == TCP || p == ICMP }
