package table

import (
	"cmp"
	"math/bits"
	"slices"
)

// An exactIndex finds conditions for one port of one IPv4 address.
type exactIndex struct {
	slots []slot // found by hash; the next free one where one is taken
	shift int
	rest  []member // those of one key side by side, in order
}

// A slot is a key and its members: the first, and count others in rest. It is as large
// as a line of memory; it is free where the key is 0.
type slot struct {
	key         uint64
	rest, count int32
	first       member
}

// exactKeyOf returns the key that a condition is for, or false where it is for more.
func exactKeyOf(c *Condition) (key uint64, ok bool) {
	if c.To.Any || !c.To.isOneRange() || len(c.Services) != 1 {
		return 0, false
	}
	to, s := c.To.All.Ranges()[0], c.Services[0]
	if to.First != to.Last || !s.Protocol.HasPorts() || s.Ports.First != s.Ports.Last {
		return 0, false
	}
	address, _ := addressKeys(to.First)
	return exactKey(address, serviceKey(s.Protocol, s.Ports.First)), true
}

func exactKey(address uint64, service uint32) uint64 { return address<<32 | uint64(service) }

func newExactIndex(b builder, conditions []int32) exactIndex {
	type member struct {
		key    uint64
		number int32
	}
	list := make([]member, len(conditions))
	for i, number := range conditions {
		list[i].key, _ = exactKeyOf(&b.conditions[number])
		list[i].number = number
	}
	slices.SortFunc(list, func(x, y member) int { return cmp.Or(cmp.Compare(x.key, y.key), cmp.Compare(x.number, y.number)) })
	var s exactIndex
	if len(list) == 0 {
		return s
	}
	size := bits.Len(uint(2 * len(list)))
	s.slots, s.shift = make([]slot, 1<<size), 64-size
	for i, m := range list {
		if i > 0 && list[i-1].key == m.key {
			s.rest = append(s.rest, b.member(m.number))
			s.slot(m.key).count++
		} else {
			*s.slot(m.key) = slot{key: m.key, rest: int32(len(s.rest)), first: b.member(m.number)}
		}
	}
	return s
}

// slot returns where a key is, or would be.
func (s *exactIndex) slot(key uint64) *slot {
	for at := int(key * 0x9e3779b97f4a7c15 >> s.shift); ; at = (at + 1) & (len(s.slots) - 1) {
		if found := &s.slots[at]; found.key == 0 || found.key == key {
			return found
		}
	}
}

// find returns the number of the first condition that a packet meets, from a number on, or
// noMatch.
func (s *exactIndex) find(t *Table, q *Query, from int32) int32 {
	found := s.slot(exactKey(q.keys[destinationField], q.service))
	if found.key == 0 {
		return NoMatch
	}
	if found.first.number >= from && found.first.isFor(t, q) {
		return found.first.number
	}
	rest := s.rest[found.rest : found.rest+found.count]
	for i := range rest {
		if rest[i].number >= from && rest[i].isFor(t, q) {
			return rest[i].number
		}
	}
	return NoMatch
}

// isFor reports whether a packet that goes to the key of a member meets its condition.
func (m *member) isFor(t *Table, q *Query) bool {
	return m.source.contains(q.keys[sourceField]) && t.meets(m, q)
}
