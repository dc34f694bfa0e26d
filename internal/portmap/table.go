package portmap

import (
	"cmp"
	"container/heap"
	"net/netip"
	"slices"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/portmap/pcp"
)

// A Record is a mapping as it is kept: what somebody asked for and got. Several may share an
// outside port, where they are of one machine's port: one for everybody, others for single peers.
type Record struct {
	Number          uint64
	Protocol        header.Protocol // TCP or UDP
	Outside, Inside netip.AddrPort
	Senders         []network.Sender // who may use it; empty is everybody
	Peer            bool             // it was asked for as a connection to the one sender
	By              string           // the protocol
	Owner           netip.Addr       // who asked
	Nonce           pcp.Nonce        // which the owner must know, of PCP
	Text            string           // what the program says of itself
	Granted, Until  time.Time
	Machine         string // whose it is, see Server.whose; empty in what was kept before that was known
	New             bool   // the machine was not seen before
}

// machine returns whose a record is.
func (r *Record) machine() string { return cmp.Or(r.Machine, r.Inside.Addr().String()) }

// An entry is a record in the table.
type entry struct {
	Record
	slot  *slot
	place int // in the heap
}

// A slot is an outside port that is in use: the entries of one machine's port.
type slot struct {
	key     slotKey
	inside  netip.AddrPort
	entries []*entry
}

type slotKey struct {
	outside  netip.AddrPort
	protocol header.Protocol
}

type insideKey struct {
	inside   netip.AddrPort
	protocol header.Protocol
}

// A table is the mappings of a gateway. It is not safe for use by several goroutines.
type table struct {
	slots    map[slotKey]*slot
	inside   map[insideKey][]*slot
	numbers  map[uint64]*entry
	machines map[string]int     // how many entries a machine has
	at       map[netip.Addr]int // and an address
	fresh    int                // how many those have that were not seen before
	ports    map[netip.Addr]*portUse
	ending   endings
	next     uint64

	dirty   map[slotKey]bool // slots that the backend has otherwise
	changed map[uint64]bool  // records that the state has otherwise
}

// portUse is who has which port of an outside address, whatever the protocol: a machine that has
// one has it for both (RFC 6886, 3.3).
type portUse struct {
	taken  [65536 / 64]uint64
	owners map[uint16]portOwner
}

type portOwner struct {
	machine netip.Addr
	slots   int
}

func newTable() *table {
	return &table{
		slots: map[slotKey]*slot{}, inside: map[insideKey][]*slot{}, numbers: map[uint64]*entry{}, machines: map[string]int{}, at: map[netip.Addr]int{},
		ports: map[netip.Addr]*portUse{}, next: 1, dirty: map[slotKey]bool{}, changed: map[uint64]bool{},
	}
}

// endings are entries, the one that ends first at the root of a heap.
type endings []*entry

func (h endings) Len() int           { return len(h) }
func (h endings) Less(i, k int) bool { return h[i].Until.Before(h[k].Until) }
func (h endings) Swap(i, k int)      { h[i], h[k] = h[k], h[i]; h[i].place, h[k].place = i, k }

// Push is heap.Interface's.
func (h *endings) Push(x any) {
	e := x.(*entry)
	e.place = len(*h)
	*h = append(*h, e)
}

// Pop is heap.Interface's.
func (h *endings) Pop() any {
	last := len(*h) - 1
	e := (*h)[last]
	(*h)[last] = nil
	*h = (*h)[:last]
	return e
}

// add puts a record into the table, which must have room for it: its outside port is free, or that
// of the same machine's port.
func (t *table) add(r Record) *entry {
	if r.Number == 0 {
		r.Number = t.next
	}
	t.next = max(t.next, r.Number+1)
	key := slotKey{r.Outside, r.Protocol}
	s := t.slots[key]
	if s == nil {
		s = &slot{key: key, inside: r.Inside}
		t.slots[key] = s
		in := insideKey{r.Inside, r.Protocol}
		t.inside[in] = append(t.inside[in], s)
		t.use(r.Outside, r.Inside.Addr(), 1)
	}
	e := &entry{Record: r, slot: s}
	s.entries = append(s.entries, e)
	t.numbers[r.Number] = e
	t.machines[r.machine()]++
	t.at[r.Inside.Addr()]++
	if r.New {
		t.fresh++
	}
	heap.Push(&t.ending, e)
	t.touch(e)
	return e
}

// touch notes that an entry has changed.
func (t *table) touch(e *entry) { t.dirty[e.slot.key], t.changed[e.Number] = true, true }

// renew makes an entry end at another time.
func (t *table) renew(e *entry, until time.Time) {
	e.Until = until
	heap.Fix(&t.ending, e.place)
	t.touch(e) // what is in force times out by itself
}

// remove takes an entry out.
func (t *table) remove(e *entry) {
	t.touch(e)
	s := e.slot
	s.entries = slices.DeleteFunc(s.entries, func(other *entry) bool { return other == e })
	delete(t.numbers, e.Number)
	heap.Remove(&t.ending, e.place)
	if t.machines[e.machine()]--; t.machines[e.machine()] == 0 {
		delete(t.machines, e.machine())
	}
	if t.at[e.Inside.Addr()]--; t.at[e.Inside.Addr()] == 0 {
		delete(t.at, e.Inside.Addr())
	}
	if e.New {
		t.fresh--
	}
	if len(s.entries) > 0 {
		return
	}
	delete(t.slots, s.key)
	in := insideKey{s.inside, s.key.protocol}
	if t.inside[in] = slices.DeleteFunc(t.inside[in], func(other *slot) bool { return other == s }); len(t.inside[in]) == 0 {
		delete(t.inside, in)
	}
	t.use(s.key.outside, s.inside.Addr(), -1)
}

// lift takes an entry out until it is known whether another one takes its place; kept is for putBack.
func (t *table) lift(e *entry) (kept [2]bool) {
	kept = [2]bool{t.dirty[e.slot.key], t.changed[e.Number]}
	t.remove(e)
	return kept
}

// putBack puts an entry that was lifted back as it was.
func (t *table) putBack(e *entry, kept [2]bool) {
	t.add(e.Record)
	if !kept[0] {
		delete(t.dirty, e.slot.key)
	}
	if !kept[1] {
		delete(t.changed, e.Number)
	}
}

// use notes that a machine has one slot more or less at a port.
func (t *table) use(outside netip.AddrPort, machine netip.Addr, slots int) {
	if outside.Addr() == machine { // of IPv6: the port is its own anyway
		return
	}
	u := t.ports[outside.Addr()]
	if u == nil {
		u = &portUse{owners: map[uint16]portOwner{}}
		t.ports[outside.Addr()] = u
	}
	port := outside.Port()
	o := u.owners[port]
	o.machine, o.slots = machine, o.slots+slots
	if o.slots > 0 {
		u.owners[port] = o
		u.taken[port/64] |= 1 << (port % 64)
		return
	}
	delete(u.owners, port)
	u.taken[port/64] &^= 1 << (port % 64)
}

// ownerOf returns the machine that has a port of an outside address, if any.
func (t *table) ownerOf(outside netip.AddrPort) (netip.Addr, bool) {
	u := t.ports[outside.Addr()]
	if u == nil {
		return netip.Addr{}, false
	}
	o, has := u.owners[outside.Port()]
	return o.machine, has
}

// ended takes out the entries whose time is over, and returns them.
func (t *table) ended(now time.Time) (list []*entry) {
	for len(t.ending) > 0 && !t.ending[0].Until.After(now) {
		e := t.ending[0]
		t.remove(e)
		list = append(list, e)
	}
	return list
}

// forEverybody returns the entry of a slot that is for no single peer, or nil.
func (s *slot) forEverybody() *entry {
	for _, e := range s.entries {
		if !e.Peer {
			return e
		}
	}
	return nil
}

// first returns the entry that the slot is known by: the one for everybody, or the first peer's.
func (s *slot) first() *entry {
	if e := s.forEverybody(); e != nil {
		return e
	}
	return s.entries[0]
}

// senders returns who may use the slot; nil is everybody.
func (s *slot) senders() (all []network.Sender) {
	for _, e := range s.entries {
		if len(e.Senders) == 0 {
			return nil
		}
		all = append(all, e.Senders...)
	}
	return all
}

// mapping returns what the backend is to do for the slot.
func (s *slot) mapping(external *network.Interface, now time.Time) *network.Mapping {
	e := s.first()
	m := network.NewMapping(external, s.key.protocol, s.key.outside, s.inside, s.senders(), e.By, e.Owner)
	m.Left = e.Until.Sub(now)
	m.Note = e.Text
	return m
}
