package gateway

import (
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/network"
	"hollowbridge/internal/kernel"
)

// What the rules of a kernel gateway do, the kernel counts: each rule's counter has the connections that it had a part in, also those
// that a later step stopped. Those that came through the kernel tells one by one as they begin, and with what they carried as they end; the
// difference was stopped. What is open is looked at only when somebody asks.

// counting is what is known of rules besides their counters.
type counting struct {
	sync.Mutex
	rules    map[network.RuleID]*ofRule
	overruns int   // how often connections came faster than they were read,
	settled  int   // and how many of these times it is known how many
	missed   int64 // so many were not seen as they began
}

// ofRule is what is known of a rule besides its counter.
type ofRule struct {
	counter   uint64 // when it was looked at last,
	last      time.Time
	began     int64  // connections that came through, since the backend was started,
	since     uint64 // and its counter then
	stopped   int64  // connections that a later step stopped, at least
	unseen    int64  // connections that came faster than they were read; of them it is not known
	forth     Count  // of connections that have ended
	back      Count
	stops     bool // what it matches
	firstSeen bool
}

// ruleOf returns the rule of a counter. ok is false for a counter of something else.
func ruleOf(g *engine.Gateway, counter string) (id network.RuleID, ok bool) {
	list, name, ok := strings.Cut(counter, "/")
	return network.RuleID{Gateway: g.Name, List: list, Name: name}, ok && (list == "nat" || list == "filter")
}

// beginCounting notes of rules that are new what their counters have now, and which rules stop what they match.
func (k *Kernel) beginCounting(g *engine.Gateway, counters []kernel.Counted) {
	k.counting.Lock()
	defer k.counting.Unlock()
	for id, of := range k.counting.rules { // the gateway may have another name now
		if id.Gateway != g.Name {
			delete(k.counting.rules, id)
			id.Gateway = g.Name
			k.counting.rules[id] = of
		}
	}
	for _, c := range counters {
		if id, ok := ruleOf(g, c.Name); ok {
			k.counting.of(id).begin(c.Packets)
		}
	}
	for _, r := range g.Filter {
		if of := k.counting.rules[r.ID()]; of != nil {
			of.stops = r.Verb != network.Allow
		}
	}
}

// begin notes what a counter has when it is looked at first.
func (of *ofRule) begin(packets uint64) {
	if !of.firstSeen {
		of.firstSeen, of.since, of.counter = true, packets, packets
	}
}

// of returns what is known of a rule; the caller holds the lock.
func (c *counting) of(id network.RuleID) *ofRule {
	known := c.rules[id]
	if known == nil {
		known = &ofRule{}
		c.rules[id] = known
	}
	return known
}

// watch counts connections for the rules that they go by, as they begin and end.
func (k *Kernel) watch() {
	missed := func() {
		k.counting.Lock()
		defer k.counting.Unlock()
		k.counting.overruns++
	}
	readAll(k, "counting connections", k.watcher.Next, missed, func(g *engine.Gateway, changes []kernel.Change) {
		now := time.Now()
		for i := range changes {
			c := &changes[i]
			d := k.decide(g, &c.Tracked)
			k.counting.Lock()
			for _, r := range []*network.Rule{d.Redirect, d.Permit, d.Source} {
				if r == nil {
					continue
				}
				of := k.counting.of(r.ID())
				if c.Ended {
					of.forth, of.back = of.forth.Plus(counted(c.Forth)), of.back.Plus(counted(c.Back))
				} else {
					of.began++
					of.last = now
				}
			}
			k.counting.Unlock()
		}
	})
}

// Hits is Backend's. Connections are those that the kernel's counters have counted since the
// rules were put there.
func (k *Kernel) Hits(open bool) ([]Hit, error) {
	g := k.current.Load()
	if g == nil {
		return nil, nil
	}
	k.counting.Lock()
	overruns := k.counting.overruns
	k.counting.Unlock()
	counters, err := k.counters()
	if err != nil {
		return nil, err
	}
	caughtUp := k.catchUp(g, counters)
	var list []kernel.Tracked
	if open {
		if list, err = k.connections(); err != nil {
			return nil, err
		}
	}
	hits := make(map[network.RuleID]*Hit, len(counters))
	k.counting.Lock()
	defer k.counting.Unlock()
	now := time.Now()
	k.counting.look(g, counters, now)
	if caughtUp && overruns == k.counting.overruns { // else what is missing may still come, or be missed
		k.counting.settle(g, counters, now)
	}
	for _, c := range counters {
		if id, ok := ruleOf(g, c.Name); ok {
			hits[id] = k.counting.rules[id].hit(id, int64(c.Packets))
		}
	}
	for id, of := range k.counting.rules {
		if id.List == network.MappingKind { // which has no counter of its own
			hits[id] = of.hit(id, of.began)
			hits[id].Raw = 0
		}
	}
	for i := range list {
		d := k.decide(g, &list[i])
		for _, r := range []*network.Rule{d.Redirect, d.Permit, d.Source} {
			if r == nil || hits[r.ID()] == nil {
				continue
			}
			h := hits[r.ID()]
			h.Open++
			h.Forth, h.Back = h.Forth.Plus(counted(list[i].Forth)), h.Back.Plus(counted(list[i].Back))
		}
	}
	for _, r := range g.NAT {
		if h := hits[r.ID()]; h != nil && r.Does == network.SourceNAT && !r.Destination.IsValid() { // the last step that stops something
			h.Exhausted, h.Stopped = h.Stopped, 0
		}
	}
	all := make([]Hit, 0, len(hits))
	for _, h := range hits {
		all = append(all, *h)
	}
	return all, nil
}

// hit returns what a rule has done that had a part in so many connections.
func (of *ofRule) hit(id network.RuleID, connections int64) *Hit {
	h := &Hit{Gateway: id.Gateway, List: id.List, Rule: id.Name, Connections: connections, Raw: connections, Stopped: of.stopped, Unseen: of.unseen, Forth: of.forth, Back: of.back}
	if !of.last.IsZero() {
		at := of.last
		h.Last = &at
	}
	return h
}

// look notes what counters have.
func (c *counting) look(g *engine.Gateway, counters []kernel.Counted, now time.Time) {
	for _, counter := range counters {
		id, ok := ruleOf(g, counter.Name)
		if !ok {
			continue
		}
		of := c.of(id)
		of.begin(counter.Packets)
		if counter.Packets != of.counter {
			of.counter = counter.Packets
			if of.stops { // of others it is known when they let a connection through
				of.last = now
			}
		}
	}
}

// settle notes what was stopped: what counters have and did not come through, after all that the kernel told by then was read. Where
// connections were missed, it is taken that all of these came through, and what was stopped is not known.
func (c *counting) settle(g *engine.Gateway, counters []kernel.Counted, now time.Time) {
	missed := map[string]int64{} // by list: a connection is counted in both
	for _, counter := range counters {
		id, ok := ruleOf(g, counter.Name)
		if !ok || c.rules[id].stops {
			continue
		}
		of := c.rules[id]
		switch more := int64(counter.Packets) - int64(of.since) - of.began - of.stopped; {
		case more <= 0:
			continue
		case c.settled < c.overruns:
			of.began += more
			of.unseen += more
			missed[id.List] += more
		default:
			of.stopped += more
		}
		of.last = now
	}
	c.settled = c.overruns
	c.missed += max(missed["nat"], missed["filter"])
}

// Times to wait for what the kernel tells of connections that its counters have counted: it does both one after the other.
const (
	telling     = 5 * time.Millisecond
	mostTelling = 500 * time.Millisecond
)

// catchUp waits until what the kernel told before counters were read is read, where they count more than before. It returns false where
// that takes too long.
func (k *Kernel) catchUp(g *engine.Gateway, counters []kernel.Counted) bool {
	k.counting.Lock()
	changed := k.counting.settled < k.counting.overruns || slices.ContainsFunc(counters, func(c kernel.Counted) bool {
		id, ok := ruleOf(g, c.Name)
		of := k.counting.rules[id]
		return ok && of != nil && !of.stops && of.counter != c.Packets
	})
	k.counting.Unlock()
	if !changed {
		return true
	}
	time.Sleep(telling)
	for until := time.Now().Add(mostTelling); time.Now().Before(until); time.Sleep(telling) {
		if !k.watcher.HasMore() {
			return true
		}
	}
	return false
}

// counters returns what has been counted, also by rules that are no more.
func (k *Kernel) counters() ([]kernel.Counted, error) {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	counters, err := k.machine.Counters()
	past := maps.Clone(k.past)
	for _, c := range counters {
		delete(past, c.Name)
	}
	return slices.AppendSeq(counters, maps.Values(past)), err
}

// Missed is Backend's.
func (k *Kernel) Missed() (connections, lines int64) {
	k.counting.Lock()
	defer k.counting.Unlock()
	return k.counting.missed, k.listener.Missed()
}
