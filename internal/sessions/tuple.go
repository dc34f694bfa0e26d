package sessions

import (
	"encoding/binary"
	"math/bits"
	"math/rand/v2"
	"net/netip"

	"hollowbridge/core/header"
)

// An address is one of either family, without a pointer; IPv4 as IPv6.
type address [16]byte

func addressOf(a netip.Addr) address { return a.As16() }

func (a address) addr() netip.Addr { return netip.AddrFrom16(a).Unmap() }

// A tuple is a packet without a pointer.
type tuple struct {
	source, destination         address
	sourcePort, destinationPort uint16
	protocol                    header.Protocol
}

func tupleOf(p header.Packet) tuple {
	return tuple{addressOf(p.Source), addressOf(p.Destination), p.SourcePort, p.DestinationPort, p.Protocol}
}

func (t *tuple) packet() header.Packet {
	return header.Packet{Source: t.source.addr(), Destination: t.destination.addr(), SourcePort: t.sourcePort, DestinationPort: t.destinationPort, Protocol: t.protocol}
}

// seeds make hashes unforeseeable, so that nobody can choose packets that all fall in one
// chain.
var seeds = [3]uint64{rand.Uint64() | 1, rand.Uint64() | 1, rand.Uint64() | 1}

// mix is a multiplication to 128 bits whose halves are folded, as in many hash functions.
func mix(a, b uint64) uint64 {
	high, low := bits.Mul64(a, b)
	return high ^ low
}

// hash returns a hash of an address, made with what came before it.
func (a *address) hash(before uint64) uint64 {
	high, low := binary.LittleEndian.Uint64(a[:8]), binary.LittleEndian.Uint64(a[8:])
	return mix(high^seeds[0]^before, low^seeds[1])
}

func (t *tuple) hash() uint64 {
	rest := uint64(t.sourcePort)<<32 | uint64(t.destinationPort)<<16 | uint64(t.protocol)
	return mix(t.source.hash(t.destination.hash(rest)), seeds[2])
}

// A table finds numbers by a hash: several may have the same one.
type table struct {
	heads []int32 // of the chains, one more than the number; 0 is none
	links []link  // of each number
	count int
}

// A link is the next one of a chain, likewise, and the hash of the number that has it.
type link struct {
	next int32
	mark uint32
}

const none = int32(-1)

// first returns the first number of a hash, or none; next goes on behind one.
func (t *table) first(hash uint64) int32 {
	if len(t.heads) == 0 {
		return none
	}
	return t.from(t.heads[uint32(hash)&uint32(len(t.heads)-1)], uint32(hash))
}

func (t *table) next(number int32) int32 { return t.from(t.links[number].next, t.links[number].mark) }

// from returns the first number of a hash from a link on.
func (t *table) from(at int32, mark uint32) int32 {
	for at != 0 && t.links[at-1].mark != mark {
		at = t.links[at-1].next
	}
	return at - 1
}

// add puts a number in front of its chain, so that the latest is found first.
func (t *table) add(number int32, hash uint64) {
	if 2*t.count >= len(t.heads) {
		t.grow()
	}
	for int(number) >= len(t.links) {
		t.links = append(t.links, link{})
	}
	t.links[number].mark = uint32(hash)
	t.push(number)
	t.count++
}

func (t *table) push(number int32) {
	head := &t.heads[t.links[number].mark&uint32(len(t.heads)-1)]
	t.links[number].next, *head = *head, number+1
}

// grow doubles the chains; those of one chain stay in their order.
func (t *table) grow() {
	old := t.heads
	t.heads = make([]int32, max(64, 2*len(old)))
	var chain []int32
	for _, at := range old {
		chain = chain[:0]
		for ; at != 0; at = t.links[at-1].next {
			chain = append(chain, at-1)
		}
		for i := len(chain) - 1; i >= 0; i-- {
			t.push(chain[i])
		}
	}
}

// remove takes a number out.
func (t *table) remove(number int32) {
	at := &t.heads[t.links[number].mark&uint32(len(t.heads)-1)]
	for *at != number+1 {
		at = &t.links[*at-1].next
	}
	*at = t.links[number].next
	t.count--
}
