package engine

// leave is the ninth step: by an interface, to a next hop or to the destination itself. Who
// that is says the network around the gateway (core/walk).
func (v *Visit) leave() {
	d := &v.decision
	d.Action, d.way, d.Out, d.Via, d.Packet, d.Sender = Forwards, v.way, v.way.Out, v.way.Via, v.flow.Now(), v.sender
}
