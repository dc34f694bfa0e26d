package engine

import (
	"cmp"
	"math/bits"
	"slices"
)

// Spots finds conditions for one port of one IPv4 address.
type spots struct {
	slots   []slot // found by hash; the next free one where one is taken
	shift   int
	members []member // those of one spot side by side, in order
}

// A slot is a spot and its members; none where count is 0.
type slot struct {
	spot         uint64
	first, count int32
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
		s.members = append(s.members, b.member(m.number))
		if i > 0 && list[i-1].spot == m.spot {
			s.slot(m.spot).count++
		} else {
			*s.slot(m.spot) = slot{m.spot, int32(i), 1}
		}
	}
	return s
}

// slot returns where a spot is, or would be.
func (s *spots) slot(spot uint64) *slot {
	for at := int(spot * 0x9e3779b97f4a7c15 >> s.shift); ; at = (at + 1) & (len(s.slots) - 1) {
		if found := &s.slots[at]; found.count == 0 || found.spot == spot {
			return found
		}
	}
}

// at returns the members of the spot that a packet goes to.
func (s *spots) at(q *query) []member {
	if len(s.slots) == 0 || q.family != 0 {
		return nil
	}
	found := s.slot(spotKey(q.keys[destinationField], q.service))
	return s.members[found.first : found.first+found.count]
}
