package sessions

import (
	"sync"
	"sync/atomic"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// shards is how many locks a store is split into, a power of two.
const shards = 64

// A Store is what a running gateway remembers. It may be used by many goroutines.
type Store struct {
	clock   func() time.Duration
	gateway atomic.Pointer[names]
	count   atomic.Int64
	serial  atomic.Uint64

	memory   arena
	sessions [shards]shard
	answers  [shards]answers
	leases   [shards]leases
	groups   [shards]groups
	pools    atomic.Pointer[map[poolKey]*pool] // of the revision that runs
	pool     atomic.Pointer[pool]              // of them, the latest
	rules    rules

	rebinding sync.Mutex
	mappings  mappings
}

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

// open counts a session that goes by a rule, and returns the rule's number.
func (n *names) open(rule *network.Rule, now time.Duration) int32 {
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
	switch {
	case rule == nil:
		return numbered{}, false
	case rule.Kind == network.MappingKind:
		return n.all.mapping(rule), true
	}
	for _, list := range n.rules {
		if at := rule.Number - 1; 0 <= at && at < len(list) && list[at].rule == rule {
			return list[at].numbered, true
		}
	}
	return numbered{}, false // it is of another revision
}

// An entry is one session.
type entry struct {
	before, after  tuple
	serial         uint64
	began          time.Duration
	deadline       time.Duration
	passed         [2]Count      // by direction
	ticket         engine.Ticket // of its port
	rules          [3]int32      // of redirect, permit and source: numbers in the store's rules, or none
	in, out        int16         // of interfaces, or -1
	earlier, later int32         // in the list of its phase, or none
	generation     uint32
	phase          phase
	live, local    bool
	answered       bool
	closing        bool
}

// A shard is the sessions whose first packets have some hashes.
type shard struct {
	sync.Mutex
	number  uint8
	entries slab[entry]
	table   table // by the first packet
	lists   [phases]list
}

// A list is the sessions of one phase, the one that was used longest ago first.
type list struct {
	first, last int32
	due         time.Duration // the deadline of the first
}

// New returns an empty store for a gateway. The clock says how long it is since some moment;
// it never goes back.
func New(g *network.Gateway, clock func() time.Duration) *Store {
	s := &Store{clock: clock}
	for i := range s.sessions {
		s.sessions[i].number = uint8(i)
		s.sessions[i].entries.arena, s.sessions[i].table.arena = &s.memory, &s.memory
		for k := range s.sessions[i].lists {
			s.sessions[i].lists[k] = list{none, none, 0}
		}
	}
	for i := range s.answers {
		s.answers[i].table.arena = &s.memory
	}
	for i := range s.leases {
		s.leases[i].number = i
		s.leases[i].uses.arena, s.leases[i].table.arena = &s.memory, &s.memory
	}
	for i := range s.groups {
		s.groups[i].table.arena = &s.memory
	}
	s.rules.known = map[network.RuleID]numbered{}
	s.Use(g)
	return s
}

// Count returns how many sessions there are; some of them may have timed out.
func (s *Store) Count() int { return int(s.count.Load()) }

func (s *Store) shardOf(hash uint64) *shard { return &s.sessions[hash>>58] }

// A slot is where a session lies.
type slot struct {
	shard      uint8
	number     int32
	generation uint32
}

// Find is engine.State's.
func (s *Store) Find(p *header.Packet, part header.Part, size int, found *engine.Session) (engine.Direction, bool) {
	t, now := tupleOf(*p), s.clock()
	hash := t.hash()
	sh := s.shardOf(hash)
	sh.table.warm(hash)
	var back slot
	serial := uint64(0) // of the session that it answers
	if part != header.Begins || !p.Protocol.HasBeginning() {
		back, serial = s.answered(&t, hash, now)
	} else {
		s.warmLease(&t)
	}
	sh.Lock()
	gone, ok := s.expire(sh, now), false
	sh.entries.warm()
	if n := sh.find(&t, hash, now); n != none && sh.entries.at(n).serial > serial {
		sh.touch(n, part, now)
		sh.entries.at(n).passed[engine.Forth].add(size)
		*found, ok, serial = s.session(sh.entries.at(n)), true, 0
	}
	sh.Unlock()
	s.forget(gone)
	if serial == 0 {
		return engine.Forth, ok
	}
	sh = &s.sessions[back.shard]
	sh.Lock()
	defer sh.Unlock()
	e := sh.entry(back)
	if e == nil {
		return engine.Back, false
	}
	e.answered = true
	sh.touch(back.number, part, now)
	e.passed[engine.Back].add(size)
	*found = s.session(e)
	return engine.Back, true
}

// find returns the latest session with a first packet, or none.
func (sh *shard) find(t *tuple, hash uint64, now time.Duration) int32 {
	latest, serial := none, uint64(0)
	for n, c := sh.table.first(hash); n != none; n = sh.table.next(&c) {
		if e := sh.entries.at(n); e.before == *t && e.deadline > now && e.serial > serial {
			latest, serial = n, e.serial
		}
	}
	return latest
}

// entry returns the session that lies at a place, or nil where it has gone; the shard is
// locked.
func (sh *shard) entry(p slot) *entry {
	if e := sh.entries.at(p.number); e.live && e.generation == p.generation {
		return e
	}
	return nil
}

// Keep is engine.State's.
func (s *Store) Keep(session *engine.Session) bool {
	names := s.gateway.Load()
	if s.count.Add(1) > names.most && names.most > 0 {
		if s.Expire(); s.count.Load() > names.most {
			s.count.Add(-1)
			return false
		}
	}
	now := s.clock()
	e := entry{
		before: tupleOf(session.Before), after: tupleOf(session.After), in: names.number(session.In), out: names.number(session.Out),
		serial: s.serial.Add(1), phase: firstPhase(session.Before.Protocol), local: session.Local, live: true, began: now,
		rules: [3]int32{names.open(session.Redirect, now), names.open(session.Permit, now), names.open(session.Source, now)},
	}
	e.passed[engine.Forth].add(session.Size)
	if !e.local {
		s.bind(names, &e, session.Ticket)
	}
	hash := e.before.hash()
	sh := s.shardOf(hash)
	sh.Lock()
	gone := s.expire(sh, now)
	n := sh.insert(&e, hash, now)
	sh.Unlock()
	s.forget(gone)
	s.answer(&e, slot{sh.number, n, e.generation})
	if latest := s.gateway.Load(); latest != names && !e.local && !s.isBound(latest, &e) {
		s.rebind() // another revision came meanwhile, which maps otherwise
	}
	return true
}

// insert puts a session into a shard and returns its number there.
func (sh *shard) insert(e *entry, hash uint64, now time.Duration) int32 {
	n := sh.entries.next()
	at := sh.entries.at(n)
	e.generation = at.generation + 1
	*at = *e
	sh.table.add(n, hash)
	sh.append(n, now)
	return n
}

// append puts a session at the end of the list of its phase.
func (sh *shard) append(n int32, now time.Duration) {
	e := sh.entries.at(n)
	l := &sh.lists[e.phase]
	e.deadline, e.earlier, e.later = now+timeouts[e.phase], l.last, none
	if l.last == none {
		l.first, l.due = n, e.deadline
	} else {
		sh.entries.at(l.last).later = n
	}
	l.last = n
}

// unlink takes a session out of the list of its phase.
func (sh *shard) unlink(n int32) {
	e := sh.entries.at(n)
	l := &sh.lists[e.phase]
	switch {
	case e.earlier != none:
		sh.entries.at(e.earlier).later = e.later
	case e.later != none:
		l.first, l.due = e.later, sh.entries.at(e.later).deadline
	default:
		l.first = none
	}
	if e.later == none {
		l.last = e.earlier
	} else {
		sh.entries.at(e.later).earlier = e.earlier
	}
}

// touch notes that a packet of a session has passed.
func (sh *shard) touch(n int32, part header.Part, now time.Duration) {
	sh.unlink(n)
	sh.entries.at(n).pass(part)
	sh.append(n, now)
}

// mostExpired is how many sessions an operation on a shard removes that have timed out.
const mostExpired = 4

// Gone are sessions that were removed from their shard, but not yet from what knows them.
type gone struct {
	list   [mostExpired]entry
	places [mostExpired]slot
	n      int
}

var gonePool = sync.Pool{New: func() any { return new(gone) }}

// expire removes sessions of a locked shard that have timed out, a few at a time. It
// returns nil where there are none.
func (s *Store) expire(sh *shard, now time.Duration) (g *gone) {
	for phase := range sh.lists {
		l := &sh.lists[phase]
		for l.first != none && l.due <= now {
			n := l.first
			if g == nil {
				g = gonePool.Get().(*gone)
			}
			if g.n == mostExpired {
				return g
			}
			g.list[g.n], g.places[g.n] = *sh.entries.at(n), slot{sh.number, n, sh.entries.at(n).generation}
			g.n++
			sh.remove(n)
		}
	}
	return g
}

// remove takes a session out of its shard.
func (sh *shard) remove(n int32) {
	sh.unlink(n)
	sh.table.remove(n, sh.entries.at(n).before.hash())
	sh.entries.at(n).live = false
	sh.entries.give(n)
}

// forget removes sessions from what knows them besides their shard, and returns how many.
func (s *Store) forget(g *gone) int {
	if g == nil {
		return 0
	}
	for i := range g.n {
		s.forgetOne(&g.list[i], g.places[i])
	}
	n := g.n
	g.n = 0
	gonePool.Put(g)
	return n
}

func (s *Store) forgetOne(e *entry, at slot) {
	s.count.Add(-1)
	s.rules.close(e)
	s.unanswer(e, at)
	if !e.local {
		s.unbind(e)
	}
}

// Expire removes all sessions that have timed out, and returns how many. The store removes a
// few by itself wherever it is used, and all where there is no room or no port; until then
// they hold their ports. Whoever runs a store calls Expire every second or so.
func (s *Store) Expire() int {
	sessions, _ := s.expireAll()
	return sessions
}

// expireAll is Expire that also says how many ports were given back whose sessions did not come.
func (s *Store) expireAll() (sessions, ports int) {
	now := s.clock()
	for i := range s.sessions {
		sh := &s.sessions[i]
		for {
			sh.Lock()
			gone := s.expire(sh, now)
			sh.Unlock()
			n := s.forget(gone)
			if n == 0 {
				break
			}
			sessions += n
		}
	}
	for i := range s.leases {
		l := &s.leases[i]
		l.Lock()
		ports += s.expireLeases(l, now)
		l.Unlock()
	}
	return sessions, ports
}

// those returns the sessions of a locked shard for which a function returns true, and where
// they lie.
func (sh *shard) those(which func(*entry) bool) (list []entry, places []slot) {
	for n := range sh.entries.size {
		if e := sh.entries.at(n); e.live && which(e) {
			list, places = append(list, *e), append(places, slot{sh.number, n, e.generation})
		}
	}
	return list, places
}

// session returns what an entry stands for.
func (s *Store) session(e *entry) engine.Session {
	names := s.gateway.Load()
	return engine.Session{
		In: names.at(e.in), Out: names.at(e.out), Before: e.before.packet(), After: e.after.packet(), Local: e.local, Answered: e.answered,
		Redirect: s.rules.rule(e.rules[0]), Permit: s.rules.rule(e.rules[1]), Source: s.rules.rule(e.rules[2]),
	}
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

// open returns an entry as it is now.
func (s *Store) open(e *entry, now time.Duration) Open {
	return Open{
		Session: s.session(e), Number: e.serial, State: e.state(), Age: now - e.began,
		Idle: now - (e.deadline - timeouts[e.phase]), Left: e.deadline - now, Passed: e.passed,
	}
}

// state says in a word what a session is.
func (e *entry) state() string {
	switch {
	case e.before.protocol != header.TCP && e.answered:
		return "answered"
	case e.before.protocol != header.TCP:
		return "unanswered"
	case e.closing:
		return "closing"
	case e.phase == established:
		return "established"
	}
	return "opening"
}

// List calls a function with each session that has not timed out, until it returns false.
// Sessions that are opened or end meanwhile may be among them or not.
func (s *Store) List(do func(Open) bool) {
	s.ListThose(func(before, after header.Packet) bool { return true }, do)
}

// ListThose is List of the sessions for whose first packet, as it came and as it left, a function
// returns true. The function must not use the store.
func (s *Store) ListThose(which func(before, after header.Packet) bool, do func(Open) bool) {
	now := s.clock()
	for i := range s.sessions {
		sh := &s.sessions[i]
		sh.Lock()
		list, _ := sh.those(func(e *entry) bool { return e.deadline > now && which(e.before.packet(), e.after.packet()) })
		sh.Unlock()
		for k := range list {
			if !do(s.open(&list[k], now)) {
				return
			}
		}
	}
}

// Remove removes the sessions for which a function returns true, and returns how many. The
// function must not use the store.
func (s *Store) Remove(which func(engine.Session) bool) int {
	return s.removeEntries(func(e *entry) bool { return which(s.session(e)) })
}

// RemoveNumbers is Remove by the numbers of sessions.
func (s *Store) RemoveNumbers(numbers map[uint64]bool) int {
	return s.removeEntries(func(e *entry) bool { return numbers[e.serial] })
}

// removeEntries is Remove by what the store itself knows.
func (s *Store) removeEntries(which func(*entry) bool) int {
	removed := 0
	for i := range s.sessions {
		sh := &s.sessions[i]
		sh.Lock()
		ends, places := sh.those(which)
		for _, p := range places {
			sh.remove(p.number)
		}
		sh.Unlock()
		for k := range ends {
			s.forgetOne(&ends[k], places[k])
		}
		removed += len(ends)
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

var _ engine.State = (*Store)(nil)
