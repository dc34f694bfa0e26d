package walk

import (
	"hollowbridge/core/engine"
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// awaited reports whether the packet that comes to a machine answers an earlier
// connection of its own.
func (w *Walk) awaited(at network.Place) bool {
	if w.back || w.flow.Protocol().HasBeginning() {
		return false
	}
	for i := range w.calls {
		if c := &w.calls[i]; c.from.Same(at) && w.flow.Is(&c.packet, true) {
			return true
		}
	}
	return false
}

// atHost asks the machine that the packet was delivered to: its firewall, its relays,
// whether it serves that port. It returns whether the machine takes the connection, and
// whether a relay then sends it on to another machine, as the flow is then.
func (w *Walk) atHost(machine network.Place) (onward, taken bool) {
	at, h := network.Site{Machine: machine}, machine.Host
	w.verdict.Outcome, w.verdict.At, w.verdict.To, w.verdict.Delivered = engine.Reached, at, at, w.flow.Now()
	if w.awaited(machine) {
		w.note(engine.StepHost, engine.AwaitedAnswer, at)
		w.settled = true
		return false, true
	}
	if h == nil {
		w.note(engine.StepHost, engine.Beyond, at)
		return false, true
	}
	if !w.hostPermits(h, at) {
		return false, false
	}
	for range mostRelays {
		r := w.relayFor(h)
		if r == nil {
			w.verdict.Delivered = w.flow.Now()
			w.flow.Deliver()
			return false, w.hostServes(h, at)
		}
		before := w.flow.Now()
		w.flow.SetAddress(flowset.Destination, r.To)
		if r.ToPort != 0 {
			w.flow.SetPort(flowset.Port, r.ToPort)
		}
		w.note(engine.StepHost, engine.Relays, at).Before = before
		if !r.To.IsLoopback() && !h.Has(r.To) {
			return w.handOn(h, at)
		}
	}
	w.end(engine.Loop, at, engine.StepHost, nil)
	w.note(engine.StepHost, engine.RelaysRound, at)
	return false, false
}

// handOn begins the connection that a relay makes to another machine, from the
// host's own address.
func (w *Walk) handOn(h *network.Host, at network.Site) (onward, taken bool) {
	from, has := h.AddressOf(w.flow.Family())
	if !has {
		w.end(engine.Unrouted, at, engine.StepHost, nil)
		w.note(engine.StepHost, engine.RelayNoAddress, at)
		return false, false
	}
	w.flow.SetAddress(flowset.Source, from)
	return true, true
}

func (w *Walk) relayFor(h *network.Host) *network.Relay {
	for i := range h.Relays {
		if w.flow.IsFor(h.Relays[i].Listen) {
			return &h.Relays[i]
		}
	}
	return nil
}

func (w *Walk) hostPermits(h *network.Host, at network.Site) bool {
	if h.Firewall == nil {
		return true
	}
	for i := range h.Firewall.Rules {
		r := &h.Firewall.Rules[i]
		if !w.flow.IsFor(r.Services) || !w.flow.From(r.From) {
			continue
		}
		e := w.note(engine.StepHost, engine.HostDecides, at)
		e.Host, e.HostRule = h, r
		if r.Verb == network.Allow {
			return true
		}
		w.end(engine.HostFirewall, at, engine.StepHost, nil)
		if r.Verb == network.Reject {
			w.refusal = refusal{packet: w.flow.Now(), how: engine.RefusedBy(w.flow.Protocol())}
		}
		return false
	}
	w.end(engine.HostFirewall, at, engine.StepHost, nil)
	w.note(engine.StepHost, engine.HostUnmatched, at).Host = h
	return false
}

// listener returns the service of the host that answers the packet, or nil.
func (w *Walk) listener(h *network.Host) *network.HostService {
	for i := range h.Serves {
		s := &h.Serves[i]
		if s.At.IsValid() && !w.flow.IsAt(s.At) {
			continue
		}
		if w.flow.IsFor(s.Services) {
			return s
		}
	}
	return nil
}

func (w *Walk) hostServes(h *network.Host, at network.Site) bool {
	if w.flow.Protocol() == header.ICMP {
		if !h.AnswersPing {
			w.end(engine.Unanswered, at, engine.StepHost, nil)
			w.note(engine.StepHost, engine.NoPings, at)
			return false
		}
		w.note(engine.StepHost, engine.AnswersPing, at)
		return true
	}
	if s := w.listener(h); s != nil {
		w.note(engine.StepHost, engine.Serves, at).Service = s.Text
		return true
	}
	w.end(engine.Refused, at, engine.StepHost, nil)
	delivered := w.legs[len(w.legs)-1].delivered.Packet
	w.refusal = refusal{packet: delivered, how: engine.RefusedBy(delivered.Protocol)}
	w.note(engine.StepHost, engine.Refuses, at).Host = h
	return false
}
