package sessions

import (
	"maps"
	"math"
	"math/bits"
	"net/netip"
	"sync"
	"sync/atomic"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A pool is which addresses of a source rule have no port left, so that one of many
// addresses that are nearly all full is not looked through from its beginning each time.
type pool struct {
	key   poolKey
	size  int
	first atomic.Int32 // that is not full; as many as there are where all are
	sync.Mutex
	full portSet // by the number of the address
}

// A poolKey names the addresses of a rule, which are the same as long as a revision runs,
// and the ports that are asked for.
type poolKey struct {
	first    *header.Range
	count    int
	protocol header.Protocol
	ports    header.Ports
}

// mostPooled is how many addresses a pool has at most of which that is remembered.
const mostPooled = 1 << 12

// A watch is a pool that has to hear what becomes of one of its addresses.
type watch struct {
	pool   *pool
	number uint16
}

// poolOf returns the pool of a lease, nil where none is remembered: of one address, and where what is full
// depends on the destination.
func (c *common) poolOf(names *names, l *engine.Lease) *pool {
	ranges := l.Pool.Ranges()
	if names.mapping != network.EndpointIndependent || len(ranges) == 0 || len(ranges) == 1 && ranges[0].First == ranges[0].Last || !l.Packet.Protocol.Numbered() {
		return nil
	}
	key := poolKey{&ranges[0], len(ranges), l.Packet.Protocol, l.Ports}
	if last := c.pool.Load(); last != nil && last.key == key {
		return last
	}
	if known := (*c.pools.Load())[key]; known != nil {
		c.pool.Store(known)
		return known
	}
	size := l.Pool.Size().UpTo(mostPooled + 1)
	if size > mostPooled {
		return nil
	}
	made := &pool{key: key, size: size}
	for { // a pool is new only once in a revision, so all are copied
		known := c.pools.Load()
		if other := (*known)[key]; other != nil {
			return other
		}
		all := maps.Clone(*known)
		all[key] = made
		if c.pools.CompareAndSwap(known, &all) {
			return made
		}
	}
}

// next returns the first address from a number on that may have a port left: just that one where nothing
// is remembered.
func (p *pool) next(from int) (number int, ok bool) {
	switch {
	case p == nil:
		return from, true
	case from == 0:
		first := int(p.first.Load())
		return first, first < p.size
	case from >= p.size:
		return 0, false
	}
	p.Lock()
	defer p.Unlock()
	n, ok := p.full.free(uint16(from), uint16(p.size-1))
	return int(n), ok
}

// set notes whether an address is full.
func (w watch) set(full bool) {
	p := w.pool
	p.Lock()
	defer p.Unlock()
	switch has := p.full.has(w.number); {
	case full && !has:
		p.full.add(w.number)
	case !full && has:
		p.full.remove(w.number)
	}
	first, ok := p.full.free(0, uint16(p.size-1))
	if !ok {
		first = uint16(p.size)
	}
	p.first.Store(int32(first))
}

// nth returns an address of a set by its number, and position the number of an address.
func nth[A address](set header.Addresses, number int) (a A, ok bool) {
	for _, r := range set.Ranges() {
		count := r.Count()
		if number < count || count <= 0 {
			return plus(addressOf[A](r.First), number), true
		}
		number -= count
	}
	return a, false
}

func position(set header.Addresses, a netip.Addr) (number int, ok bool) {
	for _, r := range set.Ranges() {
		before := header.Range{First: r.First, Last: a}.Count() - 1
		switch {
		case r.Contains(a) && before < 0: // as good as never looked at
			return math.MaxInt, true
		case r.Contains(a):
			return number + before, true
		}
		number += r.Count()
	}
	return 0, false
}

// plus returns the address that lies so many behind another.
func plus[A address](a A, number int) A {
	if isFour[A]() {
		*inFour(&a) += four(number)
		return a
	}
	six, carry := inSix(&a), uint64(0)
	six.low, carry = bits.Add64(six.low, uint64(number), 0)
	six.high += carry
	return a
}
