package engine

import (
	"net/netip"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// comesBack walks the answer of the last leg back to where the leg began, and compares
// what comes back with what was asked.
func (w *Walk) comesBack() bool {
	w.back = true
	number := len(w.legs) - 1
	l := &w.legs[number]
	w.passages = w.passages[:0]
	p := l.delivered.Answer()
	w.region.answer(number, p.Protocol)
	var at position
	if l.gateway != nil {
		at = w.answerItself(l.gateway, &p)
	} else {
		at = w.send(l.to, &p)
	}
	return w.cameBack(number, w.carry(at, &p), p)
}

// shakesHands sends the third packet of a TCP connection, with which it is there. It
// goes the way of the first, by the same sessions; a gateway that the answer went round
// drops it.
func (w *Walk) shakesHands() bool {
	if w.legs[len(w.legs)-1].packet.Protocol != header.TCP {
		return true
	}
	for _, i := range w.used {
		s := &w.sessions[i]
		if s.local || s.answered || s.gateway.Handling.TCPLoose {
			continue
		}
		w.end(Unanswered, s.gateway.Name, StepSession, nil)
		if w.trace != nil {
			w.why("%s saw the connection begin but not its answer, which went round it; so it drops the client's next packet, and the connection never comes about.", s.gateway.Name)
		}
		return false
	}
	return true
}

// tell walks a refusal back to the client: a reset, or an ICMP error, which gateways
// pass on by the session of the packet it quotes, so that it takes the way an answer
// takes. Whether it gets there or not, the outcome stays.
func (w *Walk) tell() {
	outcome, before := w.verdict, 0
	if w.trace != nil {
		before = len(w.trace.Why)
	}
	w.back, w.telling = true, w.refusal.how
	w.teller = netip.Addr{}
	w.passages = w.passages[:0]
	p := w.refusal.packet.Answer()
	var at position
	if w.refusal.by != nil {
		at = w.refuse(w.refusal.by, &p)
	} else {
		at = w.send(w.legs[0].to, &p)
	}
	told := w.cameBack(0, w.carry(at, &p), p)
	w.verdict = outcome
	w.verdict.Told = told
	if w.trace != nil && !told {
		w.trace.Why = append(w.trace.Why[:before:before], append([]string{"The client is not even told:"}, w.trace.Why[before:]...)...)
	}
}

// unreachable notes that a gateway tells the client that the destination can't be
// reached (RFC 1812, 5.2.7.1): the gateway of a passage, if there was one.
func (w *Walk) unreachable(number int) {
	if w.back || number < 0 {
		return
	}
	if last := &w.passages[number]; !last.in.Gateway.Handling.UnreachableSilent {
		w.refusal = refusal{last.packet, last.in, icmpError}
	}
}

// refuse sends a gateway's own refusal on its way, by the uplink the packet came
// in by, or by the routes.
func (w *Walk) refuse(in *network.Interface, p *header.Packet) position {
	g := w.engine.gateways[in.Gateway.Index]
	r := w.sessionRoute(g, in, p)
	if r == nil {
		return position{}
	}
	if w.telling == icmpError {
		w.teller, _ = r.out.Address(header.FamilyOf(p.Destination))
	}
	return w.leave(g, r, p)
}

// answerItself sends a gateway's own answer on its way.
func (w *Walk) answerItself(g *gateway, p *header.Packet) position {
	s, _ := w.session(g, p)
	if s == nil {
		return position{}
	}
	return w.follow(g, s, false, p)
}

// cameBack reports whether the answer is where the client is, and from where the
// client expects it.
func (w *Walk) cameBack(number int, at position, p header.Packet) bool {
	l := &w.legs[number]
	if at.kind == ended {
		return false
	}
	want := l.packet.Answer()
	home := at.kind == atMachine && l.from.same(at.machine)
	if home && w.region.sameAnswer(number, justDestination, p.Destination == want.Destination) {
		if w.region.sameAnswer(number, endFields, p == want) {
			return true
		}
		w.end(Unanswered, l.from.Name(), StepBack, nil)
		if w.trace != nil {
			w.why("The answer comes from %s, but the client asked %s and throws it away: it went round the gateway that translated it.", p.From(), want.From())
		}
		return false
	}
	if at.kind == atMachine {
		w.oneHost(at.machine, p.Destination)
		w.end(Unanswered, at.machine.Name(), StepBack, nil)
		if w.trace != nil {
			w.why("The answer goes to %s at %s, where the client is not.", p.To(), at.machine.Name())
		}
		return false
	}
	w.end(Unanswered, at.gateway.Name, StepBack, nil)
	if w.trace != nil {
		w.why("The answer ends at %s itself.", at.gateway.Name)
	}
	return false
}
