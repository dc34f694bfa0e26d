package sessions

import (
	"math"
	"sync"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
)

// A half is the sessions of one family. Addresses are half of what a session is: those of IPv4 take
// little room, so that less memory has to be waited for.
type half[A address] struct {
	*common
	sessions [shards]shard[A]
	answers  [shards]answers
	leases   [shards]leases[A]
	groups   [shards]groups[A]
	gone     sync.Pool // of *gone

	rebinding sync.Mutex
}

// begin makes a half ready.
func (h *half[A]) begin(c *common) {
	h.common = c
	for i := range h.sessions {
		sh := &h.sessions[i]
		sh.number, sh.entries.arena, sh.table.arena = uint8(i), &c.memory, &c.memory
		for k := range sh.lists {
			sh.lists[k] = list{none, none, 0}
		}
	}
	for i := range h.answers {
		h.answers[i].table.arena = &c.memory
	}
	for i := range h.leases {
		l := &h.leases[i]
		l.number, l.uses.arena, l.table.arena = i, &c.memory, &c.memory
	}
	for i := range h.groups {
		h.groups[i].table.arena = &c.memory
	}
}

// An entry is one session.
type entry[A address] struct {
	pair[A]
	record
}

// A pair is the first packet of a session, as it came and as it left.
type pair[A address] struct{ before, after tuple[A] }

// A record is what there is to know of a session besides its packets.
type record struct {
	serial         uint64
	began          time.Duration
	deadline       time.Duration
	passed         [2]Count      // by direction
	ticket         engine.Ticket // of its port
	rules          [3]int32      // of redirect, permit and source: numbers in the store's rules, or none
	earlier, later int32         // in the list of its phase, or none
	generation     uint32
	in, out        int16 // of interfaces, or -1
	phase          phase
	live, local    bool
	answered       bool
}

// A shard is the sessions whose first packets have some hashes.
type shard[A address] struct {
	sync.Mutex
	number  uint8
	entries slab[entry[A]]
	table   table // by the first packet
	lists   [phases]list
	due     time.Duration // no session times out before
}

// A list is the sessions of one phase, the one that was used longest ago first.
type list struct {
	first, last int32
	due         time.Duration // the deadline of the first
}

func (h *half[A]) shardOf(hash uint64) *shard[A] { return &h.sessions[shardOf(hash)] }

// A slot is where a session lies.
type slot struct {
	shard      uint8
	number     int32
	generation uint32
}

// find is engine.State's Find.
func (h *half[A]) find(p *header.Packet, part header.Part, size int, found *engine.Session) (engine.Direction, bool) {
	t, now := tupleOf[A](p), h.clock()
	hash := t.hash()
	sh := h.shardOf(hash)
	sh.table.warm(hash)
	var back slot
	serial := uint64(0) // of the session that it answers
	if part != header.Begins || !p.Protocol.HasBeginning() {
		back, serial = h.answered(&t, hash, now)
	} else {
		h.warmLease(&t)
	}
	sh.Lock()
	gone, ok := h.expire(sh, now), false
	if serial == 0 { // it may begin a session
		sh.entries.warm()
	}
	if n, c := sh.table.first(hash); n != none {
		if n = sh.find(n, c, &t, now); n != none && sh.entries.at(n).serial > serial {
			sh.touch(n, part, now)
			sh.entries.at(n).passed[engine.Forth].add(size)
			*found, ok, serial = h.session(sh.entries.at(n)), true, 0
		}
	}
	sh.Unlock()
	h.forget(gone)
	if serial == 0 {
		return engine.Forth, ok
	}
	sh = &h.sessions[back.shard]
	sh.Lock()
	defer sh.Unlock()
	e := sh.entry(back)
	if e == nil {
		return engine.Back, false
	}
	e.answered = true
	sh.touch(back.number, part, now)
	e.passed[engine.Back].add(size)
	*found = h.session(e)
	return engine.Back, true
}

// find returns the latest session with a first packet, among those of its hash from n on, or none.
func (sh *shard[A]) find(n int32, c cursor, t *tuple[A], now time.Duration) int32 {
	latest, serial := none, uint64(0)
	for ; n != none; n = sh.table.next(&c) {
		if e := sh.entries.at(n); e.before == *t && e.deadline > now && e.serial > serial {
			latest, serial = n, e.serial
		}
	}
	return latest
}

// entry returns the session that lies at a place, or nil where it has gone; the shard is
// locked.
func (sh *shard[A]) entry(p slot) *entry[A] {
	if e := sh.entries.at(p.number); e.live && e.generation == p.generation {
		return e
	}
	return nil
}

// keep is engine.State's Keep, once there is room. How often sessions lost their ports was looked at before
// anything else: whoever finds that unchanged once the session is there will find the session in rebind.
func (h *half[A]) keep(cleared uint32, names *names, session *engine.Session) {
	now := h.clock()
	p := pair[A]{tupleOf[A](&session.Before), tupleOf[A](&session.After)}
	rules := [3]int32{names.open(session.Redirect, now), names.open(session.Permit, now), names.open(session.Source, now)}
	var ticket engine.Ticket
	if !session.Local {
		ticket = h.bind(names, &p, session.Ticket)
	}
	hash := p.before.hash()
	sh := h.shardOf(hash)
	sh.Lock()
	gone := h.expire(sh, now)
	n := sh.entries.next()
	e := sh.entries.at(n)
	*e = entry[A]{p, record{
		serial: h.serial.Add(1), began: now, passed: [2]Count{engine.Forth: {1, int64(session.Size)}}, ticket: ticket, rules: rules,
		generation: e.generation + 1, in: names.number(session.In), out: names.number(session.Out),
		phase: firstPhase(p.before.protocol()), live: true, local: session.Local,
	}}
	at := slot{sh.number, n, e.generation}
	sh.table.add(n, hash)
	sh.append(n, now)
	sh.Unlock()
	h.forget(gone)
	h.answer(&p, at)
	if h.cleared.Load() != cleared && !session.Local && !h.isBound(h.gateway.Load(), &p, ticket) {
		h.rebind() // another revision came meanwhile, which maps otherwise
	}
}

// append puts a session at the end of the list of its phase.
func (sh *shard[A]) append(n int32, now time.Duration) {
	e := sh.entries.at(n)
	l := &sh.lists[e.phase]
	e.deadline, e.earlier, e.later = now+timeouts[e.phase], l.last, none
	if l.last == none {
		l.first, l.due = n, e.deadline
		sh.due = min(sh.due, l.due)
	} else {
		sh.entries.at(l.last).later = n
	}
	l.last = n
}

// unlink takes a session out of the list of its phase.
func (sh *shard[A]) unlink(n int32) {
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
func (sh *shard[A]) touch(n int32, part header.Part, now time.Duration) {
	sh.unlink(n)
	sh.entries.at(n).pass(part)
	sh.append(n, now)
}

// mostExpired is how many sessions an operation on a shard removes that have timed out.
const mostExpired = 4

// Gone are sessions that were removed from their shard, but not yet from what knows them.
type gone[A address] struct {
	list   [mostExpired]entry[A]
	places [mostExpired]slot
	n      int
}

// expire removes sessions of a locked shard that have timed out, a few at a time. It
// returns nil where there are none.
func (h *half[A]) expire(sh *shard[A], now time.Duration) *gone[A] {
	if now < sh.due {
		return nil
	}
	return h.expireDue(sh, now)
}

func (h *half[A]) expireDue(sh *shard[A], now time.Duration) (g *gone[A]) {
	sh.due = math.MaxInt64
	for phase := range sh.lists {
		l := &sh.lists[phase]
		for l.first != none && l.due <= now && (g == nil || g.n < mostExpired) {
			n := l.first
			if g == nil {
				if g, _ = h.gone.Get().(*gone[A]); g == nil {
					g = new(gone[A])
				}
			}
			g.list[g.n], g.places[g.n] = *sh.entries.at(n), slot{sh.number, n, sh.entries.at(n).generation}
			g.n++
			sh.drop(n)
			if l.first != none {
				h.warmEnd(sh, l.first)
			}
		}
		if l.first != none {
			sh.due = min(sh.due, l.due)
		}
	}
	return g
}

// warmEnd asks the processor for what the end of a session will look at, which is the next to time out.
func (h *half[A]) warmEnd(sh *shard[A], n int32) {
	e := sh.entries.at(n)
	sh.table.warm(e.before.hash())
	answer := e.answer()
	hash := answer.hash()
	h.answersOf(hash).table.warm(hash)
	if e.later != none {
		prefetchAll(sh.entries.at(e.later))
	}
}

// drop takes a session out of its shard.
func (sh *shard[A]) drop(n int32) {
	sh.unlink(n)
	sh.table.remove(n, sh.entries.at(n).before.hash())
	sh.entries.at(n).live = false
	sh.entries.give(n)
}

// forget removes sessions from what knows them besides their shard, and returns how many.
func (h *half[A]) forget(g *gone[A]) int {
	if g == nil {
		return 0
	}
	for i := range g.n {
		h.forgetOne(&g.list[i], g.places[i])
	}
	n := g.n
	g.n = 0
	h.gone.Put(g)
	return n
}

func (h *half[A]) forgetOne(e *entry[A], at slot) {
	h.count.Add(-1)
	h.rules.close(&e.record)
	h.unanswer(&e.pair, at)
	if !e.local {
		h.unbind(e.ticket)
	}
}

// expireAll removes all sessions that have timed out, and the ports whose sessions did not come. It returns
// how many of each.
func (h *half[A]) expireAll(now time.Duration) (sessions, ports int) {
	for i := range h.sessions {
		sh := &h.sessions[i]
		for {
			sh.Lock()
			gone := h.expire(sh, now)
			sh.Unlock()
			n := h.forget(gone)
			if n == 0 {
				break
			}
			sessions += n
		}
	}
	for i := range h.leases {
		l := &h.leases[i]
		l.Lock()
		ports += h.expireLeases(l, now)
		l.Unlock()
	}
	return sessions, ports
}

// those returns the sessions of a locked shard for which a function returns true, and where
// they lie.
func (sh *shard[A]) those(which func(*entry[A]) bool) (list []entry[A], places []slot) {
	for n := range sh.entries.size {
		if e := sh.entries.at(n); e.live && which(e) {
			list, places = append(list, *e), append(places, slot{sh.number, n, e.generation})
		}
	}
	return list, places
}

// session returns what an entry stands for.
func (h *half[A]) session(e *entry[A]) engine.Session {
	names := h.gateway.Load()
	return engine.Session{
		In: names.at(e.in), Out: names.at(e.out), Before: e.before.packet(), After: e.after.packet(), Local: e.local, Answered: e.answered,
		Redirect: h.rules.rule(e.rules[0]), Permit: h.rules.rule(e.rules[1]), Source: h.rules.rule(e.rules[2]),
	}
}

// open returns an entry as it is now.
func (h *half[A]) open(e *entry[A], now time.Duration) Open {
	return Open{
		Session: h.session(e), Number: e.serial, State: e.state(), Age: now - e.began,
		Idle: now - (e.deadline - timeouts[e.phase]), Left: e.deadline - now, Passed: e.passed,
	}
}

// state says in a word what a session is.
func (r *record) state() string {
	switch r.phase {
	case opening:
		return "opening"
	case established:
		return "established"
	case closing:
		return "closing"
	}
	if r.answered {
		return "answered"
	}
	return "unanswered"
}

// list is Store.ListThose. It returns false where the function did.
func (h *half[A]) list(which func(before, after header.Packet) bool, do func(Open) bool) bool {
	now := h.clock()
	for i := range h.sessions {
		sh := &h.sessions[i]
		sh.Lock()
		list, _ := sh.those(func(e *entry[A]) bool { return e.deadline > now && which(e.before.packet(), e.after.packet()) })
		sh.Unlock()
		for k := range list {
			if !do(h.open(&list[k], now)) {
				return false
			}
		}
	}
	return true
}

// remove removes the sessions for which a function returns true, and returns how many.
func (h *half[A]) remove(which func(*record, func() engine.Session) bool) int {
	removed := 0
	for i := range h.sessions {
		sh := &h.sessions[i]
		sh.Lock()
		ends, places := sh.those(func(e *entry[A]) bool {
			return which(&e.record, func() engine.Session { return h.session(e) })
		})
		for _, p := range places {
			sh.drop(p.number)
		}
		sh.Unlock()
		for k := range ends {
			h.forgetOne(&ends[k], places[k])
		}
		removed += len(ends)
	}
	return removed
}

// addPassed adds what has passed of sessions that are there to the sums of their rules.
func (h *half[A]) addPassed(sums map[int32]*[2]Count) {
	for i := range h.sessions {
		sh := &h.sessions[i]
		sh.Lock()
		for n := range sh.entries.size {
			e := sh.entries.at(n)
			if !e.live {
				continue
			}
			for _, r := range e.rules {
				if r == none {
					continue
				}
				sum := sums[r]
				if sum == nil {
					sum = &[2]Count{}
					sums[r] = sum
				}
				for d := range sum {
					sum[d] = sum[d].Plus(e.passed[d])
				}
			}
		}
		sh.Unlock()
	}
}
