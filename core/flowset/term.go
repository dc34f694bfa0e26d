package flowset

import (
	"net/netip"

	"hollowbridge/core/header"
)

// A Term is what a field of a packet on its way is in terms of the connection it
// was at first: one of its fields and what was added to it, or a constant.
type Term struct {
	Field    Field
	constant bool
	number   number // the constant, or what was added
}

// Constant returns the term for an address.
func Constant(a netip.Addr) Term { return Term{constant: true, number: numberOf(a)} }

// ConstantPort returns the term for a port.
func ConstantPort(port uint16) Term { return Term{constant: true, number: number{low: uint64(port)}} }

// Original returns the term for a field that was not changed.
func Original(f Field) Term { return Term{Field: f} }

// Shifted returns the term for what a range from becomes when it is mapped to one
// that begins at to.
func (t Term) Shifted(from, to netip.Addr) Term {
	t.number = t.number.plus(numberOf(to).minus(numberOf(from)))
	return t
}

// ShiftedPort is Shifted for ports.
func (t Term) ShiftedPort(from, to uint16) Term {
	t.number = t.number.plus(number{low: uint64(to)}.minus(number{low: uint64(from)}))
	if !t.constant {
		return t
	}
	t.number = number{low: t.number.low & 0xffff}
	return t
}

// Terms are what each field of a packet is in terms of the connection at first.
type Terms [Fields]Term

// OriginalTerms are those of a packet that nothing has changed.
func OriginalTerms() Terms {
	var t Terms
	for f := range Fields {
		t[f] = Original(f)
	}
	return t
}

// Answer returns the terms of the packet that answers.
func (t Terms) Answer(protocol header.Protocol) Terms {
	back := t
	back[Source], back[Destination] = t[Destination], t[Source]
	back[SourcePort], back[Port] = t[Port], t[SourcePort]
	if protocol == header.ICMP {
		back[SourcePort], back[Port] = t[SourcePort], ConstantPort(0)
	}
	return back
}

// Apply returns what a connection's packet is by the terms.
func (t Terms) Apply(p header.Packet) header.Packet {
	values := valuesOf(Member{Packet: p})
	var now [Fields]number
	for f, term := range t[:Time] { // moments stay what they are
		now[f] = term.number
		if !term.constant {
			now[f] = values[term.Field].plus(term.number)
		}
		if limit := largest[f]; limit.high == 0 {
			now[f] = number{low: now[f].low & limit.low}
		}
	}
	return memberOf(now).Packet
}

// Addresses returns what addresses of the term's field become.
func (t Term) Addresses(of header.Addresses) header.Addresses {
	if t.constant {
		return header.Single(t.number.address())
	}
	var ranges []header.Range
	for _, s := range AddressSpans(of) {
		moved := Span{s.first.plus(t.number), s.last.plus(t.number)}
		ranges = append(ranges, moved.ranges()...)
	}
	return header.AddressesOf(ranges...)
}

// IsConstant reports whether the term does not depend on the connection.
func (t Term) IsConstant() bool { return t.constant }
