package sessions

import (
	"sync"
	"time"

	"hollowbridge/core/header"
)

// Answers says where the sessions lie that packets with some hashes answer: a hash table in
// chains.
type answers struct {
	sync.Mutex
	heads []int32 // one more than the number; 0 is none
	links slab[answer]
	count int
}

type answer struct {
	hash uint64
	slot
	next int32
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

func (a *answers) head(hash uint64) *int32 { return &a.heads[uint32(hash)&uint32(len(a.heads)-1)] }

// answer makes a session known to the packets that answer it.
func (s *Store) answer(e *entry, at slot) {
	t := e.answer()
	hash := t.hash()
	a := s.answersOf(hash)
	a.Lock()
	defer a.Unlock()
	if 2*a.count >= len(a.heads) {
		a.grow()
	}
	n, head := a.links.next(), a.head(hash)
	*a.links.at(n) = answer{hash, at, *head}
	*head = n + 1
	a.count++
}

func (a *answers) grow() {
	old := a.heads
	a.heads = make([]int32, max(64, 2*len(old)))
	for _, at := range old {
		for at != 0 {
			l := a.links.at(at - 1)
			head := a.head(l.hash)
			at, l.next, *head = l.next, *head, at
		}
	}
}

// unanswer is the opposite of answer.
func (s *Store) unanswer(e *entry, at slot) {
	t := e.answer()
	hash := t.hash()
	a := s.answersOf(hash)
	a.Lock()
	defer a.Unlock()
	for next := a.head(hash); *next != 0; {
		n := *next - 1
		l := a.links.at(n)
		if l.slot == at {
			*next = l.next
			a.links.give(n)
			a.count--
			return
		}
		next = &l.next
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
	if len(a.heads) > 0 {
		for n := *a.head(hash); n != 0 && count < mostAlike; {
			l := a.links.at(n - 1)
			if n = l.next; l.hash == hash {
				alike[count] = l.slot
				count++
			}
		}
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
