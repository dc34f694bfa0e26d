package engine

// leave is the ninth step: by an interface, to a next hop or to the destination itself. Who
// that is says the network around the gateway (see walk.go).
func (v *visit) leave(way *route) {
	d := &v.decision
	d.Action, d.way, d.Out, d.Via, d.Packet, d.Sender = Forwards, way, way.out, way.via, v.flow.now(), v.sender
}
