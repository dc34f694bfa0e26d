package gateway

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/network"
	"hollowbridge/internal/kernel"
)

// readAll does something with what the kernel sends by itself, until the backend is closed.
func readAll[T any](k *Kernel, what string, next func() ([]T, error), missed func(), do func(*engine.Gateway, []T)) {
	var said time.Time
	for {
		list, err := next()
		if k.closed.Load() {
			return
		}
		if isMissed := errors.Is(err, kernel.ErrMissed); err != nil {
			if !isMissed || time.Since(said) > sayAgain {
				said = time.Now()
				k.Trouble(fmt.Errorf("%s: %w", what, err))
			}
			if !isMissed {
				return
			}
			missed()
		}
		if g := k.current.Load(); g != nil {
			do(g, list)
		}
	}
}

// uncounted says of a machine that does not count what passes.
func uncounted() []string {
	if kernel.CountsSessions() {
		return nil
	}
	return []string{"the machine does not count the packets of sessions: sysctl net.netfilter.nf_conntrack_acct=1 makes it"}
}

// listen records what rules write into the kernel's log.
func (k *Kernel) listen() {
	names := map[int]string{}
	readAll(k, "reading the kernel's log", k.listener.Next, func() {}, func(g *engine.Gateway, lines []kernel.Line) {
		now := time.Now()
		for i := range lines {
			k.recorder.Record(k.event(g, &lines[i], now, names))
		}
	})
}

// event returns a line of the kernel's log as an event.
func (k *Kernel) event(g *engine.Gateway, l *kernel.Line, now time.Time, names map[int]string) Event {
	e := Event{Time: now, Gateway: g.Name, What: connectionEvent, Outcome: Passes}
	e.In, e.InDevice = k.interfaceOf(g, l.In, names)
	e.Out, e.OutDevice = k.interfaceOf(g, l.Out, names)
	where, name, isRule := strings.Cut(l.Mark, "/")
	switch {
	case l.Mark == kernel.ItselfMark:
		e.Outcome, e.Text = engine.Itself.String(), nothingRedirects
	case !isRule:
		e.Outcome, e.Text = engine.Dropped.String(), noRuleMatches
	default:
		e.Rule = l.Mark
	}
	if where == "nat" {
		e.Outcome, e.Text = Translated, filterComesAfter // what becomes of it, its rule does not know
		if l.Out != 0 {                                  // a rule for the source
			e.Text = filterCameBefore
		}
	}
	if where == "filter" {
		for _, r := range g.Filter {
			if r.Name != name {
				continue
			}
			e.Text = says(&r.Rule)
			switch r.Verb {
			case network.Drop:
				e.Outcome = engine.Dropped.String()
			case network.Reject:
				e.Outcome = engine.Rejected.String()
			}
		}
	}
	before := PacketOf(l.Before)
	e.Before = &before
	if e.Outcome == Passes || e.Outcome == Translated && l.Now != l.Before {
		after := PacketOf(l.Now)
		e.After = &after
	}
	return e
}

// interfaceOf returns the names of a device, ours and the machine's.
func (k *Kernel) interfaceOf(g *engine.Gateway, index int, names map[int]string) (ours, theirs string) {
	if index == 0 {
		return "", ""
	}
	if _, ok := names[index]; !ok {
		host, err := kernel.ReadHost(k.Namespace)
		if err != nil {
			k.Trouble(err)
			return "", ""
		}
		for _, d := range host.Devices {
			names[d.Index] = d.Name
		}
	}
	theirs = names[index]
	for _, i := range g.Interfaces {
		if k.Device(i) == theirs {
			return i.Name, theirs
		}
	}
	return theirs, theirs
}
