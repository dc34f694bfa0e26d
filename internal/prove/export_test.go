package prove

import (
	"reflect"
	"slices"

	"hollowbridge/core/engine"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
	"hollowbridge/internal/lab"
)

// InItself is what a lab shows of a packet that a relay of a machine takes and reaches nobody for: that it came to the machine.
type InItself string

// Observed returns what a lab shows of a trace: what the client meets, and as what the packet is delivered to a machine.
func Observed(t *words.Trace) (meets []lab.Answer, delivered any) {
	if t.Handed > 0 && t.Outcome == engine.Reached {
		return expected(t), [2]any{t.To.Name(), t.Delivered.DestinationPort}
	}
	relayed := func(s words.Step) bool { return s.Kind == engine.StepHost && s.Label == "relays" }
	if by := slices.IndexFunc(t.Steps, relayed); by >= 0 && t.Outcome != engine.Reached { // a relay that reaches nobody says nothing
		return expected(t), InItself(t.Steps[by].At)
	}
	if t.To.Machine == (network.Place{}) || t.Handed > 0 || t.Delivered.Destination.IsLoopback() {
		return expected(t), nil
	}
	return expected(t), [2]any{t.To.Name(), t.Delivered}
}

// LooksLike reports whether two things that are delivered can't be told apart.
func LooksLike(a, b any) bool {
	in := func(x, y any) bool {
		machine, itself := x.(InItself)
		other, delivered := y.([2]any)
		return itself && delivered && other[0] == string(machine)
	}
	return reflect.DeepEqual(a, b) || in(a, b) || in(b, a)
}

// Unsent returns why a connection is not sent, or nothing.
func Unsent(e *walk.Engine, c walk.Connection) string {
	p := &planner{engine: e, at: c.Moment, walk: e.NewWalk(), known: map[walk.Connection]bool{}}
	return p.add(c.From, c.Packet)
}
