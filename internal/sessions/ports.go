package sessions

import "math/bits"

// A portSet is some of the 65536 ports. Few are a list; more are a bitmap of them, above it
// one of the words that are full, and above that one of those.
type portSet struct {
	few  []uint16
	many *portBits
}

type portBits struct {
	ports [1024]uint64
	full  [16]uint64 // of 64 words each
	whole uint16     // of 16
	count int
}

// mostFew is how many ports are a list.
const mostFew = 24

func (s *portSet) has(port uint16) bool {
	if s.many != nil {
		return s.many.ports[port>>6]&(1<<(port&63)) != 0
	}
	for _, p := range s.few {
		if p == port {
			return true
		}
	}
	return false
}

// add adds a port that is not in the set.
func (s *portSet) add(port uint16) {
	if s.many == nil && len(s.few) < mostFew {
		s.few = append(s.few, port)
		return
	}
	if s.many == nil {
		s.many = &portBits{}
		for _, p := range s.few {
			s.many.set(p)
		}
		s.few = nil
	}
	s.many.set(port)
}

// remove removes a port of the set.
func (s *portSet) remove(port uint16) {
	if s.many != nil {
		s.many.clear(port)
		if s.many.count == 0 {
			s.many = nil
		}
		return
	}
	for i, p := range s.few {
		if p == port {
			s.few[i] = s.few[len(s.few)-1]
			s.few = s.few[:len(s.few)-1]
			return
		}
	}
}

func (b *portBits) set(port uint16) {
	word := port >> 6
	b.ports[word] |= 1 << (port & 63)
	b.count++
	if b.ports[word] == ^uint64(0) {
		b.full[word>>6] |= 1 << (word & 63)
		if b.full[word>>6] == ^uint64(0) {
			b.whole |= 1 << (word >> 6)
		}
	}
}

func (b *portBits) clear(port uint16) {
	word := port >> 6
	b.ports[word] &^= 1 << (port & 63)
	b.full[word>>6] &^= 1 << (word & 63)
	b.whole &^= 1 << (word >> 6)
	b.count--
}

// free returns the first port from first to last that is not in the set.
func (s *portSet) free(first, last uint16) (port uint16, ok bool) {
	if s.many == nil {
		for p := int(first); p <= int(last); p++ { // at most one more than are in the list
			if !s.has(uint16(p)) {
				return uint16(p), true
			}
		}
		return 0, false
	}
	port, ok = s.many.free(first)
	return port, ok && port <= last
}

// free returns the first port from first on that is not in the set.
func (b *portBits) free(first uint16) (uint16, bool) {
	word := first >> 6
	if open := ^b.ports[word] &^ (1<<(first&63) - 1); open != 0 {
		return word<<6 + uint16(bits.TrailingZeros64(open)), true
	}
	if word++; word == 1024 {
		return 0, false
	}
	group := word >> 6
	open := ^b.full[group] &^ (1<<(word&63) - 1)
	if open == 0 {
		groups := ^b.whole &^ (1<<(group+1) - 1)
		if groups == 0 {
			return 0, false
		}
		group = uint16(bits.TrailingZeros16(groups))
		open = ^b.full[group]
	}
	word = group<<6 + uint16(bits.TrailingZeros64(open))
	return word<<6 + uint16(bits.TrailingZeros64(^b.ports[word])), true
}
