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
