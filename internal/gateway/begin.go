package gateway

import (
	"fmt"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/walk"
	"hollowbridge/internal/kernel"
)

// Where nothing is in force yet, the machine may not have remembered connections at all, and to rules that are strict all those that go
// through it would be in the middle of nothing. So they are remembered for some seconds before the rules come. Who began them is not
// known then: the first packet that was seen may be an answer. Each goes on where the rules allow one of its directions and do not
// translate it, and is ended and named where not. For a while more a connection that was silent goes on with a packet in a direction
// that the rules allow.

const (
	listening = 5 * time.Second  // how long connections are remembered before the rules come; TCP sends again by then what was lost
	goingOn   = 10 * time.Minute // and how long silent ones go on afterwards
)

// What a machine does before anything is in force.
const (
	BeforeOpen  = "open"  // it forwards everything
	BeforeOther = "other" // somebody else's rules decide
)

// Before returns what the machine does before anything is in force.
func (k *Kernel) Before() string {
	if !k.mutex.TryLock() { // it gets rules just now
		return ""
	}
	defer k.mutex.Unlock()
	if others, err := k.machine.Others(k.Namespace); err != nil || len(others) > 0 {
		return BeforeOther
	}
	return BeforeOpen
}

// Begin is Backend's.
func (k *Kernel) Begin(e *walk.Engine, g *engine.Gateway) (ended []string, err error) {
	k.mutex.Lock()
	tracks, err := k.machine.Tracks(k.Namespace)
	if err == nil && !tracks && k.current.Load() == nil {
		err = k.machine.Apply(kernel.Tracking())
	}
	k.mutex.Unlock()
	if err != nil || tracks {
		if err == nil {
			err = k.Use(e, g)
		}
		return nil, err
	}
	wait := listening
	if k.Lab {
		wait /= 20
	}
	time.Sleep(wait)
	k.mutex.Lock()
	k.middle = time.Now().Add(goingOn)
	k.outdate()
	k.mutex.Unlock()
	if err := k.Use(e, g); err != nil {
		k.mutex.Lock()
		defer k.mutex.Unlock()
		k.middle = time.Time{}
		k.outdate()
		if again := k.machine.Clear(); again != nil {
			k.Trouble(again)
		}
		return nil, err
	}
	list, err := k.connections()
	if err != nil {
		k.Trouble(err)
		return nil, nil
	}
	k.mutex.Lock()
	defer k.mutex.Unlock()
	for i := range list {
		t := &list[i]
		if k.allows(g, t.Before) || k.allows(g, t.Before.Answer()) {
			continue
		}
		if err := k.machine.End(t); err != nil {
			k.Trouble(err)
			continue
		}
		ended = append(ended, fmt.Sprintf("%s %s %s", t.Before.From(), t.Before.Protocol, t.Before.To()))
	}
	return ended, nil
}

// allows reports whether the rules let a connection pass as it is, or it is one of the machine's own.
func (k *Kernel) allows(g *engine.Gateway, p header.Packet) bool {
	if own := g.Own(); own.Contains(p.Source) {
		return true
	}
	in := g.OutTo(p.Source)
	if in == nil {
		return false
	}
	var log engine.Log
	d := g.Decide(&engine.Arrival{In: in, Packet: p, At: g.MomentAt(time.Now())}, &again{p, &k.mapped}, &log)
	return d.Action != engine.Stops && d.Packet == p
}

// endMiddle takes no connection up in its middle any more, when it is time.
func (k *Kernel) endMiddle(now time.Time) error {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	if k.middle.IsZero() || now.Before(k.middle) {
		return nil
	}
	k.middle = time.Time{}
	k.outdate()
	g := k.current.Load()
	if g == nil {
		return nil
	}
	err := k.use(g)
	if err != nil {
		k.middle = now.Add(time.Minute) // and tries again
	}
	return err
}
