package gateway

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"time"
)

// Keeping says how many events a gateway keeps, and for how long.
type Keeping struct {
	Most int64         // events
	Age  time.Duration // of the oldest
}

// UsualKeeping is what is kept where nobody says otherwise.
var UsualKeeping = Keeping{Most: 1_000_000, Age: 30 * 24 * time.Hour}

// mostQueued is how many events wait to be written down; beyond, they are lost and counted.
const mostQueued = 1 << 16

// writing is how often what waits is written down.
const writing = 100 * time.Millisecond

// A journal takes events, numbers them, writes them into the state and hands them to whoever
// follows. Record waits for nobody.
type journal struct {
	state   *State
	keeping Keeping
	failed  func(error)   // is told where events can't be written
	sends   func([]Event) // is handed them, to be sent away

	writes sync.Mutex // held while events are written down
	mutex  sync.Mutex // of the queue
	queue  []Event
	wake   chan struct{}
	lost   atomic.Int64
	first  int64 // number of the first event since it was opened
	next   int64 // of the next one
	recent tail
	ages   steadyClock // by which events get too old
	opened time.Time
	done   chan struct{}
	stop   context.CancelFunc
}

// A steadyClock goes with the wall clock, but does not jump forward with it: what is behind goes twice as fast as time does, until
// it is there. So a clock that is wrong for a moment makes nothing old, and one that is put right does so slowly.
type steadyClock struct {
	time time.Time
	up   time.Duration // how long it had gone when it was last asked
}

// newSteadyClock returns a clock that begins at the time of what came last, or at the wall clock's where nothing did.
func newSteadyClock(last, wall time.Time) steadyClock {
	if last.IsZero() {
		last = wall
	}
	return steadyClock{time: last.Round(0)}
}

// at returns the time, which is never ahead of the wall clock's, when it has gone for so long by a clock that nobody sets.
func (c *steadyClock) at(wall time.Time, up time.Duration) time.Time {
	wall = wall.Round(0)
	passed := up - c.up
	c.up = up
	c.time = c.time.Add(passed)
	if behind := wall.Sub(c.time); behind > 0 {
		c.time = c.time.Add(min(passed, behind))
	}
	if wall.Before(c.time) {
		return wall
	}
	return c.time
}

// A tail is the latest events, for those who follow.
type tail struct {
	sync.Mutex
	events  []Event
	changed chan struct{} // closed when there are more
}

// mostInTail is how many events a follower may be behind before it is sent back to the state.
const mostInTail = 8192

func openJournal(state *State, keeping Keeping, sends func([]Event), failed func(error)) (*journal, error) {
	next, err := state.NextEvent()
	if err != nil {
		return nil, err
	}
	j := &journal{state: state, keeping: keeping, sends: sends, failed: failed, first: next, next: next, wake: make(chan struct{}, 1), done: make(chan struct{})}
	j.recent.changed = make(chan struct{})
	newest, err := state.NewestEvent()
	if err != nil {
		return nil, err
	}
	j.opened = time.Now()
	j.ages = newSteadyClock(newest, j.opened)
	var ctx context.Context
	ctx, j.stop = context.WithCancel(context.Background())
	go j.run(ctx)
	return j, nil
}

// Record is Recorder's.
func (j *journal) Record(e Event) {
	j.mutex.Lock()
	full := len(j.queue) >= mostQueued
	if !full {
		j.queue = append(j.queue, e)
	}
	half := len(j.queue) == mostQueued/4
	j.mutex.Unlock()
	if full {
		j.lost.Add(1)
	}
	if half {
		select {
		case j.wake <- struct{}{}:
		default:
		}
	}
}

// run writes down what is recorded until it is stopped, and then what is left.
func (j *journal) run(ctx context.Context) {
	defer close(j.done)
	tick := time.NewTicker(writing)
	defer tick.Stop()
	for ctx.Err() == nil {
		select {
		case <-ctx.Done():
		case <-tick.C:
		case <-j.wake:
		}
		j.write()
	}
	j.write()
}

// Close writes down what is left.
func (j *journal) Close() {
	j.stop()
	<-j.done
}

// write numbers what waits and puts it into the state.
func (j *journal) write() {
	j.writes.Lock()
	defer j.writes.Unlock()
	j.mutex.Lock()
	events := j.queue
	j.queue = nil
	j.mutex.Unlock()
	if len(events) == 0 {
		return
	}
	var blocks []storedBlock
	for part := events; len(part) > 0; part = part[min(mostInBlock, len(part)):] {
		now := part[:min(mostInBlock, len(part))]
		b, w := storedBlock{first: j.next, oldest: now[0].Time, newest: now[0].Time}, newBlock()
		for i := range now {
			now[i].Number = j.next
			j.next++
			w.add(&now[i])
			if now[i].Time.Before(b.oldest) {
				b.oldest = now[i].Time
			}
			if now[i].Time.After(b.newest) {
				b.newest = now[i].Time
			}
		}
		b.count, b.data = w.count, w.data
		blocks = append(blocks, b)
	}
	if err := j.state.AddBlocks(blocks, j.keeping.Most, j.ages.at(time.Now(), time.Since(j.opened)).Add(-j.keeping.Age)); err != nil {
		j.lost.Add(int64(len(events)))
		j.failed(err)
	}
	j.recent.add(events)
	j.sends(events)
}

func (t *tail) add(events []Event) {
	t.Lock()
	defer t.Unlock()
	t.events = append(t.events, events...)
	if extra := len(t.events) - mostInTail; extra > 0 {
		t.events = append([]Event(nil), t.events[extra:]...)
	}
	close(t.changed)
	t.changed = make(chan struct{})
}

// after returns the events behind a number, and what is closed when there are more. ok is false
// where the tail no longer has all of them.
func (t *tail) after(number int64) (events []Event, more <-chan struct{}, ok bool) {
	t.Lock()
	defer t.Unlock()
	if n := len(t.events); n > 0 {
		if t.events[n-1].Number <= number {
			return nil, t.changed, true
		}
		first := t.events[0].Number
		if number+1 < first {
			return nil, t.changed, false
		}
		return append([]Event(nil), t.events[number+1-first:]...), t.changed, true
	}
	return nil, t.changed, true
}

// errEnough ends a look through events.
var errEnough = errors.New("enough")

// latest returns the number of the latest event that is written down.
func (j *journal) latest() int64 {
	j.recent.Lock()
	defer j.recent.Unlock()
	if n := len(j.recent.events); n > 0 {
		return j.recent.events[n-1].Number
	}
	return j.first - 1
}

// List returns the latest events that a filter lets through, at most so many, in their order,
// and how many it lets through in all; where count is false, only until there are enough.
func (j *journal) List(gateway string, f *Filter, most int, count bool) (list []Event, all int, err error) {
	err = j.look(f, 0, func(e *stored) error {
		if all++; len(list) < most {
			list = append(list, e.own())
		} else if !count {
			return errEnough
		}
		return nil
	})
	if errors.Is(err, errEnough) {
		err = nil
	}
	for i, k := 0, len(list)-1; i < k; i, k = i+1, k-1 {
		list[i], list[k] = list[k], list[i]
	}
	for i := range list {
		list[i].Gateway = gateway
	}
	return list, all, err
}

// look calls a function with the stored events from a number on that a filter lets through, the
// latest first.
func (j *journal) look(f *Filter, from int64, each func(*stored) error) error {
	j.write() // what has come so far is among them
	events := make([]stored, 0, mostInBlock)
	return j.state.Blocks(from, f.Since, func(b *storedBlock) (bool, error) {
		if !f.mayBeIn(b.data) {
			return true, nil
		}
		events = events[:0]
		r := readBlock(b.data)
		for number := b.first; len(events) < mostInBlock; number++ {
			events = events[:len(events)+1]
			e := &events[len(events)-1]
			if !r.next(e) {
				events = events[:len(events)-1]
				break
			}
			e.Number = number
		}
		if r.err != nil {
			return false, r.err
		}
		for i := len(events) - 1; i >= 0; i-- {
			if e := &events[i]; e.Number >= from && f.matchesEvent(&e.Event) {
				if err := each(e); err != nil {
					return false, err
				}
			}
		}
		return true, nil
	})
}
