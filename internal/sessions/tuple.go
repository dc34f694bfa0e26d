package sessions

import (
	"encoding/binary"
	"math/bits"
	"math/rand/v2"
	"net/netip"
	"slices"
	"sync/atomic"
	"unsafe"

	"hollowbridge/core/header"
)

// An address is one of IPv4 or of IPv6, without a pointer.
type address interface{ four | six }

type four uint32

type six struct{ high, low uint64 }

// isFour reports whether addresses are of IPv4; inFour and inSix are where one lies then, or else.
func isFour[A address]() bool { return unsafe.Sizeof(*new(A)) == unsafe.Sizeof(four(0)) }

func inFour[A address](a *A) *four { return (*four)(unsafe.Pointer(a)) }

func inSix[A address](a *A) *six { return (*six)(unsafe.Pointer(a)) }

// addressOf returns an address; one of IPv4 is none of IPv6, and the other way round.
func addressOf[A address](a netip.Addr) (made A) {
	switch {
	case !isFour[A]():
		*inSix(&made) = sixOf(a)
	case a.Is4():
		*inFour(&made) = four(header.Four(a))
	}
	return made
}

func sixOf(a netip.Addr) six {
	high, low := header.Number(a)
	return six{high, low}
}

func addrOf[A address](a A) netip.Addr {
	if isFour[A]() {
		var bytes [4]byte
		binary.BigEndian.PutUint32(bytes[:], uint32(*inFour(&a)))
		return netip.AddrFrom4(bytes)
	}
	var bytes [16]byte
	binary.BigEndian.PutUint64(bytes[:8], inSix(&a).high)
	binary.BigEndian.PutUint64(bytes[8:], inSix(&a).low)
	return netip.AddrFrom16(bytes)
}

// A tuple is a packet without a pointer.
type tuple[A address] struct {
	source, destination A
	ports
}

// Ports are those of a packet and its protocol in one word, so that a processor need not put together what it
// has just written in parts.
type ports uint64

func portsOf(source, destination uint16, protocol header.Protocol) ports {
	return ports(source)<<32 | ports(destination)<<16 | ports(protocol)
}

func (p ports) sourcePort() uint16 { return uint16(p >> 32) }

func (p ports) destinationPort() uint16 { return uint16(p >> 16) }

func (p ports) protocol() header.Protocol { return header.Protocol(p) }

// from returns the ports with another source port.
func (p ports) from(source uint16) ports { return portsOf(source, p.destinationPort(), p.protocol()) }

// answer returns the ports of what answers: an echo reply has the identifier of its request.
func (p ports) answer() ports {
	if p.protocol() == header.ICMP {
		return portsOf(p.sourcePort(), 0, header.ICMP)
	}
	return portsOf(p.destinationPort(), p.sourcePort(), p.protocol())
}

func tupleOf[A address](p *header.Packet) (t tuple[A]) {
	t.ports = portsOf(p.SourcePort, p.DestinationPort, p.Protocol)
	switch {
	case !isFour[A]():
		*inSix(&t.source), *inSix(&t.destination) = sixOf(p.Source), sixOf(p.Destination)
	case p.Source.Is4() && p.Destination.Is4():
		*inFour(&t.source), *inFour(&t.destination) = four(header.Four(p.Source)), four(header.Four(p.Destination))
	}
	return t
}

func (t *tuple[A]) packet() header.Packet {
	return header.Packet{Source: addrOf(t.source), Destination: addrOf(t.destination), SourcePort: t.sourcePort(), DestinationPort: t.destinationPort(), Protocol: t.protocol()}
}

// seeds make hashes unforeseeable, so that nobody can choose packets that all fall in one
// chain.
var seeds = [3]uint64{rand.Uint64() | 1, rand.Uint64() | 1, rand.Uint64() | 1}

// mix is a multiplication to 128 bits whose halves are folded, as in many hash functions.
func mix(a, b uint64) uint64 {
	high, low := bits.Mul64(a, b)
	return high ^ low
}

// hashOf returns a hash of two addresses and of what else there is.
func hashOf[A address](a, b A, rest uint64) uint64 {
	if isFour[A]() {
		return mix(mix(uint64(*inFour(&a))<<32^uint64(*inFour(&b))^seeds[0], rest^seeds[1]), seeds[2])
	}
	before := mix(inSix(&b).high^seeds[0]^rest, inSix(&b).low^seeds[1])
	return mix(mix(inSix(&a).high^seeds[0]^before, inSix(&a).low^seeds[1]), seeds[2])
}

func (t *tuple[A]) hash() uint64 {
	return hashOf(t.source, t.destination, uint64(t.ports))
}

// A table finds numbers by a hash: several may have the same one. It is a hash table with open
// addressing, linear probing, and deletion that moves up what lies behind (D. Knuth, The Art of
// Computer Programming, 6.4, algorithms L and R): who looks for something touches one line of
// memory, mostly.
type table struct {
	arena *arena
	where atomic.Uintptr // its slots, for warm
	width atomic.Uintptr // as mask, for warm
	slots []tableSlot    // a power of two, at most half of them in use
	count int
}

// A tableSlot is one number, one more than it is, or 0 for none, and the half of its hash that says
// where it belongs.
type tableSlot struct {
	mark   uint32
	number int32
}

// A cursor is how far a look at the numbers of a hash has come.
type cursor struct{ at, mark uint32 }

const none = int32(-1)

// first returns the first number of a hash, or none; next goes on behind it.
func (t *table) first(hash uint64) (int32, cursor) {
	c := cursor{uint32(hash) & t.mask(), uint32(hash)}
	return t.from(&c), c
}

// warm asks the processor for where a hash belongs. It needs no lock.
func (t *table) warm(hash uint64) {
	prefetch(t.where.Load() + uintptr(hash)&t.width.Load()*unsafe.Sizeof(tableSlot{}))
}

func (t *table) next(c *cursor) int32 {
	c.at = (c.at + 1) & t.mask()
	return t.from(c)
}

func (t *table) mask() uint32 { return uint32(len(t.slots) - 1) }

// from returns the first number of a hash from a slot on. A table has no slots before something is added.
func (t *table) from(c *cursor) int32 {
	for c.at < uint32(len(t.slots)) {
		s := t.slots[c.at]
		if s.number == 0 {
			break
		}
		if s.mark == c.mark {
			return s.number - 1
		}
		c.at = (c.at + 1) & t.mask()
	}
	return none
}

// add adds a number behind those that its hash has.
func (t *table) add(number int32, hash uint64) {
	if 2*t.count >= len(t.slots) {
		t.grow()
	}
	t.put(tableSlot{uint32(hash), number + 1})
	t.count++
}

func (t *table) put(s tableSlot) {
	at := s.mark & t.mask()
	for t.slots[at].number != 0 {
		at = (at + 1) & t.mask()
	}
	t.slots[at] = s
}

// grow makes the table twice as large. What has one hash stays in its order: it is put again from
// behind a gap on.
func (t *table) grow() {
	old := t.slots
	t.slots = take[tableSlot](t.arena, max(64, 2*len(old)))
	t.where.Store(uintptr(unsafe.Pointer(unsafe.SliceData(t.slots))))
	t.width.Store(uintptr(t.mask()))
	gap := slices.IndexFunc(old, func(s tableSlot) bool { return s.number == 0 })
	for _, part := range [][]tableSlot{old[max(gap, 0):], old[:max(gap, 0)]} {
		for _, s := range part {
			if s.number != 0 {
				t.put(s)
			}
		}
	}
	if old != nil {
		give(t.arena, old)
	}
}

// remove takes a number out that was added with a hash.
func (t *table) remove(number int32, hash uint64) {
	at := uint32(hash) & t.mask()
	for t.slots[at].number != number+1 {
		at = (at + 1) & t.mask()
	}
	for next := (at + 1) & t.mask(); t.slots[next].number != 0; next = (next + 1) & t.mask() {
		// It may move up unless it belongs behind the gap.
		if home := t.slots[next].mark & t.mask(); (next-home)&t.mask() >= (next-at)&t.mask() {
			t.slots[at], at = t.slots[next], next
		}
	}
	t.slots[at] = tableSlot{}
	t.count--
}
