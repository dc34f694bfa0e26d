package flowset

import (
	"cmp"
	"math/big"
	"math/bits"
	"net/netip"
	"slices"

	"hollowbridge/core/header"
)

// A Field is one of the fields a connection is made of.
type Field uint8

// The fields, in the order in which sets of connections decide about them.
const (
	Protocol Field = iota
	Destination
	Port // of the destination
	Source
	SourcePort
	Time // which of the moments that a space knows
	Fields
)

// Opposite returns the field of an answer in which the field of a packet stands.
func (f Field) Opposite() Field {
	switch f {
	case Source:
		return Destination
	case Destination:
		return Source
	case SourcePort:
		return Port
	case Port:
		return SourcePort
	}
	return f
}

// A number is a field's value: an address as Number gives it, a port, a protocol.
type number struct{ high, low uint64 }

func (n number) less(m number) bool { return n.high < m.high || n.high == m.high && n.low < m.low }

func (n number) compare(m number) int {
	return cmp.Or(cmp.Compare(n.high, m.high), cmp.Compare(n.low, m.low))
}

func (n number) plus(m number) number {
	low, carry := bits.Add64(n.low, m.low, 0)
	high, _ := bits.Add64(n.high, m.high, carry)
	return number{high, low}
}

func (n number) minus(m number) number {
	low, borrow := bits.Sub64(n.low, m.low, 0)
	high, _ := bits.Sub64(n.high, m.high, borrow)
	return number{high, low}
}

var one = number{low: 1}

// largest is the largest value of each field of packets; that of Time is the space's own.
var largest = [Fields]number{
	Protocol: {low: 255}, Port: {low: 65535}, SourcePort: {low: 65535},
	Destination: {^uint64(0), ^uint64(0)}, Source: {^uint64(0), ^uint64(0)},
}

// A Span is the values of a field from first to last.
type Span struct{ first, last number }

// AddressSpan returns the addresses of a range as a span.
func AddressSpan(r header.Range) Span { return Span{numberOf(r.First), numberOf(r.Last)} }

// MomentSpan returns the moments from first to last as a span, by their numbers.
func MomentSpan(first, last int) Span {
	return Span{number{low: uint64(first)}, number{low: uint64(last)}}
}

// Moments returns the numbers of the first and the last moment of a span of them.
func (s Span) Moments() (first, last int) { return int(s.first.low), int(s.last.low) }

// PortSpan returns the numbers from first to last as a span, for ports and protocols.
func PortSpan(first, last uint16) Span {
	return Span{number{low: uint64(first)}, number{low: uint64(last)}}
}

func numberOf(a netip.Addr) number {
	high, low := header.Number(a)
	return number{high, low}
}

// address returns the number as the address it stands for, IPv4 where it is one.
func (n number) address() netip.Addr { return n.wide().Unmap() }

// mapped are the IPv6 addresses whose numbers IPv4 addresses have. No packet
// carries them.
var (
	mappedRange = header.Range{
		First: netip.AddrFrom16([16]byte{10: 0xff, 11: 0xff}),
		Last:  netip.AddrFrom16([16]byte{10: 0xff, 11: 0xff, 12: 0xff, 13: 0xff, 14: 0xff, 15: 0xff}),
	}
	mapped = header.AddressesOf(mappedRange)
)

// AddressSpans returns a set of addresses as spans, sorted as numbers.
func AddressSpans(set header.Addresses) []Span {
	ranges := set.Ranges()
	if n := len(ranges); n > 0 && ranges[n-1].First.Is6() {
		ranges = set.Minus(mapped).Ranges()
	}
	spans := make([]Span, len(ranges))
	for i, r := range ranges {
		spans[i] = AddressSpan(r)
	}
	if n := len(ranges); n > 0 && ranges[0].First.Is4() && ranges[n-1].First.Is6() { // as numbers, those of IPv4 lie among them
		slices.SortFunc(spans, func(a, b Span) int { return a.first.compare(b.first) })
	}
	return spans
}

// wide returns the number as an IPv6 address.
func (n number) wide() netip.Addr {
	var b [16]byte
	for i := range 8 {
		b[i], b[8+i] = byte(n.high>>(56-8*i)), byte(n.low>>(56-8*i))
	}
	return netip.AddrFrom16(b)
}

// ranges returns a span of addresses as ranges: the numbers of IPv4 addresses are those.
func (s Span) ranges() []header.Range {
	first4, last4 := numberOf(mappedRange.First), numberOf(mappedRange.Last)
	var found []header.Range
	if s.first.less(first4) {
		last := s.last
		if !last.less(first4) {
			last = first4.minus(one)
		}
		found = append(found, header.Range{First: s.first.wide(), Last: last.wide()})
	}
	if !s.last.less(first4) && !last4.less(s.first) {
		first, last := s.first, s.last
		if first.less(first4) {
			first = first4
		}
		if last4.less(last) {
			last = last4
		}
		found = append(found, header.Range{First: first.address(), Last: last.address()})
	}
	if last4.less(s.last) {
		first := s.first
		if !last4.less(first) {
			first = last4.plus(one)
		}
		found = append(found, header.Range{First: first.wide(), Last: s.last.wide()})
	}
	return found
}

// size returns how many values a span has.
func (s Span) size() *big.Int {
	width := s.last.minus(s.first)
	size := new(big.Int).Lsh(new(big.Int).SetUint64(width.high), 64)
	size.Or(size, new(big.Int).SetUint64(width.low))
	return size.Add(size, big.NewInt(1))
}

// A Member is a connection of a set: a packet, and at which of the moments that the space knows.
type Member struct {
	header.Packet
	Moment int // 0 for the first
}

func valuesOf(p Member) [Fields]number {
	return [Fields]number{
		Protocol: {low: uint64(p.Protocol)}, Destination: numberOf(p.Destination), Port: {low: uint64(p.DestinationPort)},
		Source: numberOf(p.Source), SourcePort: {low: uint64(p.SourcePort)}, Time: {low: uint64(p.Moment)},
	}
}

func memberOf(values [Fields]number) Member {
	return Member{header.Packet{
		Source: values[Source].address(), Destination: values[Destination].address(),
		SourcePort: uint16(values[SourcePort].low), DestinationPort: uint16(values[Port].low),
		Protocol: header.Protocol(values[Protocol].low),
	}, int(values[Time].low)}
}

// Same reports whether two packets are equal in a field.
func Same(p, q header.Packet, f Field) bool {
	return valuesOf(Member{Packet: p})[f] == valuesOf(Member{Packet: q})[f]
}
