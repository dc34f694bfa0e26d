package engine

import (
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// andBack walks the answer back, from the last machine through every relay to
// the client, and compares what comes back with what was asked.
func (w *Walk) andBack() {
	w.back = true
	for i := len(w.legs) - 1; i >= 0; i-- {
		l := &w.legs[i]
		w.passages = w.passages[:0]
		p := l.delivered.Answer()
		w.region.answer(i, p.Protocol)
		var at position
		if l.gateway != nil {
			at = w.answerItself(l.gateway, &p)
		} else {
			at = w.send(l.to, &p)
		}
		if at = w.carry(at, &p); !w.cameBack(i, at, p) {
			return
		}
		if i == 0 {
			w.verdict.Answered = p
		}
	}
}

// tell walks a refusal back to the client. It is a reset for TCP and else an ICMP
// error, which gateways pass on by the session of the packet it quotes, so it takes
// the way an answer takes. Whether it gets there or not, the outcome stays.
func (w *Walk) tell() {
	outcome, before := w.verdict, 0
	if w.trace != nil {
		before = len(w.trace.Why)
	}
	w.back = true
	told := true
	for i := len(w.legs) - 1; i >= 0 && told; i-- {
		l := &w.legs[i]
		w.passages = w.passages[:0]
		p := l.delivered.Answer()
		var at position
		switch {
		case i == len(w.legs)-1 && w.refuser != nil:
			p = w.refusal.Answer()
			at = w.refuse(w.refuser, &p)
		default:
			at = w.send(l.to, &p)
		}
		told = w.cameBack(i, w.carry(at, &p), p)
	}
	w.verdict = outcome
	w.verdict.Told = told
	if w.trace != nil && !told {
		w.trace.Why = append(w.trace.Why[:before:before], append([]string{"The client is not even told:"}, w.trace.Why[before:]...)...)
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
