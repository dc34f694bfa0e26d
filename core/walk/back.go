package walk

import (
	"net/netip"

	"hollowbridge/core/engine"
	"hollowbridge/core/flow"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// comesBack walks the answer of the last leg back to where the leg began, and compares
// what comes back with what was asked.
func (w *Walk) comesBack() bool {
	l := &w.legs[len(w.legs)-1]
	w.goes(header.Answers)
	w.passages = w.passages[:0]
	w.flow.Become(&l.delivered, true)
	var at nextPlace
	if l.gateway != nil {
		at = w.answerItself(l.gateway)
	} else {
		at = w.send(l.to)
	}
	return w.cameBack(l, w.carry(at))
}

// shakesHands sends the third packet of a TCP connection, with which it is there. It
// goes the way of the first, by the same sessions; a gateway that the answer went round
// drops it.
func (w *Walk) shakesHands() bool {
	if w.states != nil || w.asks != nil {
		return w.goesOn()
	}
	if g := w.state.Half(); g != nil {
		w.end(engine.Unanswered, network.Site{Gateway: g.Gateway}, engine.StepSession, nil)
		w.note(engine.StepSession, engine.HalfHandshake, w.verdict.At)
		return false
	}
	return true
}

// goesOn is shakesHands for gateways with states of their own: the packet is sent.
func (w *Walk) goesOn() bool {
	l := w.legs[len(w.legs)-1]
	if w.flow.Protocol() != header.TCP {
		return true
	}
	w.goes(header.Continues)
	w.passages = w.passages[:0]
	w.flow.Become(&l.sent, false)
	told := len(w.log.Events)
	if at := w.carry(w.send(l.from)); at.kind != ended {
		w.log.Events = w.log.Events[:told] // it goes the way of the first, which is told already
		return true
	}
	w.verdict.Outcome = engine.Unanswered
	return false
}

// Sends sends another packet of the connection that was walked last, from the client or, back,
// from where it was delivered, through gateways that remember it. It reports whether it arrives.
func (w *Walk) Sends(part header.Part, back bool, size int) bool {
	if len(w.legs) == 0 || !w.flow.IsOne() {
		return false
	}
	l := w.legs[0]
	verdict := w.verdict
	w.log.Reset()
	w.part, w.back, w.size, w.sender = part, back, size, netip.Addr{}
	w.state.Turn(back)
	w.passages = w.passages[:0]
	var at nextPlace
	switch {
	case !back:
		w.flow.Become(&l.sent, false)
		at = w.carry(w.send(l.from))
	case l.gateway != nil:
		w.flow.Become(&l.delivered, true)
		at = w.carry(w.answerItself(l.gateway))
	default:
		w.flow.Become(&l.delivered, true)
		at = w.carry(w.send(l.to))
	}
	w.verdict, w.size = verdict, 0
	return at.kind != ended
}

// tell walks a refusal back to the client: a reset, or an ICMP error, which gateways
// pass on by the session of the packet it quotes, so that it takes the way an answer
// takes. Whether it gets there or not, the outcome stays.
func (w *Walk) tell() {
	outcome := w.verdict
	part := header.Resets
	if w.refusal.how == engine.ErrorMessage {
		part = header.Reports
	}
	w.goes(part)
	w.telling = len(w.log.Events)
	w.sender = netip.Addr{}
	w.passages = w.passages[:0]
	w.flow.Begin(w.refusal.packet.Answer())
	var at nextPlace
	switch router := w.refusal.router; {
	case w.refusal.by != nil:
		g, in := w.engine.gateways[w.refusal.by.Gateway.Index], w.refusal.by
		w.enter(g, in)
		at = w.decided(g, in, w.visit.Refuse())
	case router != nil:
		if !router.Router.IsLinkLocalUnicast() {
			w.sender = router.Router
		}
		at = w.byRouter(w.engine.gatewayOn(router, nil, w.flow.Family()))
	default:
		at = w.send(w.legs[0].to)
	}
	told := w.cameBack(&w.legs[0], w.carry(at))
	w.verdict = outcome
	w.verdict.Told = told
}

// answerItself sends a gateway's own answer on its way.
func (w *Walk) answerItself(g *engine.Gateway) nextPlace {
	w.enter(g, nil)
	if w.asks != nil {
		return w.ask(g, nil)
	}
	d, ok := w.visit.Answer()
	if !ok {
		return nextPlace{}
	}
	return w.decided(g, nil, d)
}

// cameBack reports whether the answer of a leg is where the client is, and from where the
// client expects it.
func (w *Walk) cameBack(l *leg, at nextPlace) bool {
	switch {
	case at.kind == ended:
		return false
	case at.kind == takenByGateway:
		w.end(engine.Unanswered, network.Site{Gateway: at.gateway.Gateway}, engine.StepBack, nil)
		w.note(engine.StepBack, engine.EndsAtGateway, w.verdict.At)
		return false
	case l.from.Same(*at.machine) && w.flow.GoesTo(&l.sent):
		if w.flow.Is(&l.sent, true) {
			return true
		}
		if w.beside {
			w.flow.By(w.engine.entries) // which uplink the client is beside
		}
		w.end(engine.Unanswered, network.Site{Machine: l.from}, engine.StepBack, nil)
		w.note(engine.StepBack, engine.OtherSource, w.verdict.At).Before = l.sent.Answer()
		return false
	}
	flow.Whose(w.flow, w.engine.hostsAt(*at.machine))
	w.end(engine.Unanswered, network.Site{Machine: *at.machine}, engine.StepBack, nil)
	w.note(engine.StepBack, engine.Elsewhere, w.verdict.At)
	return false
}
