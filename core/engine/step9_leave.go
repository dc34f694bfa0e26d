package engine

import (
	"hollowbridge/core/table"
)

// leave is the ninth step: by an interface, to a next hop or to the destination itself. Who
// that is says the network around the gateway (core/walk).
func (v *Visit) leave(way *table.Route) {
	d := &v.decision
	d.Action, d.way, d.Out, d.Via, d.Packet, d.Sender = Forwards, way, way.Out, way.Via, v.flow.Now(), v.sender
}
