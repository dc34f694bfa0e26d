package engine

import (
	"hollowbridge/core/flow"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// A Stand is how a packet stood at a gateway, once it came behind the third step, and what the gateway made of it.
type Stand struct {
	Gateway       *Gateway
	In, Out       *network.Interface // Out is nil before the route is known
	Forward       *network.NATRule   // what redirected it, or nil
	Before, After header.Packet      // as it came, and after the third step
	Moment        network.Moment

	Stray     bool          // it passes without a session, so nothing translates it
	Permit    *network.Rule // the filter rule that let it through, or nil
	Source    *network.Rule // the rule that translates its source, or nil
	StoppedAt StepKind      // where the gateway stopped it, or empty
	StoppedBy *network.Rule // the rule that did, or nil
}

// Stand returns how the packet stands here, or false where it did not come behind the third step.
func (v *Visit) Stand() (s *Stand, ok bool) {
	if !v.stood {
		return nil, false
	}
	s = &Stand{Gateway: v.Gateway, In: v.in, Out: v.out, Forward: v.whole, Before: v.before.Packet, After: v.after, Moment: v.moment, Stray: v.stray, Permit: v.permit, Source: v.source}
	if d := &v.decision; d.Action == Stops {
		s.StoppedAt, s.StoppedBy = d.Step, d.Rule
	}
	return s, true
}

// Seen returns the packet as the gateway's filter sees it.
func (s *Stand) Seen() header.Packet {
	seen := flow.FlowOf(s.After)
	s.Gateway.seenByFilter(&seen, flow.ImageOf(s.Before, 0))
	return seen.Now()
}

// AsksFilter returns what the gateway's filter is asked about a packet that stands so.
func (s *Stand) AsksFilter(p *header.Packet) table.Query {
	in := s.Gateway.Between(s.In, s.Out, s.Moment)
	in.Redirected = s.Forward != nil
	return table.NewQuery(p, in)
}
