package engine

import (
	"cmp"
	"math/bits"
	"slices"
)

// Spots finds conditions for one port of one IPv4 address.
type spots struct {
	slots []slot // found by hash; the next free one where one is taken
	shift int
	rest  []member // those of one spot side by side, in order
}

// A slot is a spot and its members: the first, and count others in rest. It is as large
// as a line of memory; it is free where the spot is 0.
type slot struct {
	spot        uint64
	rest, count int32
	first       member
}

// spotOf returns the spot that a condition is for, or false where it is for more.
func spotOf(c *condition) (spot uint64, ok bool) {
	if c.to.any || !c.to.isOneRange() || len(c.services) != 1 {
		return 0, false
	}
	to, s := c.to.all.Ranges()[0], c.services[0]
	if to.First != to.Last || !s.Protocol.HasPorts() || s.Ports.First != s.Ports.Last {
		return 0, false
	}
	address, _ := addressKeys(to.First)
	return spotKey(address, serviceKey(s.Protocol, s.Ports.First)), true
}

func spotKey(address uint64, service uint32) uint64 { return address<<32 | uint64(service) }

func newSpots(b builder, conditions []int32) spots {
	type member struct {
		spot   uint64
		number int32
	}
	list := make([]member, len(conditions))
	for i, number := range conditions {
		list[i].spot, _ = spotOf(&b.conditions[number])
		list[i].number = number
	}
	slices.SortFunc(list, func(x, y member) int { return cmp.Or(cmp.Compare(x.spot, y.spot), cmp.Compare(x.number, y.number)) })
	var s spots
	if len(list) == 0 {
		return s
	}
	size := bits.Len(uint(2 * len(list)))
	s.slots, s.shift = make([]slot, 1<<size), 64-size
	for i, m := range list {
		if i > 0 && list[i-1].spot == m.spot {
			s.rest = append(s.rest, b.member(m.number))
			s.slot(m.spot).count++
		} else {
			*s.slot(m.spot) = slot{spot: m.spot, rest: int32(len(s.rest)), first: b.member(m.number)}
		}
	}
	return s
}

// slot returns where a spot is, or would be.
func (s *spots) slot(spot uint64) *slot {
	for at := int(spot * 0x9e3779b97f4a7c15 >> s.shift); ; at = (at + 1) & (len(s.slots) - 1) {
		if found := &s.slots[at]; found.spot == 0 || found.spot == spot {
			return found
		}
	}
}

// find returns the number of the first condition that a packet meets, or noMatch.
func (s *spots) find(t *table, q *query) int32 {
	if len(s.slots) == 0 || q.family != 0 {
		return noMatch
	}
	found := s.slot(spotKey(q.keys[destinationField], q.service))
	if found.spot == 0 {
		return noMatch
	}
	if found.first.isFor(t, q) {
		return found.first.number
	}
	rest := s.rest[found.rest : found.rest+found.count]
	for i := range rest {
		if rest[i].isFor(t, q) {
			return rest[i].number
		}
	}
	return noMatch
}

// isFor reports whether a packet that goes to the spot of a member meets its condition.
func (m *member) isFor(t *table, q *query) bool {
	return m.source.contains(q.keys[sourceField]) && t.meets(m, q)
}
