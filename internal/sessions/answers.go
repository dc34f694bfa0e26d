package sessions

import (
	"sync"
	"time"

	"hollowbridge/core/header"
)

// Answers says where the sessions lie that packets with some hashes answer.
type answers struct {
	sync.Mutex
	table  table
	places slab[slot]
}

func (s *Store) answersOf(hash uint64) *answers { return &s.answers[hash>>58] }

// answer returns the packet that answers a session, as header.Packet.Answer.
func (e *entry) answer() tuple { return e.after.answer() }

func (t tuple) answer() tuple {
	back := tuple{t.destination, t.source, t.destinationPort, t.sourcePort, t.protocol}
	if t.protocol == header.ICMP {
		back.sourcePort, back.destinationPort = t.sourcePort, 0
	}
	return back
}

// answer makes a session known to the packets that answer it.
func (s *Store) answer(e *entry, at slot) {
	t := e.answer()
	hash := t.hash()
	a := s.answersOf(hash)
	a.Lock()
	defer a.Unlock()
	n := a.places.next()
	*a.places.at(n) = at
	a.table.add(n, hash)
}

// unanswer is the opposite of answer.
func (s *Store) unanswer(e *entry, at slot) {
	t := e.answer()
	hash := t.hash()
	a := s.answersOf(hash)
	a.Lock()
	defer a.Unlock()
	for n, c := a.table.first(hash); n != none; n = a.table.next(&c) {
		if *a.places.at(n) == at {
			a.table.remove(n, hash)
			a.places.give(n)
			return
		}
	}
}

// mostAlike is how many sessions with the same answer are looked at; there is more than one
// only of sessions that have timed out, or for a moment.
const mostAlike = 8

// answered returns where the latest session lies that a packet answers, and its serial
// number; 0 where there is none.
func (s *Store) answered(t *tuple, hash uint64, now time.Duration) (at slot, serial uint64) {
	a := s.answersOf(hash)
	var alike [mostAlike]slot
	count := 0
	a.Lock()
	for n, c := a.table.first(hash); n != none && count < mostAlike; n = a.table.next(&c) {
		alike[count] = *a.places.at(n)
		count++
	}
	a.Unlock()
	for _, p := range alike[:count] {
		sh := &s.sessions[p.shard]
		sh.Lock()
		if e := sh.entry(p); e != nil && e.deadline > now && e.serial > serial && e.answer() == *t {
			at, serial = p, e.serial
		}
		sh.Unlock()
	}
	return at, serial
}

// isAnswered reports whether a packet would answer a session that leaves the gateway.
func (s *Store) isAnswered(t *tuple, now time.Duration) bool {
	at, serial := s.answered(t, t.hash(), now)
	if serial == 0 {
		return false
	}
	sh := &s.sessions[at.shard]
	sh.Lock()
	defer sh.Unlock()
	e := sh.entry(at)
	return e != nil && !e.local
}
