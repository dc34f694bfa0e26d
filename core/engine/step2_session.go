package engine

import (
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// recognized is what the second step finds.
type recognized struct {
	follows bool // it belongs to a session
	stray   bool // it passes without one, so nothing translates it
}

// recognize is the second step: a packet of a session takes its translation and way; another begins one, or is stray.
func (v *Visit) recognize() (goes bool) {
	goes = v.follow()
	if !v.follows {
		goes = v.strays()
	}
	return goes
}

// follow gives a packet of a session its translation, and the way that it leaves by.
func (v *Visit) follow() (goes bool) {
	s := &v.session
	var direction Direction
	if direction, v.follows = v.state.Find(&v.before.Packet, v.part, v.size, s); !v.follows {
		return false
	}
	if v.part == header.Continues && direction == Forth && !v.isWhole(s) {
		v.note(StepSession, HalfHandshake, nil)
		v.stop(Dropped, StepSession, nil)
		return false
	}
	by := s.Out
	if direction == Back {
		by = s.In
		v.flow.Become(s.came(), true)
	} else {
		v.flow.Become(s.left(), false)
	}
	v.sender = v.flow.SenderAfter(v.sender, &v.before)
	v.note(StepSession, FollowsSession, nil).Before = v.before.Packet
	if direction == Forth && s.Local {
		v.take()
		return false
	}
	v.way = v.sessionRoute(by)
	return v.way != nil
}

// isFiltered reports whether the filter is asked about a packet that belongs to a session, which was asked before as a rule: ICMP
// where a gateway does not track it.
func (v *Visit) isFiltered() bool {
	if v.flow.Protocol() != header.ICMP || !v.Handling.ICMPUntracked || v.session.Local || v.part == header.Reports {
		return false
	}
	v.out = v.way.Out
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
func (v *Visit) strays() (goes bool) {
	if v.part == header.Begins {
		return true
	}
	what := NoHandshake
	switch {
	case v.Handling.ICMPUntracked && (v.part == header.Reports || v.flow.Protocol() == header.ICMP):
		v.stray = true
		return true
	case v.part == header.Reports:
		what = NoConnection
	case v.flow.Protocol() == header.ICMP:
		what = NoPing
	case v.flow.Protocol() != header.TCP || v.Handling.TCPLoose:
		return true
	}
	v.note(StepSession, what, nil)
	v.stop(Dropped, StepSession, nil)
	return false
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
		return v.routeOf()
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

// begin remembers what will leave as a session; not what is stray.
func (v *Visit) begin() (goes bool) { return v.stray || v.keep(v.way.Out, false) }

// keep remembers the connection as a session.
func (v *Visit) keep(out *network.Interface, local bool) bool {
	s := &v.session // all of it is set where it stands: a literal would be copied
	s.In, s.Out, s.Local, s.Answered, s.Size = v.in, out, local, false, v.size
	s.Redirect, s.Permit, s.Source, s.Ticket = v.forward, v.permit, v.source, v.grant.Ticket
	s.Before, s.After, s.images = v.before.Packet, v.flow.Now(), [2]int{v.before.Number(), v.flow.Remember()}
	if v.state.Keep(s) {
		return true
	}
	v.note(StepSession, Full, nil).Room = v.Limits.Sessions
	v.stop(Exhausted, StepSession, nil)
	return false
}
