package reach

import (
	"hollowbridge/core/flowset"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
)

// An Example is one connection of many, and how a person asks about it.
type Example struct {
	walk.Connection
	Sender string             // who sends it: an address, or a host's name where others have its address too
	In     *network.Interface // where it enters, set where the sender does not tell
	At     string             // its moment as a person names it, where it is not so at all that were asked about
}

// exampleFrom returns a member of a set of connections that fare alike at some of the moments that were asked about, from where its
// sender is: on a segment, where that is given because the address is elsewhere too.
func exampleFrom(e *walk.Engine, times network.Times, on *network.Segment, sender Straight, p flowset.Member, when network.When) Example {
	x := Example{Connection: walk.Connection{Packet: p.Packet, Moment: times.Moment(p.Moment)}, Sender: p.Source.String()}
	if !when.IsAlways() {
		x.At = times.Name(x.Moment)
	}
	switch {
	case sender.By != nil:
		x.From, x.In = e.Behind(sender.By, p.Source), sender.By
	case on == nil:
		x.From, _ = e.Locate(p.Source)
	default:
		if x.From = e.On(on, p.Source); x.From.Host != nil {
			x.Sender = x.From.Host.Name
		} else {
			x.In = on.Lead()
		}
	}
	return x
}

// whenOf says which of some moments are those of spans, none of which are all.
func whenOf(times network.Times, spans []flowset.Span) network.When {
	return times.When(stretchesOf(spans))
}

func stretchesOf(spans []flowset.Span) []network.Stretch {
	list := make([]network.Stretch, len(spans))
	for i, s := range spans {
		list[i].First, list[i].Last = s.Moments()
	}
	return list
}
