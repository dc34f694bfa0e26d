package sessions

import (
	"net/netip"
	"slices"
	"sync"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// Groups are the ports of outside addresses with some hashes.
type groups[A address] struct {
	sync.Mutex
	list  slab[group[A]]
	table table // by their keys
}

// A groupKey is what sessions share that need different ports: the outside address and the
// protocol and, as the gateway maps, where they go to (RFC 4787, 4.1).
type groupKey[A address] struct {
	outside, destination A
	port                 uint16
	protocol             header.Protocol
}

func (k *groupKey[A]) hash() uint64 {
	return hashOf(k.outside, k.destination, uint64(k.port)<<16|uint64(k.protocol))
}

// keyOf returns the group of a packet that leaves.
func keyOf[A address](n *names, p *tuple[A]) groupKey[A] {
	k := groupKey[A]{outside: p.source, protocol: p.protocol()}
	if !k.protocol.Numbered() || n.mapping != network.EndpointIndependent {
		k.destination = p.destination
	}
	if k.protocol.Numbered() && n.mapping == network.AddressAndPortDependent {
		k.port = p.destinationPort()
	}
	return k
}

// groupOf returns what an outside address is counted by where the destination does not matter.
func groupOf[A address](protocol header.Protocol, outside netip.Addr) groupKey[A] {
	return groupKey[A]{outside: addressOf[A](outside), protocol: protocol}
}

// A group is the ports behind an outside address that are taken.
type group[A address] struct {
	key    groupKey[A]
	taken  portSet
	shared map[uint16]int32 // of ports that several have, how many more
	uses   int32
	pools  []watch // that were told that it is full
}

func (h *half[A]) groupsOf(k *groupKey[A]) (*groups[A], uint64) {
	hash := k.hash()
	return &h.groups[shardOf(hash)], hash
}

// find returns the group of a key, or nil, and its number.
func (g *groups[A]) find(k *groupKey[A], hash uint64) (*group[A], int32) {
	for n, c := g.table.first(hash); n != none; n = g.table.next(&c) {
		if known := g.list.at(n); known.key == *k {
			return known, n
		}
	}
	return nil, none
}

// make is find of a group that is made where there is none.
func (g *groups[A]) make(k *groupKey[A], hash uint64) *group[A] {
	if known, _ := g.find(k, hash); known != nil {
		return known
	}
	n := g.list.next()
	*g.list.at(n) = group[A]{key: *k}
	g.table.add(n, hash)
	return g.list.at(n)
}

// take takes a port, which others may have too.
func (g *group[A]) take(port uint16) {
	g.uses++
	if !g.taken.has(port) {
		g.taken.add(port)
		return
	}
	if g.shared == nil {
		g.shared = map[uint16]int32{}
	}
	g.shared[port]++
}

// give is the opposite of take.
func (g *group[A]) give(port uint16) {
	g.uses--
	if g.shared[port] == 0 {
		g.taken.remove(port)
		for _, w := range g.pools {
			w.set(false)
		}
		return
	}
	if g.shared[port]--; g.shared[port] == 0 {
		delete(g.shared, port)
	}
}

// takeFree takes the port of an outside address that a packet gets which has none yet: its own where it may
// keep it and nobody has it, else the next one. It returns false where none is free.
func (h *half[A]) takeFree(names *names, lease *engine.Lease, k *groupKey[A], w watch) (port uint16, ok bool) {
	groups, hash := h.groupsOf(k)
	groups.Lock()
	defer groups.Unlock()
	g, _ := groups.find(k, hash)
	switch {
	case !k.protocol.Numbered():
		ok = g == nil
	case lease.KeepPort && (g == nil || !g.taken.has(lease.Packet.SourcePort)):
		port, ok = lease.Packet.SourcePort, true
	default:
		after := lease.Packet.SourcePort
		if !lease.KeepPort && !names.preserving {
			after = 0
		}
		var taken portSet
		if g != nil {
			taken = g.taken
		}
		port, ok = nextFree(&taken, lease.Ports, after)
	}
	switch {
	case ok && g == nil:
		groups.make(k, hash).take(port)
	case ok:
		g.take(port)
	case w.pool != nil:
		if !slices.Contains(g.pools, w) {
			g.pools = append(g.pools, w)
		}
		w.set(true)
	}
	return port, ok
}

// takePort takes a port of an outside address, which others may have too.
func (h *half[A]) takePort(k *groupKey[A], port uint16) {
	groups, hash := h.groupsOf(k)
	groups.Lock()
	defer groups.Unlock()
	groups.make(k, hash).take(port)
}

// givePort gives back a port of an outside address.
func (h *half[A]) givePort(k *groupKey[A], port uint16) {
	groups, hash := h.groupsOf(k)
	groups.Lock()
	defer groups.Unlock()
	g, n := groups.find(k, hash)
	if g.give(port); g.uses == 0 {
		groups.table.remove(n, hash)
		groups.list.give(n)
		*g = group[A]{}
	}
}

// isTakenIn reports whether somebody has a port of an outside address.
func (h *half[A]) isTakenIn(k *groupKey[A], port uint16) bool {
	groups, hash := h.groupsOf(k)
	groups.Lock()
	defer groups.Unlock()
	g, _ := groups.find(k, hash)
	return g != nil && g.taken.has(port)
}

// nextFree is engine.NextPort for a set of ports that are taken, without asking for each.
func nextFree(taken *portSet, ports header.Ports, after uint16) (uint16, bool) {
	if ports == (header.Ports{}) {
		ports = header.Ports{First: 1024, Last: 65535}
	}
	if ports.Contains(after) && after < ports.Last {
		if port, ok := taken.free(after+1, ports.Last); ok {
			return port, true
		}
	}
	return taken.free(ports.First, ports.Last)
}
