package sessions

import (
	"net/netip"
	"sync/atomic"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// shards is how many locks each of what a store has is split into. More of them would be further apart in memory.
const (
	shardBits = 4
	shards    = 1 << shardBits
)

// shardOf returns the shard of a hash. What lies in a shard is found by other bits of it.
func shardOf(hash uint64) uint64 { return hash >> (64 - shardBits) }

// A Store is what a running gateway remembers. It may be used by many goroutines.
type Store struct {
	common
	four     half[four]
	six      half[six]
	mappings mappings
}

// Common is what the halves of a store share.
type common struct {
	clock   func() time.Duration
	gateway atomic.Pointer[names]
	cleared atomic.Uint32 // how often sessions lost their ports, since the gateway maps otherwise
	count   atomic.Int64
	serial  atomic.Uint64
	memory  arena
	rules   rules
	pools   atomic.Pointer[map[poolKey]*pool] // of the revision that runs
	pool    atomic.Pointer[pool]              // of them, the latest
}

// A family is a half of the store, whichever.
type family interface {
	find(p *header.Packet, part header.Part, size int, found *engine.Session) (engine.Direction, bool)
	take(lease *engine.Lease, grant *engine.Grant) bool
	distinct(final *header.Packet, ports header.Ports) (uint16, bool)
	keep(cleared uint32, names *names, session *engine.Session)
	expireAll(now time.Duration) (sessions, ports int)
	list(which func(before, after header.Packet) bool, do func(Open) bool) bool
	remove(which func(*record, func() engine.Session) bool) int
	addPassed(sums map[int32]*[2]Count)
	clear()
	rebind()
	hold(names *names, m *network.Mapping) engine.Ticket
	letGo(ticket engine.Ticket)
	bound(protocol header.Protocol, inside netip.AddrPort, outside netip.Addr) (uint16, bool)
	isTaken(protocol header.Protocol, outside netip.AddrPort) bool
}

// of returns the half that an address belongs to.
func (s *Store) of(a netip.Addr) family {
	if a.Is4() {
		return &s.four
	}
	return &s.six
}

// halves returns both.
func (s *Store) halves() [2]family { return [...]family{&s.four, &s.six} }

// Names are what the store knows of its gateway by numbers, so that sessions outlive a
// revision.
type names struct {
	network    *network.Gateway
	mapping    network.MappingBehavior
	preserving bool
	most       int64 // sessions; 0 is no limit
	interfaces []*network.Interface
	numbers    []int16     // of the gateway's interfaces, by index
	rules      [2][]ofRule // of the gateway, nat and filter, by their place
	all        *rules
}

// A numbered rule is its number and its counters.
type numbered struct {
	number  int32
	counted *counted
}

// An ofRule is whose they are.
type ofRule struct {
	rule *network.Rule
	numbered
}

// open counts a session that goes by a rule, and returns the rule's number; none where there is no rule.
func (n *names) open(rule *network.Rule, now time.Duration) int32 {
	if rule == nil {
		return none
	}
	return n.begin(rule, now)
}

// begin is open of a rule that there is.
func (n *names) begin(rule *network.Rule, now time.Duration) int32 {
	known, ok := n.known(rule)
	if !ok {
		return none
	}
	known.counted.begun.Add(1)
	known.counted.at(now)
	return known.number
}

// known returns the number and counters of a rule. Mappings come and go, and are known from their
// first session on.
func (n *names) known(rule *network.Rule) (numbered, bool) {
	for i := range n.rules {
		list := n.rules[i]
		if at := rule.Number - 1; uint(at) < uint(len(list)) && list[at].rule == rule {
			return list[at].numbered, true
		}
	}
	if rule.Kind == network.MappingKind {
		return n.all.mapping(rule), true
	}
	return numbered{}, false // it is of another revision
}

// New returns an empty store for a gateway. The clock says how long it is since some moment;
// it never goes back.
func New(g *network.Gateway, clock func() time.Duration) *Store {
	s := &Store{common: common{clock: clock}}
	s.four.begin(&s.common)
	s.six.begin(&s.common)
	s.rules.known = map[network.RuleID]numbered{}
	s.Use(g)
	return s
}

// Count returns how many sessions there are; some of them may have timed out.
func (s *Store) Count() int { return int(s.count.Load()) }

var _ engine.State = (*Store)(nil)

// Find is engine.State's.
func (s *Store) Find(p *header.Packet, part header.Part, size int, found *engine.Session) (engine.Direction, bool) {
	if p.Source.Is4() {
		return s.four.find(p, part, size, found)
	}
	return s.six.find(p, part, size, found)
}

// Take is engine.State's.
func (s *Store) Take(lease *engine.Lease, grant *engine.Grant) bool {
	if s.take(lease, grant) {
		return true
	}
	sessions, ports := s.of(lease.Packet.Source).expireAll(s.clock())
	return sessions+ports > 0 && s.take(lease, grant)
}

func (s *Store) take(lease *engine.Lease, grant *engine.Grant) bool {
	if lease.Packet.Source.Is4() {
		return s.four.take(lease, grant)
	}
	return s.six.take(lease, grant)
}

// Distinct is engine.State's.
func (s *Store) Distinct(final header.Packet, ports header.Ports, _ network.MappingBehavior) (uint16, bool) {
	return s.of(final.Source).distinct(&final, ports)
}

// Keep is engine.State's.
func (s *Store) Keep(session *engine.Session) bool {
	cleared, names := s.cleared.Load(), s.gateway.Load() // in this order, see half.keep
	if s.count.Add(1) > names.most && names.most > 0 {
		if s.Expire(); s.count.Load() > names.most {
			s.count.Add(-1)
			return false
		}
	}
	if session.Before.Source.Is4() {
		s.four.keep(cleared, names, session)
	} else {
		s.six.keep(cleared, names, session)
	}
	return true
}

// Expire removes all sessions that have timed out, and returns how many. The store removes a
// few by itself wherever it is used, and all where there is no room or no port; until then
// they hold their ports. Whoever runs a store calls Expire every second or so.
func (s *Store) Expire() int {
	sum, now := 0, s.clock()
	for _, h := range s.halves() {
		sessions, _ := h.expireAll(now)
		sum += sessions
	}
	return sum
}

// A Count is how many packets there were, and their bytes.
type Count struct{ Packets, Bytes int64 }

func (c *Count) add(size int) { c.Packets, c.Bytes = c.Packets+1, c.Bytes+int64(size) }

// Plus returns the sum of two counts.
func (c Count) Plus(d Count) Count { return Count{c.Packets + d.Packets, c.Bytes + d.Bytes} }

// An Open session is one of a store's, for people.
type Open struct {
	engine.Session
	Number uint64        // counts up, and is never given twice
	State  string        // of TCP: opening, established or closing; else answered or unanswered
	Age    time.Duration // since it began
	Idle   time.Duration // since a packet passed
	Left   time.Duration // until it times out, if nobody uses it
	Passed [2]Count      // by direction
}

// List calls a function with each session that has not timed out, until it returns false.
// Sessions that are opened or end meanwhile may be among them or not.
func (s *Store) List(do func(Open) bool) {
	s.ListThose(func(before, after header.Packet) bool { return true }, do)
}

// ListThose is List of the sessions for whose first packet, as it came and as it left, a function
// returns true. The function must not use the store.
func (s *Store) ListThose(which func(before, after header.Packet) bool, do func(Open) bool) {
	for _, h := range s.halves() {
		if !h.list(which, do) {
			return
		}
	}
}

// Remove removes the sessions for which a function returns true, and returns how many. The
// function must not use the store.
func (s *Store) Remove(which func(engine.Session) bool) int {
	return s.remove(func(_ *record, session func() engine.Session) bool { return which(session()) })
}

// RemoveNumbers is Remove by the numbers of sessions.
func (s *Store) RemoveNumbers(numbers map[uint64]bool) int {
	return s.remove(func(r *record, _ func() engine.Session) bool { return numbers[r.serial] })
}

// remove is Remove by what the store itself knows.
func (s *Store) remove(which func(*record, func() engine.Session) bool) int {
	removed := 0
	for _, h := range s.halves() {
		removed += h.remove(which)
	}
	return removed
}

// number returns the number of an interface, which may still be that of the revision before.
func (n *names) number(i *network.Interface) int16 {
	if i != nil && (i.Index >= len(n.numbers) || n.network.Interfaces[i.Index] != i) {
		i = n.network.Interface(i.Name)
	}
	if i == nil {
		return -1
	}
	return n.numbers[i.Index]
}

func (n *names) at(number int16) *network.Interface {
	if number < 0 {
		return nil
	}
	return n.interfaces[number]
}
