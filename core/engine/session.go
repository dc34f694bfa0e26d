package engine

import (
	"fmt"
	"net/netip"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A session is a connection that a gateway has accepted and remembers.
type session struct {
	gateway       *gateway
	in, out       *network.Interface
	before, after header.Packet // as it came and as it left
	local         bool          // the gateway itself answers it
	answered      bool          // an answer has passed
}

// session is the second step: it finds the session a packet belongs to, and
// whether it goes the session's way or answers it. What begins a TCP connection, or
// asks for an echo, answers nothing.
func (w *Walk) session(g *gateway, p *header.Packet) (s *session, forward bool) {
	for i := len(w.sessions) - 1; i >= 0; i-- {
		s := &w.sessions[i]
		if s.gateway != g {
			continue
		}
		if (w.back || !hasBeginning(p.Protocol)) && w.region.sameSession(i, false, s.after.Answer() == *p) {
			return s, false
		}
		if w.region.sameSession(i, true, s.before == *p) {
			return s, true
		}
	}
	return nil, false
}

// hasBeginning reports whether the first packet of a connection can be told from an answer.
func hasBeginning(p header.Protocol) bool { return p == header.TCP || p == header.ICMP }

// keep remembers a session; the first packet of this leg goes by it.
func (w *Walk) keep(s session) {
	w.sessions = append(w.sessions, s)
	w.region.remember(len(w.sessions))
	if !w.back {
		w.used = append(w.used, len(w.sessions)-1)
	}
}

// stray judges a packet on its way back that belongs to no session. UDP and what else
// has no beginning is treated as new, and so is TCP by a gateway that is loose. ICMP
// is stray: it passes only a gateway that does not track it, and is never translated.
func (w *Walk) stray(g *gateway, p *header.Packet) (stray, ok bool) {
	if !w.back {
		return false, true
	}
	lost := func(text string) {
		w.end(Unanswered, g.Name, StepSession, nil)
		if w.trace != nil {
			w.why(text, g.Name)
		}
	}
	switch {
	case w.telling == icmpError && !g.Handling.ICMPUntracked:
		lost("%s knows nothing of the connection, so it throws away the message about it.")
		return false, false
	case w.telling == icmpError:
		return true, true
	case p.Protocol == header.TCP && !g.Handling.TCPLoose:
		lost("%s did not see the connection begin, so it throws the answer away: the answer takes another way back than the connection took in.")
		return false, false
	case p.Protocol == header.ICMP && !g.Handling.ICMPUntracked:
		lost("%s did not see the ping, so it throws the reply away: it takes another way back than the ping took in.")
		return false, false
	}
	return p.Protocol == header.ICMP, true
}

// follow gives a packet its session's translation and sends it on.
func (w *Walk) follow(g *gateway, s *session, forward bool, p *header.Packet) position {
	before := *p
	w.region.arrived()
	out, in := s.out, s.in
	number := w.indexOf(s)
	if forward {
		*p = s.after
		if !w.back {
			w.used = append(w.used, number)
		}
	} else {
		*p, out, in = s.before.Answer(), s.in, s.out
		s.answered = true
	}
	w.region.follow(number, forward)
	if before.Source != p.Source {
		w.teller = netip.Addr{}
	}
	if w.trace != nil {
		w.noteSession(g, before, *p)
	}
	if forward && s.local {
		w.verdict.Outcome, w.verdict.At, w.verdict.Host = Reached, g.Name, g.Name
		return position{kind: answeredByGateway, gateway: g}
	}
	r := w.sessionRoute(g, out, p)
	if r == nil {
		return position{}
	}
	if p.Protocol == header.ICMP && g.Handling.ICMPUntracked && !s.local && w.telling == nothing {
		if !w.permit(g, in, r.out, nil, &before, p) {
			return position{}
		}
	}
	return w.leave(g, r, p)
}

// indexOf returns which of the walk's sessions s is.
func (w *Walk) indexOf(s *session) int {
	for i := range w.sessions {
		if &w.sessions[i] == s {
			return i
		}
	}
	return -1
}

func (w *Walk) noteSession(g *gateway, before, after header.Packet) {
	text := "as it is"
	switch {
	case before.From() != after.From() && before.To() != after.To():
		text = fmt.Sprintf("%s -> %s, for %s", before.From(), after.From(), after.To())
	case before.From() != after.From():
		text = fmt.Sprintf("%s -> %s", before.From(), after.From())
	case before.To() != after.To():
		text = fmt.Sprintf("to %s -> to %s", before.To(), after.To())
	}
	w.note(g.Name, StepSession, "session", "", text)
}

// sessionRoute returns the way a session's packet leaves by. A session that uses
// an uplink stays on it, whatever the routes prefer: the other side knows only
// that address.
func (w *Walk) sessionRoute(g *gateway, out *network.Interface, p *header.Packet) *route {
	if out == nil || !out.FacesInternet(header.FamilyOf(p.Destination)) {
		return w.route(g, p)
	}
	if !out.IsUp() {
		w.end(Unrouted, g.Name, StepRoute, nil)
		w.unreachable(len(w.passages) - 1)
		if w.trace != nil {
			w.why("%s is down: nothing passes it.", out)
		}
		return nil
	}
	r := g.routes.lookup(p.Destination)
	w.region.route(g.routes, p.Destination)
	if r != nil && r.out == out {
		return r
	}
	if w.inPrefixes(flowset.Destination, out.Addresses, p.Destination) {
		return &g.uplinks[out.Index].beside
	}
	return &g.uplinks[out.Index].upstream
}
