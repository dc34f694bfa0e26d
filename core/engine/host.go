package engine

import (
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// awaited reports whether the packet that comes to a machine answers an earlier
// connection of its own.
func (w *Walk) awaited(at Place) bool {
	if w.back || w.flow.protocol().HasBeginning() {
		return false
	}
	for i := range w.calls {
		if c := &w.calls[i]; c.from.same(at) && w.flow.is(&c.packet, true) {
			return true
		}
	}
	return false
}

// atHost asks the machine that the packet was delivered to: its firewall, its relays,
// whether it serves that port. It returns whether the machine takes the connection, and
// whether a relay then sends it on to another machine, as the flow is then.
func (w *Walk) atHost(machine Place) (onward, taken bool) {
	at, h := Site{Machine: machine}, machine.Host
	w.verdict.Outcome, w.verdict.At, w.verdict.To, w.verdict.Delivered = Reached, at, at, w.flow.now()
	if w.awaited(machine) {
		w.note(StepHost, AwaitedAnswer, at)
		w.settled = true
		return false, true
	}
	if h == nil {
		w.note(StepHost, Beyond, at)
		return false, true
	}
	if !w.hostPermits(h, at) {
		return false, false
	}
	for range mostRelays {
		r := w.relayFor(h)
		if r == nil {
			w.verdict.Delivered = w.flow.now()
			w.flow.deliver()
			return false, w.hostServes(h, at)
		}
		before := w.flow.now()
		w.flow.setAddress(flowset.Destination, r.To)
		if r.ToPort != 0 {
			w.flow.setPort(flowset.Port, r.ToPort)
		}
		w.note(StepHost, Relays, at).Before = before
		if !r.To.IsLoopback() && !h.Has(r.To) {
			return w.handOn(h, at)
		}
	}
	w.end(Loop, at, StepHost, nil)
	w.note(StepHost, RelaysRound, at)
	return false, false
}

// handOn begins the connection that a relay makes to another machine, from the
// host's own address.
func (w *Walk) handOn(h *network.Host, at Site) (onward, taken bool) {
	from, has := h.AddressOf(w.flow.family())
	if !has {
		w.end(Unrouted, at, StepHost, nil)
		w.note(StepHost, RelayNoAddress, at)
		return false, false
	}
	w.flow.setAddress(flowset.Source, from)
	return true, true
}

func (w *Walk) relayFor(h *network.Host) *network.Relay {
	for i := range h.Relays {
		if w.flow.isFor(h.Relays[i].Listen) {
			return &h.Relays[i]
		}
	}
	return nil
}

func (w *Walk) hostPermits(h *network.Host, at Site) bool {
	if h.Firewall == nil {
		return true
	}
	for i := range h.Firewall.Rules {
		r := &h.Firewall.Rules[i]
		if !w.flow.isFor(r.Services) || !w.flow.from(r.From) {
			continue
		}
		e := w.note(StepHost, HostDecides, at)
		e.Text, e.Host, e.Flag = r.Text, h, r.Verb == network.Allow
		if r.Verb == network.Allow {
			return true
		}
		w.end(HostFirewall, at, StepHost, nil)
		if r.Verb == network.Reject {
			w.refusal = refusal{packet: w.flow.now(), how: refusedBy(w.flow.protocol())}
		}
		return false
	}
	w.end(HostFirewall, at, StepHost, nil)
	w.note(StepHost, HostUnmatched, at).Host = h
	return false
}

// listener returns the service of the host that answers the packet, or nil.
func (w *Walk) listener(h *network.Host) *network.HostService {
	for i := range h.Serves {
		s := &h.Serves[i]
		if s.At.IsValid() && !w.flow.isAt(s.At) {
			continue
		}
		if w.flow.isFor(s.Services) {
			return s
		}
	}
	return nil
}

func (w *Walk) hostServes(h *network.Host, at Site) bool {
	if w.flow.protocol() == header.ICMP {
		if !h.AnswersPing {
			w.end(Unanswered, at, StepHost, nil)
			w.note(StepHost, NoPings, at)
			return false
		}
		w.note(StepHost, AnswersPing, at)
		return true
	}
	if s := w.listener(h); s != nil {
		w.note(StepHost, Serves, at).Text = s.Text
		return true
	}
	w.end(Refused, at, StepHost, nil)
	delivered := w.legs[len(w.legs)-1].delivered.Packet
	w.refusal = refusal{packet: delivered, how: refusedBy(delivered.Protocol)}
	w.note(StepHost, Refuses, at).Host = h
	return false
}
