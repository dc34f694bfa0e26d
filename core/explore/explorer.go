// Package explore finds out what becomes of whole sets of connections: it walks one of them, whose flow narrows the set, and then the
// others. Read Explorer.Explore first; beginning.go is what can begin, compared.go compares two networks, hidden.go and overlap.go
// tell which rules never match.
package explore

import (
	"fmt"
	"iter"
	"math/rand/v2"
	"slices"

	"hollowbridge/core/flow"
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
	"hollowbridge/core/walk"
)

// An Explorer finds out what becomes of whole sets of connections, exactly, at some moments. It walks
// one connection of a set and lets every decision on the way narrow the set to
// those that are decided alike; what is decided otherwise is set aside and
// walked later. So the nine steps are the same ones that trace takes, and each
// region it returns is all connections that go one way.
type Explorer struct {
	*flow.Views
	engine   *walk.Engine
	overlaps map[*table.Table]*overlaps
	met      map[inScope]flowset.Set // see meets

	walk    *walk.Walk // the one that is used for every region
	found   Region     // the last one
	regions int        // so far
	waiting []flow.Remainder
}

// A Region is a set of connections that go one way.
type Region struct {
	From    network.Place // where the one of them begins that is the example
	Set     flowset.Set
	Verdict walk.Verdict  // of one of them
	To      network.Place // where the last machine is that they come to; its host is that of the example
	Terms   flowset.Terms // what the delivered packet is in terms of the connection; only where one was delivered
	Rules   []*network.Rule
	Example header.Packet
	Moment  network.Moment // of the example
	Behind  bool           // it came through a gateway at least, or a relay
	Unlike  bool           // it meets a rule that the other network has not, see Explorer.CompareWith

	Meetings []flow.Meeting // of connections that it is not right about, see Claims
}

// Kept returns a copy of the region that stays valid.
func (r *Region) Kept() Region {
	kept := *r
	kept.Rules, kept.Meetings = slices.Clone(r.Rules), slices.Clone(r.Meetings)
	return kept
}

// New returns an explorer for some moments. It may hold as many pieces of sets, see flowset.NewSpace.
func New(e *walk.Engine, times network.Times, most int) *Explorer {
	return NewIn(e, flowset.NewSpace(most, times.Count()), times)
}

// NewIn returns an explorer whose sets are in a given space, so that those of
// several explorers can be compared. The space is for as many moments as there are.
func NewIn(e *walk.Engine, space *flowset.Space, times network.Times) *Explorer {
	w := e.NewWalk()
	return &Explorer{Views: flow.NewViews(space, times, e.Network()), engine: e, walk: w, overlaps: map[*table.Table]*overlaps{}, met: map[inScope]flowset.Set{}}
}

// Explore returns the regions of a set of connections that begin at a place, one after the
// other; each is valid until the next. All of them must be of one protocol and of one
// family, and only one exploration of an explorer goes on at a time. A connection from an
// address to itself never leaves its machine; it may be in any region, or in none. An error
// is the last that comes: flowset.TooLarge where the explorer outgrows its limit, or Unfollowed;
// then nothing is claimed.
func (x *Explorer) Explore(from network.Place, set flowset.Set) iter.Seq2[*Region, error] {
	return func(yield func(*Region, error) bool) {
		if err := x.explore(from, set, func(r *Region) bool { return yield(r, nil) }); err != nil {
			yield(nil, err)
		}
	}
}

func (x *Explorer) explore(from network.Place, set flowset.Set, do func(*Region) bool) error {
	waiting := append(x.waiting[:0], flow.Remainder{Set: set})
	for len(waiting) > 0 {
		next := waiting[len(waiting)-1]
		waiting = waiting[:len(waiting)-1]
		example, ok := x.example(next.Set)
		if !ok {
			continue
		}
		if !x.follow(from, next, example, waiting) {
			if example, ok = x.followAnother(from, next, waiting); !ok {
				return Unfollowed{example.Packet}
			}
		}
		if x.regions++; x.regions%untilMeasured == 0 {
			x.Space.Measure()
		}
		if err := x.Space.Err(); err != nil {
			return err
		}
		r, way := x.walk.Flow().Narrowed(), x.walk.Course()
		waiting = r.Waiting
		x.found = Region{From: way.From, Set: r.Set, Verdict: way.Verdict, To: way.To, Terms: r.Delivered, Rules: r.Rules, Example: example.Packet, Moment: x.Times.Moment(example.Moment), Behind: way.Behind, Unlike: r.Unlike, Meetings: r.Meetings}
		if !do(&x.found) {
			return nil
		}
		if x.engine.Watch != nil {
			x.engine.Watch()
		}
	}
	x.waiting = waiting
	return x.Space.Err()
}

// untilMeasured is how many regions are found between two looks at the process's memory: they may be kept.
const untilMeasured = 1 << 12

// mostTries is how many connections of a set are walked to find one by which no machine
// meets itself.
const mostTries = 200

// followAnother follows a random connection of a set. It returns false, and the last it
// tried, where each leads a machine back to itself.
func (x *Explorer) followAnother(from network.Place, set flow.Remainder, waiting []flow.Remainder) (p flowset.Member, ok bool) {
	random := rand.New(rand.NewPCG(1, 1))
	for range mostTries {
		if p, _ = x.Space.Sample(set.Set, random.Uint64); x.follow(from, set, p, waiting) {
			return p, true
		}
	}
	return p, false
}

// Unfollowed is the error where there seems to be none.
type Unfollowed struct{ Example header.Packet }

func (u Unfollowed) Error() string {
	return fmt.Sprintf("connections like %s to %s lead machines back to themselves, and can't be followed all at once", u.Example.From(), u.Example.To())
}

// follow walks one connection of a set. It returns false where by this one a machine
// meets itself and the others of the set can't be told apart from it.
func (x *Explorer) follow(from network.Place, set flow.Remainder, example flowset.Member, waiting []flow.Remainder) bool {
	if example.Source == example.Destination {
		return false
	}
	x.walk.Flow().OverSet(x.Views, set, example.Protocol, waiting)
	x.walk.Follow(walk.Connection{Packet: example.Packet, From: x.engine.PlaceOf(from, example.Source), Moment: x.Times.Moment(example.Moment)}, from.Beside)
	return !x.walk.Flow().Narrowed().Met
}

// example returns a member that is not from an address to itself.
func (x *Explorer) example(set flowset.Set) (flowset.Member, bool) {
	for {
		p, ok := x.Space.Example(set)
		if !ok || x.Space.Err() != nil || p.Source != p.Destination {
			return p, ok
		}
		itself := x.Space.Where(flowset.Source, flowset.AddressSpans(header.Single(p.Source)), flowset.Everything)
		set = x.Space.Minus(set, x.Space.Where(flowset.Destination, flowset.AddressSpans(header.Single(p.Source)), itself))
	}
}
