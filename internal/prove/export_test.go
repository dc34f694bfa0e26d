package prove

import (
	"hollowbridge/core/engine"
	"hollowbridge/internal/lab"
)

// Observed returns what a lab shows of a trace: what the client meets, and as what the packet is delivered to a machine.
func Observed(t *engine.Trace) (meets []lab.Answer, delivered any) {
	if t.Handed > 0 && t.Outcome == engine.Reached {
		return expected(t), [2]any{t.To.Name(), t.Delivered.DestinationPort}
	}
	if t.To.Machine == (engine.Place{}) || t.Handed > 0 || t.Delivered.Destination.IsLoopback() {
		return expected(t), nil
	}
	return expected(t), [2]any{t.To.Name(), t.Delivered}
}

// Unsent returns why a connection is not sent, or nothing.
func Unsent(e *engine.Engine, c engine.Connection) string {
	p := &planner{engine: e, at: c.Moment, walk: e.NewWalk(), known: map[engine.Connection]bool{}}
	return p.add(c.From, c.Packet)
}
