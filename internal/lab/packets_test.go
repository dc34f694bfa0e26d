package lab

import (
	"encoding/binary"
	"net/netip"
	"testing"

	"hollowbridge/core/header"
)

// packetOf writes an IP packet with a number in its class of service.
func packetOf(p header.Packet, number byte, carried []byte) []byte {
	if p.Source.Is4() {
		b := make([]byte, 20, 20+len(carried))
		b[0], b[1], b[8], b[9] = 0x45, number<<2, 64, byte(p.Protocol)
		copy(b[12:], p.Source.AsSlice())
		copy(b[16:], p.Destination.AsSlice())
		return append(b, carried...)
	}
	b := make([]byte, 40, 40+len(carried))
	binary.BigEndian.PutUint32(b, 6<<28|uint32(number)<<22)
	b[6], b[7] = byte(p.Protocol), 64
	if p.Protocol == header.ICMP {
		b[6] = 58
	}
	copy(b[8:], p.Source.AsSlice())
	copy(b[24:], p.Destination.AsSlice())
	return append(b, carried...)
}

func ports(p header.Packet, length int) []byte {
	b := make([]byte, length)
	binary.BigEndian.PutUint16(b, p.SourcePort)
	binary.BigEndian.PutUint16(b[2:], p.DestinationPort)
	return b
}

func tcpOf(p header.Packet, flags byte) []byte {
	b := ports(p, 20)
	b[13] = flags
	return b
}

func TestPacketsAreReadFromTheWire(t *testing.T) {
	four := header.Packet{Source: netip.MustParseAddr("203.0.113.9"), Destination: netip.MustParseAddr("198.51.100.18"), SourcePort: 40000, DestinationPort: 443, Protocol: header.TCP}
	six := header.Packet{Source: netip.MustParseAddr("2001:db8::9"), Destination: netip.MustParseAddr("2001:db8:61::2"), SourcePort: 40000, DestinationPort: 53, Protocol: header.UDP}
	pinged := header.Packet{Source: four.Source, Destination: four.Destination, SourcePort: 7, Protocol: header.ICMP}
	pinged6 := header.Packet{Source: six.Source, Destination: six.Destination, SourcePort: 7, Protocol: header.ICMP}
	router := header.Packet{Source: netip.MustParseAddr("198.51.100.17"), Destination: four.Source, Protocol: header.ICMP}
	router6 := header.Packet{Source: netip.MustParseAddr("2001:db8:61::1"), Destination: six.Source, Protocol: header.ICMP}
	associated := four
	associated.Protocol, associated.DestinationPort = header.SCTP, 2905
	tunnelled := header.Packet{Source: four.Source, Destination: four.Destination, Protocol: header.GRE}
	secret := header.Packet{Source: six.Source, Destination: six.Destination, Protocol: header.ESP}
	echo := ping(pinged)
	echoAnswer, echo6 := append([]byte{}, echo...), ping(pinged6)
	echoAnswer[0] = 0
	report := func(kind, code byte, quoted []byte) []byte {
		return append([]byte{kind, code, 0, 0, 0, 0, 0, 0}, quoted...)
	}
	for _, c := range []struct {
		name   string
		packet header.Packet
		bytes  []byte
		kind   Kind
		words  string
		quoted header.Packet
		first  bool
	}{
		{name: "the beginning of a TCP connection", packet: four, bytes: tcpOf(four, 2), kind: Begins, words: "begins", first: true},
		{name: "the second packet", packet: four, bytes: tcpOf(four, 18), kind: Agrees, words: "agrees"},
		{name: "a reset", packet: four, bytes: tcpOf(four, 20), kind: Resets, words: "reset"},
		{name: "what follows", packet: four, bytes: tcpOf(four, 16), words: "goes on"},
		{name: "UDP over IPv6", packet: six, bytes: ports(six, 8), first: true},
		{name: "a ping", packet: pinged, bytes: echo, kind: Asks, words: "ping", first: true},
		{name: "its answer", packet: pinged, bytes: echoAnswer, kind: Answers, words: "ping answered"},
		{name: "a ping over IPv6", packet: pinged6, bytes: echo6, kind: Asks, words: "ping", first: true},
		{name: "the beginning of an association", packet: associated, bytes: sctp(associated, 0, 1), first: true},
		{name: "GRE", packet: tunnelled, bytes: firstOf(tunnelled), first: true},
		{name: "ESP over IPv6", packet: secret, bytes: firstOf(secret), first: true},
		{name: "an error", packet: router, bytes: report(3, 1, packetOf(four, 5, tcpOf(four, 2))), kind: Unreachable, words: "nobody has that address", quoted: four},
		{name: "an error over IPv6", packet: router6, bytes: report(1, 1, packetOf(six, 5, ports(six, 8))), kind: Unreachable, words: "prohibited", quoted: six},
	} {
		t.Run(c.name, func(t *testing.T) {
			s, ok := parse(packetOf(c.packet, 5, c.bytes))
			if !ok || s.Packet != c.packet || s.Number != 5 || s.Kind != c.kind || s.Words() != c.words || s.Quoted != c.quoted || s.IsFirst() != c.first {
				t.Errorf("%v, %+v", ok, s)
			}
		})
		for cut := range c.bytes {
			parse(packetOf(c.packet, 5, c.bytes[:cut])) // nothing torn may be read past its end
		}
	}
	for name, bytes := range map[string][]byte{
		"nothing": {}, "no IP": {0x25, 0, 0, 20, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}, "a header longer than the packet": append([]byte{0x4f}, make([]byte, 19)...),
		"neighbor discovery": packetOf(pinged6, 0, []byte{135, 0, 0, 0, 0, 0, 0, 0}), "an error about nothing": packetOf(router, 0, report(3, 1, nil)),
	} {
		if s, ok := parse(bytes); ok {
			t.Errorf("%s is read as %+v", name, s)
		}
	}
}

// The checksum of what the lab writes is right: it adds up to nothing.
func TestAPingAddsUp(t *testing.T) {
	p := header.Packet{Source: netip.MustParseAddr("203.0.113.9"), Destination: netip.MustParseAddr("198.51.100.18"), Protocol: header.ICMP}
	for id := range 3000 {
		p.SourcePort = uint16(id * 21)
		sum := uint32(0)
		b := ping(p)
		for i := 0; i < len(b); i += 2 {
			sum += uint32(binary.BigEndian.Uint16(b[i:]))
		}
		for sum>>16 > 0 {
			sum = sum>>16 + sum&0xffff
		}
		if sum != 0xffff {
			t.Fatalf("identifier %d: %04x", p.SourcePort, sum)
		}
	}
}
