package gateway

import (
	"hollowbridge/core/engine"
	"hollowbridge/core/network"
)

// A Backend carries a gateway's rules into force. Its methods are called one at a time, but
// Sessions, Hits and Count by many goroutines, also meanwhile.
type Backend interface {
	// Name is the word for it: kernel or simulated.
	Name() string
	// Check says what an administrator should know of a gateway before it is put into force, or
	// why it can't be. It touches nothing.
	Check(g *engine.Gateway) (notes []string, err error)
	// Use puts a gateway into force in place of what was there, all of it or nothing. Sessions
	// go on with their translation.
	Use(g *engine.Gateway) error
	// Clear takes everything out of force.
	Clear() error
	// Sessions calls a function with each session that a filter lets through, until it returns
	// false.
	Sessions(f *Filter, each func(*Session) bool) error
	// End ends sessions by their numbers, and returns how many there were.
	End(numbers map[uint64]bool) (int, error)
	// Hits returns what rules have done since the backend was started.
	Hits() ([]Hit, error)
	// Count returns how many sessions there are.
	Count() int
	// Close ends what the backend has running. What is in force stays there.
	Close() error
}

// A Recorder takes the events of a backend. It waits for nobody.
type Recorder interface{ Record(Event) }

// logged returns the rule by whose wish a new connection is logged, or whether it is because
// no rule matches it.
func logged(g *network.Gateway, d *engine.Decision) (rule *network.Rule, ok bool) {
	if !g.Logging.Enabled {
		return nil, false
	}
	if d.Action == engine.Stops {
		if d.Rule != nil && d.Rule.Log {
			return d.Rule, true
		}
		if d.Rule == nil && g.Logging.Unmatched && (d.Step == engine.StepFilter || d.Step == engine.StepItself) {
			return nil, true
		}
	}
	for _, r := range []*network.Rule{d.Permit, d.Redirect, d.Source} {
		if r != nil && r.Log {
			return r, true
		}
	}
	return nil, false
}

// Outcomes of a new connection besides those of a trace.
const (
	Passes     = "passes"     // the gateway lets it through
	Translated = "translated" // a rule does, on the kernel, which does not know then what becomes of it
)
