package engine

import (
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// known is the second step: a packet of a session takes its translation and skips to the
// ninth step. It returns false where the packet belongs to none.
func (v *Visit) known() bool {
	s := &v.session
	direction, found := v.state.Find(&v.before.Packet, v.part, v.size, s)
	if !found {
		return false
	}
	v.follows = true
	if v.part == header.Continues && direction == Forth && !v.isWhole(s) {
		v.note(StepSession, HalfHandshake, nil)
		v.stop(Dropped, StepSession, nil)
		return true
	}
	goes := s.Out
	if direction == Back {
		goes = s.In
		v.flow.Become(s.came(), true)
	} else {
		v.flow.Become(s.left(), false)
	}
	v.sender = v.flow.SenderAfter(v.sender, &v.before)
	v.note(StepSession, FollowsSession, nil).Before = v.before.Packet
	if direction == Forth && s.Local {
		v.decision.Action, v.decision.Packet = Takes, v.flow.Now()
		return true
	}
	way := v.sessionRoute(goes)
	if way == nil {
		return true
	}
	if v.flow.Protocol() == header.ICMP && v.Handling.ICMPUntracked && !s.Local && v.part != header.Reports {
		if v.out = way.Out; !v.permits(way.Out) {
			return true
		}
	}
	v.leave(way)
	return true
}

// isWhole reports whether a gateway lets a later packet of a session pass: it is strict
// about TCP, and drops what follows a beginning to which it saw no answer.
func (g *Gateway) isWhole(s *Session) bool {
	return s.Before.Protocol != header.TCP || s.Local || s.Answered || g.Handling.TCPLoose
}

// strays judges a packet that is no beginning and belongs to no session. UDP and what else
// has no beginning is treated as new, and so is TCP by a gateway that is loose. ICMP is
// stray: it passes only a gateway that does not track it, and is never translated.
func (v *Visit) strays() (stray, ok bool) {
	if v.part == header.Begins {
		return false, true
	}
	what := NoHandshake
	switch {
	case v.part == header.Reports && v.Handling.ICMPUntracked:
		return true, true
	case v.part == header.Reports:
		what = NoConnection
	case v.flow.Protocol() == header.ICMP && v.Handling.ICMPUntracked:
		return true, true
	case v.flow.Protocol() == header.ICMP:
		what = NoPing
	case v.flow.Protocol() != header.TCP || v.Handling.TCPLoose:
		return false, true
	}
	v.note(StepSession, what, nil)
	v.stop(Dropped, StepSession, nil)
	return false, false
}

// sessionRoute returns the way a session's packet leaves by. A session that uses
// an uplink stays on it, whatever the routes prefer: the other side knows only
// that address. A VPN client is answered the way it came.
func (v *Visit) sessionRoute(goes *network.Interface) *table.Route {
	if goes != nil && goes.Segment != nil && v.flow.Family() == header.IPv6 && v.flow.In(flowset.Destination, &linkLocal) {
		return &v.ways[goes.Index].beside
	}
	if goes != nil && goes.IsUp() && v.flow.In(flowset.Destination, &v.clients[goes.Index]) {
		return &v.ways[goes.Index].clients
	}
	if goes == nil || !goes.FacesInternet(v.flow.Family()) {
		return v.route()
	}
	if !goes.IsUp() {
		v.note(StepRoute, InterfaceDown, nil).In = goes
		v.stop(Unrouted, StepRoute, nil)
		v.tell()
		return nil
	}
	if r := v.flow.By(v.routes); r != nil && r.Out == goes {
		return r
	}
	if v.flow.In(flowset.Destination, &v.prefixes[goes.Index]) {
		return &v.ways[goes.Index].beside
	}
	return &v.ways[goes.Index].upstream
}

// keep remembers the connection as a session.
func (v *Visit) keep(out *network.Interface, local bool) bool {
	s := &v.session // all of it is set where it stands: a literal would be copied
	s.In, s.Out, s.Local, s.Answered, s.Size = v.in, out, local, false, v.size
	s.Redirect, s.Permit, s.Source, s.Ticket = v.forward, v.permit, v.source, v.grant.Ticket
	s.Before, s.After, s.images = v.before.Packet, v.flow.Now(), [2]int{v.before.Number(), v.flow.Remember()}
	if v.state.Keep(s) {
		return true
	}
	v.note(StepSession, Full, nil).Count = v.Limits.Sessions
	v.stop(Exhausted, StepSession, nil)
	return false
}
