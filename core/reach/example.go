package reach

import (
	"slices"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// An Example is one connection of many, and how a person asks about it.
type Example struct {
	engine.Connection
	Sender string             // who sends it: an address, or a host's name where others have its address too
	In     *network.Interface // where it enters, set where the sender does not tell
	Timed  bool               // it is so at its moment, but not at any time
}

// exampleFrom returns a packet as an example, from where its sender is in the first of some
// networks: on a segment, where that is given because the address is elsewhere too. Where
// rules with hours count as active, it is of a moment at which the same becomes of it in all.
func exampleFrom(on *network.Segment, p header.Packet, moment network.Moment, networks ...*engine.Engine) Example {
	x := Example{Connection: engine.Connection{Packet: p, Moment: moment}, Sender: p.Source.String()}
	e := networks[0]
	switch {
	case on == nil:
		x.From, _ = e.Locate(p.Source)
	default:
		if x.From = e.On(on, p.Source); x.From.Host != nil {
			x.Sender = x.From.Host.Name
		} else {
			x.In = on.Interfaces[0]
		}
	}
	if moment == network.Always {
		x.choose(networks)
	}
	return x
}

// choose finds a moment at which the same becomes of the example as with all rules with
// hours active.
func (x *Example) choose(networks []*engine.Engine) {
	var moments []network.Moment
	for _, e := range networks {
		moments = append(moments, e.Moments()...)
	}
	if len(moments) == 0 {
		return
	}
	slices.Sort(moments)
	moments = slices.Compact(moments)
	type asked struct {
		walk   *engine.Walk
		from   engine.Place
		always engine.Verdict
	}
	var list []asked
	for i, e := range networks {
		q := asked{walk: e.NewWalk(), from: x.From}
		if i > 0 { // the places of another network are its own
			var err error
			if q.from, err = e.Locate(x.Packet.Source); err != nil {
				continue
			}
		}
		q.always = q.walk.Verdict(engine.Connection{Packet: x.Packet, From: q.from, Moment: x.Moment})
		list = append(list, q)
	}
	so := func(at network.Moment) bool {
		return !slices.ContainsFunc(list, func(q asked) bool {
			now := q.walk.Verdict(engine.Connection{Packet: x.Packet, From: q.from, Moment: at})
			return now.Outcome != q.always.Outcome || now.At.Name() != q.always.At.Name() || now.To.Name() != q.always.To.Name() || now.Delivered != q.always.Delivered
		})
	}
	first := slices.IndexFunc(moments, so)
	if first >= 0 && slices.ContainsFunc(moments, func(m network.Moment) bool { return !so(m) }) {
		x.Moment, x.Timed = moments[first], true
	}
}
