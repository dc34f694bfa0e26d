package sessions

import (
	"sync"
	"time"
)

// Answers says where the sessions lie that packets with some hashes answer.
type answers struct {
	sync.Mutex
	table table // of spots
}

// A spot is a shard and where a session lies in it, in one number.
type spot int32

// inShard is how many bits of a spot are the place in the shard: there is room for two billion
// sessions in all.
const inShard = 31 - shardBits

func (p slot) spot() spot { return spot(p.shard)<<inShard | spot(p.number) }

func (p spot) shard() uint8 { return uint8(p >> inShard) }

func (p spot) number() int32 { return int32(p & (1<<inShard - 1)) }

func (h *half[A]) answersOf(hash uint64) *answers { return &h.answers[shardOf(hash)] }

// answer returns the packet that answers a session, as header.Packet.Answer.
func (p *pair[A]) answer() tuple[A] { return p.after.answer() }

func (t tuple[A]) answer() tuple[A] {
	return tuple[A]{t.destination, t.source, t.ports.answer()}
}

// warmAnswer asks the processor for where a session that leaves like a packet is made known.
func (h *half[A]) warmAnswer(leaving *tuple[A]) {
	back := leaving.answer()
	hash := back.hash()
	h.answersOf(hash).table.warm(hash)
}

// answer makes a session known to the packets that answer it.
func (h *half[A]) answer(p *pair[A], at slot) {
	t := p.answer()
	hash := t.hash()
	a := h.answersOf(hash)
	a.Lock()
	a.table.add(int32(at.spot()), hash)
	a.Unlock()
}

// unanswer is the opposite of answer.
func (h *half[A]) unanswer(p *pair[A], at slot) {
	t := p.answer()
	hash := t.hash()
	a := h.answersOf(hash)
	a.Lock()
	defer a.Unlock()
	for n, c := a.table.first(hash); n != none; n = a.table.next(&c) {
		if n == int32(at.spot()) {
			a.table.remove(n, hash)
			return
		}
	}
}

// mostAlike is how many sessions with the same answer are looked at; there is more than one
// only of sessions that have timed out, or for a moment.
const mostAlike = 8

// answered returns where the latest session lies that a packet answers, and its serial
// number; 0 where there is none.
func (h *half[A]) answered(t *tuple[A], hash uint64, now time.Duration) (at slot, serial uint64) {
	a := h.answersOf(hash)
	var alike [mostAlike]spot
	count := 0
	a.Lock()
	for n, c := a.table.first(hash); n != none && count < mostAlike; n = a.table.next(&c) {
		alike[count] = spot(n)
		count++
	}
	a.Unlock()
	for _, p := range alike[:count] {
		sh := &h.sessions[p.shard()]
		sh.Lock()
		if e := sh.entries.at(p.number()); e.live && e.deadline > now && e.serial > serial && e.answer() == *t {
			at, serial = slot{p.shard(), p.number(), e.generation}, e.serial
		}
		sh.Unlock()
	}
	return at, serial
}

// isAnswered reports whether a packet would answer a session that leaves the gateway.
func (h *half[A]) isAnswered(t *tuple[A], now time.Duration) bool {
	at, serial := h.answered(t, t.hash(), now)
	if serial == 0 {
		return false
	}
	sh := &h.sessions[at.shard]
	sh.Lock()
	defer sh.Unlock()
	e := sh.entry(at)
	return e != nil && !e.local
}
