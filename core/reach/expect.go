package reach

import (
	"math/big"

	"hollowbridge/core/engine"
	"hollowbridge/core/explore"
	"hollowbridge/core/flow"
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
)

// A Result is whether an expectation holds, and if not, a connection that shows it.
type Result struct {
	Expectation *network.Expectation
	Holds       bool
	Empty       bool         // it is about no connection at all, so it says nothing
	Nobody      string       // it is about nobody just now, as this group is empty; so it holds
	Breaking    *big.Int     // how many connections break it, at some moment
	When        network.When // when some do, of the moments that were asked about
	Counter     Example
	Verdict     walk.Verdict // of the counterexample

	LetThrough *Example // where nobody may get there, one that gets through to where nobody is known to answer, or nil
}

// Expect checks every expectation of a network against all connections at some moments; the zero Times are all.
func Expect(e *walk.Engine, times network.Times) ([]Result, error) {
	var results []Result
	explorer := explore.New(e, times.Or(e.Network()), MostPieces)
	for _, x := range e.Network().Expect {
		r, err := check(e, explorer, x)
		if err != nil {
			return nil, err
		}
		if r.Empty {
			if r.Nobody = vacant(e.Network(), x); r.Nobody != "" {
				r.Empty = false
			}
		}
		results = append(results, r)
	}
	return results, explorer.Space.Err()
}

// vacant returns the empty group because of which an expectation is about nobody, or empty where that has another reason.
func vacant(n *network.Network, x *network.Expectation) string {
	for _, who := range []network.Expression{x.From, x.To} {
		if name := n.EmptyGroup(who); name != "" && who.Addresses().Empty() {
			return name
		}
	}
	return ""
}

func check(e *walk.Engine, explorer *explore.Explorer, x *network.Expectation) (Result, error) {
	result := Result{Expectation: x, Holds: true, Empty: true, Breaking: new(big.Int)}
	space := explorer.Space
	behind := x.Must == network.Only || x.Must == network.Never
	q := Question{To: &x.To, Service: x.Service}
	best := 0
	var breaking []flowset.Set
	for _, b := range explorer.Beginnings(sendersOf(x)) {
		if b.From.Through != nil && x.Must == network.Reaches { // that is about machines as they usually send
			continue
		}
		set := b.Set
		var wrongs []flowset.Set
		if !behind { // to names what is connected to, not what is behind the translation
			set = space.Restrict(delivered(space, x.To.Addresses(), x.Service), set)
		}
		for r, err := range explorer.Explore(b.From, set) {
			if err != nil {
				return result, err
			}
			result.Empty = false
			reached := r.Verdict.Outcome == engine.Reached
			wrong := r.Set
			switch {
			case x.Must == network.Reaches && reached && r.Verdict.To.Machine.Host == x.Host:
				continue
			case x.Must != network.Reaches && !reached:
				if through := r.Set; result.LetThrough == nil && isLetThrough(r) {
					if behind {
						through = asked(e, space, r, q)
					}
					if through != flowset.Nothing {
						c := counterexample(e, explorer, &b, through, r.Meetings)
						result.LetThrough = &c
					}
				}
				continue
			case behind:
				wrong = asked(e, space, r, q)
			}
			if wrong == flowset.Nothing {
				continue
			}
			wrongs = append(wrongs, wrong)
			if rank := telling(b.From, r); result.Holds || rank > best {
				result.Holds, result.Verdict, best = false, r.Verdict, rank
				result.Counter = counterexample(e, explorer, &b, wrong, r.Meetings)
			}
		}
		result.Breaking.Add(result.Breaking, sizeOf(explorer, wrongs))
		breaking = append(breaking, wrongs...)
	}
	if !explorer.Times.IsOne() && !result.Holds {
		result.When = whenOf(explorer.Times, space.Moments(space.OverlayAll(breaking)))
	}
	return result, nil
}

// sizeOf returns how many connections some disjoint sets hold, each once whenever it is.
func sizeOf(explorer *explore.Explorer, sets []flowset.Set) *big.Int {
	size := new(big.Int)
	if !explorer.Times.IsOne() {
		sets = []flowset.Set{explorer.Space.OverlayAll(sets)}
	}
	for _, set := range sets {
		size.Add(size, explorer.Space.Size(set))
	}
	return size
}

// sendersOf returns who sends what an expectation is about, of a place.
func sendersOf(x *network.Expectation) func(network.Place) header.Addresses {
	return func(p network.Place) header.Addresses {
		who := membersOf(&x.From, p)
		if x.Must == network.Only {
			who = header.AllAddresses().Minus(who)
		}
		return who
	}
}

// mostSamples is how many connections About returns of one expectation.
const mostSamples = 60

// About returns connections that an expectation is about, to the addresses that it names: one
// of each way they go, up to so many.
func About(e *walk.Engine, x *network.Expectation, moment network.Moment) ([]walk.Connection, error) {
	explorer := explore.New(e, network.At(moment), MostPieces)
	var found []walk.Connection
	for _, b := range explorer.Beginnings(sendersOf(x)) {
		if b.From.Through != nil && x.Must == network.Reaches {
			continue
		}
		set := explorer.Space.Restrict(delivered(explorer.Space, x.To.Addresses(), x.Service), b.Set)
		for r, err := range explorer.Explore(b.From, set) {
			if err != nil {
				return nil, err
			}
			if p, ok := explorer.Space.Usual(r.Set); ok && len(found) < mostSamples && flow.Claims(r.Meetings, p.Packet) {
				found = append(found, walk.Connection{Packet: p.Packet, From: e.PlaceOf(b.From, p.Source), Moment: moment})
			}
		}
	}
	return found, nil
}

// telling ranks counterexamples: a stranger on the internet says most.
func telling(from network.Place, r *explore.Region) int {
	switch {
	case from.Internet && from.Host == nil && r.Example.Source.Is4():
		return 2
	case from.Internet:
		return 1
	}
	return 0
}

// counterexample returns a member, from the usual source port where it can.
func counterexample(e *walk.Engine, explorer *explore.Explorer, begins *explore.Beginning, set flowset.Set, meetings []flow.Meeting) Example {
	box := &explorer.Space.Boxes(set)[0]
	return exampleFrom(e, explorer.Times, sharedOn(begins), senderOf(begins.From), exampleOf(explorer.Space, explorer.Times, set, box, meetings), whenOf(explorer.Times, box.Moments))
}
