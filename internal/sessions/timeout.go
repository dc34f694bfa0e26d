package sessions

import (
	"time"

	"hollowbridge/core/header"
)

// A phase is what a session is in the eyes of its timeout.
type phase uint8

const (
	opening phase = iota // TCP
	established
	closing
	datagrams // UDP, and every other protocol but ICMP
	queries   // ICMP
	phases
)

// Timeouts are how long a session that nobody uses is kept, by its phase.
var timeouts = [phases]time.Duration{
	opening:     4 * time.Minute,             // RFC 5382, REQ-5
	closing:     4 * time.Minute,             // the same, and RFC 7857, 2 after a reset
	established: 2*time.Hour + 4*time.Minute, // RFC 5382, REQ-5
	datagrams:   5 * time.Minute,             // RFC 4787, REQ-5, as recommended
	queries:     time.Minute,                 // RFC 5508, REQ-2
}

// leased is how long a port that was taken waits for its session.
const leased = time.Second

// firstPhase returns the phase of a new session.
func firstPhase(p header.Protocol) phase {
	switch p {
	case header.TCP:
		return opening
	case header.ICMP:
		return queries
	}
	return datagrams
}

// pass notes what a packet does to a session. A TCP connection is established when the third packet has come, and closing from a
// FIN or a reset on (RFC 5382, 5; RFC 7857, 2).
func (r *record) pass(part header.Part) {
	if r.phase != opening && r.phase != established && r.phase != closing {
		return
	}
	switch part {
	case header.Finishes, header.Resets:
		r.phase = closing
	case header.Continues:
		if r.phase != closing {
			r.phase = established
		}
	case header.Begins:
		if r.phase == closing { // the ports are used again
			r.phase = opening
		}
	}
}
