package gateway

import (
	"net/netip"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/portmap"
)

// A Backend carries a gateway's rules into force. Use, Begin and Clear are called one at a time; all other methods by many goroutines, also
// meanwhile. Count, Missed and Name wait for nobody: a status is asked while others work.
type Backend interface {
	// Name is the word for it: kernel or simulated.
	Name() string
	// Check says what an administrator should know of a gateway before it is put into force, or
	// why it can't be. It touches nothing.
	Check(e *walk.Engine, g *engine.Gateway) (notes []string, err error)
	// Use puts a gateway into force in place of what was there, all of it or nothing. Sessions
	// go on with their translation.
	Use(e *walk.Engine, g *engine.Gateway) error
	// Begin is Use where nothing was in force before, and somebody wants it now: connections go on
	// that the rules would let pass. It returns those that it had to end.
	Begin(e *walk.Engine, g *engine.Gateway) (ended []string, err error)
	// Clear takes everything out of force.
	Clear() error
	// Sessions calls a function with each session that a filter lets through, until it returns
	// false.
	Sessions(f *Filter, each func(*Session) bool) error
	// End ends sessions by their numbers, and returns how many there were.
	End(numbers map[uint64]bool) (int, error)
	// Hits returns what rules have done since the backend was started, with the sessions that are
	// open and what these carried so far or, where that is looked up, without.
	Hits(open bool) ([]Hit, error)
	// Missed returns how many connections, and lines of the log, came faster than they were read.
	Missed() (connections, lines int64)
	// Open puts mappings into force, in place of those with the same outside address and port,
	// and takes others out: all of it or nothing. Sessions go on. A revision that is used next
	// has them too.
	Open(open []*network.Mapping, shut []portmap.Shut) error
	// Bound returns the port of an outside address that the sessions of a machine's port have,
	// where they have one, and IsTaken says whether somebody's sessions have a port.
	Bound(protocol header.Protocol, inside netip.AddrPort, outside netip.Addr) (port uint16, ok bool)
	IsTaken(protocol header.Protocol, outside netip.AddrPort) bool
	// Hidden calls a function with each session whose source is translated and has a number: a port, or that of an echo.
	Hidden(each func(Hidden)) error
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

// Why a new connection fares as it does, in a few words; the whole of it is in its trace.
const (
	noRuleMatches    = "no filter rule matches"
	nothingRedirects = "nothing redirects or serves it"
	filterComesAfter = "the filter decides afterwards"
	filterCameBefore = "the filter has let it through"
)

// says is what a filter rule says.
func says(r *network.Rule) string { return "the rule says " + r.Kind }

// stopReasons are those of steps that stop what no rule names.
var stopReasons = map[engine.StepKind]string{
	engine.StepArrive:      "its sender is forged, or the interface is down",
	engine.StepSession:     "there is no room for another session",
	engine.StepDestination: "the rule has no place for its address",
	engine.StepItself:      nothingRedirects,
	engine.StepRoute:       "no route leads there",
	engine.StepFilter:      noRuleMatches,
	engine.StepTurnBack:    "it would leave where it came in",
	engine.StepSource:      "every address and port of the rule is taken",
	engine.StepLeave:       "nobody has that address",
}

// why says why a gateway lets a new connection pass that a rule logs, or stops it.
func why(g *network.Gateway, d *engine.Decision, rule *network.Rule) string {
	switch {
	case d.Action == engine.Stops && d.Step == engine.StepFilter && d.Rule != nil:
		return says(d.Rule)
	case d.Action == engine.Stops:
		return stopReasons[d.Step]
	case d.Permit != nil && d.Permit == rule:
		return says(rule)
	case d.Permit != nil:
		return d.Permit.List() + "/" + d.Permit.Name + " allows it"
	case d.Action == engine.Takes:
		return "the gateway serves it"
	case d.Redirect != nil && g.Handling.ForwardsPermit:
		return "the forward permits it"
	}
	return "its zone is trusted more"
}

// Outcomes of a new connection besides those of a trace.
const (
	Passes     = "passes"     // the gateway lets it through
	Translated = "translated" // a rule does, on the kernel, which does not know then what becomes of it
)
