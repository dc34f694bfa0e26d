package engine

import (
	"hollowbridge/core/header"
)

// andBack walks the answer back, from the last machine through every relay to
// the client, and compares what comes back with what was asked.
func (w *Walk) andBack() {
	outcome := w.verdict
	w.back = true
	for i := len(w.legs) - 1; i >= 0; i-- {
		l := &w.legs[i]
		w.passages = w.passages[:0]
		p := l.delivered.Answer()
		var at position
		if l.gateway != nil {
			at = w.carry(w.answerItself(l.gateway, &p), &p)
		} else {
			at = w.carry(w.send(l.to, &p), &p)
		}
		if !w.cameBack(l, at, p) {
			w.verdict.Host, w.verdict.Delivered = outcome.Host, outcome.Delivered
			return
		}
		if i == 0 {
			w.verdict.Answered = p
		}
	}
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
func (w *Walk) cameBack(l *leg, at position, p header.Packet) bool {
	if at.kind == ended {
		return false
	}
	want := l.packet.Answer()
	if at.kind == atMachine && l.from.same(at.machine) && p.Destination == want.Destination {
		if p == want {
			return true
		}
		w.end(Unanswered, l.from.Name(), StepBack, nil)
		if w.trace != nil {
			w.why("The answer comes from %s, but the client asked %s and throws it away: it went round the gateway that translated it.", p.From(), want.From())
		}
		return false
	}
	if at.kind == atMachine {
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
