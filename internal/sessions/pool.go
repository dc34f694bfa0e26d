package sessions

import (
	"maps"
	"net/netip"
	"sync"
	"sync/atomic"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
)

// A pool is which addresses of a source rule have no port left, so that one of many
// addresses that are nearly all full is not looked through from its beginning each time.
// An inside address and port that has a port at a full one still gets that; which ones may
// have one is counted by a hash.
type pool struct {
	size  int
	fulls atomic.Int32
	sync.Mutex
	full portSet         // by the number of the address
	may  []atomic.Uint32 // four counters each
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

// poolOf returns the pool of a lease, nil where none is remembered.
func (s *Store) poolOf(l *engine.Lease) *pool {
	ranges := l.Pool.Ranges()
	if len(ranges) == 0 || len(ranges) == 1 && ranges[0].First == ranges[0].Last || !l.Final.Protocol.Numbered() {
		return nil
	}
	key := poolKey{&ranges[0], len(ranges), l.Final.Protocol, l.Ports}
	if known := (*s.pools.Load())[key]; known != nil {
		return known
	}
	size := int(min(l.Pool.Size(), mostPooled+1))
	if size > mostPooled {
		return nil
	}
	words := 1 << 15
	for words < size<<17 && words < 1<<22 { // eight counters a port, so that few are of several
		words *= 2
	}
	made := &pool{size: size, may: make([]atomic.Uint32, words)}
	for { // a pool is new only once in a revision, so all are copied
		known := s.pools.Load()
		if other := (*known)[key]; other != nil {
			return other
		}
		all := maps.Clone(*known)
		all[key] = made
		if s.pools.CompareAndSwap(known, &all) {
			return made
		}
	}
}

// next returns the first address from a number on that may have a port left.
func (p *pool) next(from int) (number int, ok bool) {
	switch {
	case from >= p.size:
		return 0, false
	case p.fulls.Load() == 0:
		return from, true
	}
	p.Lock()
	defer p.Unlock()
	n, ok := p.full.free(uint16(from), uint16(p.size-1))
	return int(n), ok
}

// counters returns two of the counters of a hash: which words they are in, side by side in one line of
// memory, and at which bits.
func (p *pool) counters(hash uint64) (word [2]*atomic.Uint32, shift [2]uint64) {
	first := hash >> 8 & uint64(len(p.may)-1)
	return [2]*atomic.Uint32{&p.may[first], &p.may[first^(1+hash>>40%15)]}, [2]uint64{8 * (hash & 3), 8 * (hash >> 2 & 3)}
}

// count notes that the inside addresses and ports of a hash have one port more, or fewer.
func (p *pool) count(hash uint64, more bool) {
	words, shifts := p.counters(hash)
	for i, word := range words {
		one := uint32(1) << shifts[i]
		if !more {
			one = -one
		}
		word.Add(one)
	}
}

// has reports whether the inside addresses and ports of a hash may have a port: two counters in a
// Bloom filter that counts (Fan and others 2000).
func (p *pool) has(hash uint64) bool {
	words, shifts := p.counters(hash)
	for i, word := range words {
		if byte(word.Load()>>shifts[i]) == 0 {
			return false
		}
	}
	return true
}

// set notes whether an address is full.
func (w watch) set(full bool) {
	w.pool.Lock()
	defer w.pool.Unlock()
	switch has := w.pool.full.has(w.number); {
	case full && !has:
		w.pool.full.add(w.number)
		w.pool.fulls.Add(1)
	case !full && has:
		w.pool.full.remove(w.number)
		w.pool.fulls.Add(-1)
	}
}

// nth returns an address of a set by its number.
func nth(set header.Addresses, number int) netip.Addr {
	for _, r := range set.Ranges() {
		if a := plus(r.First, number); r.Contains(a) {
			return a
		}
		number -= r.Count()
	}
	return netip.Addr{}
}

// plus returns the address that lies so many behind another.
func plus(a netip.Addr, number int) netip.Addr {
	bytes := a.As16()
	for i := 15; number > 0; i-- {
		number += int(bytes[i])
		bytes[i] = byte(number)
		number >>= 8
	}
	if a.Is4() {
		return netip.AddrFrom16(bytes).Unmap()
	}
	return netip.AddrFrom16(bytes)
}
