package reach

import (
	"fmt"
	"slices"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A Change is how connections fare differently.
type Change string

// The kinds of change, in the order in which they are shown.
const (
	NewlyReached  Change = "newly reached"
	NoLonger      Change = "no longer reached"
	Elsewhere     Change = "reached elsewhere"
	Otherwise     Change = "translated differently"
	StoppedBefore Change = "stopped differently"
)

// Changes lists the kinds of change.
var Changes = []Change{NewlyReached, NoLonger, Elsewhere, Otherwise, StoppedBefore}

// A Difference is connections that fare differently in one way.
type Difference struct {
	Change   Change
	Old, New *Fate
	From     header.Addresses
	To       header.Addresses
	Protocol header.Protocol
	Ports    []header.Ports
	AllPorts bool
	Example  header.Packet
}

// A Fate is what becomes of connections.
type Fate struct {
	Outcome engine.Outcome
	At      string
	Host    string
	Rules   []*network.Rule

	terms header.Terms
}

// Differences returns all connections that fare differently under two networks: those
// that are reached under one and not under the other, by another host, or with another
// translation. With stops, those that are stopped under both but elsewhere or
// otherwise count too. None is a proof that both do the same.
func Differences(old, new *engine.Engine, moment network.Moment, stops bool) ([]Difference, error) {
	b, err := NewBaseline(old, moment)
	if err != nil {
		return nil, err
	}
	return b.Differences(new, stops)
}

// A Baseline is a network that others are compared with.
type Baseline struct {
	space  *header.Space
	old    *surveyed
	moment network.Moment
}

// NewBaseline surveys a network once, to compare several others with it.
func NewBaseline(old *engine.Engine, moment network.Moment) (*Baseline, error) {
	space := header.NewSpace(MostPieces)
	a, err := survey(old, space, moment)
	return &Baseline{space, a, moment}, err
}

// Differences is Differences from the baseline.
func (base *Baseline) Differences(new *engine.Engine, stops bool) ([]Difference, error) {
	space, a := base.space, base.old
	b, err := survey(new, space, base.moment)
	if err != nil {
		return nil, err
	}
	var pairs [][2]int
	index := map[[2]int]int{}
	same := func(x, y int) int {
		if x == 0 && y == 0 || x > 0 && y > 0 && a.fates[x-1].like(b.fates[y-1], stops) {
			return 0
		}
		pair := [2]int{x, y}
		if _, known := index[pair]; !known {
			pairs = append(pairs, pair)
			index[pair] = len(pairs)
		}
		return index[pair]
	}
	parts, err := combine(space, space.Restrict(b.machines, a.labels), space.Restrict(a.machines, b.labels), same)
	if err != nil {
		return nil, err
	}
	var found []Difference
	for _, p := range parts {
		pair := pairs[p.Value-1]
		d := Difference{Old: a.fate(pair[0]), New: b.fate(pair[1])}
		d.Change = changeOf(d.Old, d.New)
		if d.Change == StoppedBefore && !stops {
			continue
		}
		set := p.Set
		if d.Change == Otherwise { // where both happen to give the same after all
			set = space.Minus(set, equalTerms(space, d.Old.terms, d.New.terms))
		}
		for _, box := range space.Boxes(set) {
			d.Protocol, d.From, d.To, d.Ports, d.AllPorts = box.Protocol, box.From, box.To, box.Ports, box.AllPorts
			d.Example = exampleOf(space, set, &box)
			found = append(found, d)
		}
	}
	slices.SortStableFunc(found, func(x, y Difference) int {
		return slices.Index(Changes, x.Change) - slices.Index(Changes, y.Change)
	})
	return found, nil
}

// combine is Combine and Parts, with the limit of the space as an error.
func combine(space *header.Space, a, b header.Set, value func(a, b int) int) (parts []header.Part, err error) {
	defer func() {
		if reason, tooLarge := recover().(header.TooLarge); tooLarge {
			parts, err = nil, reason
		}
	}()
	return space.Parts(space.Combine(a, b, value)), nil
}

func equalTerms(space *header.Space, a, b header.Terms) header.Set {
	equal := header.Everything
	for f := range header.Fields {
		if equal == header.Nothing {
			break
		}
		equal = space.Restrict(equal, space.Equal(f, a[f], b[f]))
	}
	return equal
}

// A surveyed network is the fates of all connections; labels gives each the number of
// its fate, counted from 1.
type surveyed struct {
	fates    []*Fate
	labels   header.Set
	machines header.Set // connections whose source some machine can have
}

func (s *surveyed) fate(number int) *Fate {
	if number == 0 {
		return &Fate{Outcome: engine.Unrouted, At: "nowhere"}
	}
	return s.fates[number-1]
}

func survey(e *engine.Engine, space *header.Space, moment network.Moment) (*surveyed, error) {
	atlas := e.NewAtlasIn(space, moment)
	s := &surveyed{labels: header.Nothing, machines: sourceSet(space, header.AllAddresses().Minus(e.Network().Unused()))}
	known := map[string]int{}
	var pieces []header.Set
	for _, beginning := range atlas.Beginnings() {
		regions, err := atlas.Explore(beginning.From, space.Restrict(s.machines, beginning.Set))
		if err != nil {
			return nil, err
		}
		for _, r := range regions {
			f := &Fate{r.Verdict.Outcome, r.Verdict.At, r.Verdict.Host, r.Rules, r.Terms}
			key := f.key()
			if known[key] == 0 {
				s.fates = append(s.fates, f)
				known[key] = len(s.fates)
			}
			pieces = append(pieces, space.Label(r.Set, known[key]))
		}
	}
	s.labels = space.OverlayAll(pieces)
	return s, nil
}

func (f *Fate) key() string {
	key := fmt.Sprint(f.Outcome, f.At, f.Host)
	if f.Outcome == engine.Reached {
		key += fmt.Sprint(f.terms)
	}
	for _, r := range f.Rules {
		key += fmt.Sprintf(" %p", r)
	}
	return key
}

// like reports whether connections of both fates fare the same.
func (f *Fate) like(g *Fate, stops bool) bool {
	if f.Outcome == engine.Reached || g.Outcome == engine.Reached {
		return f.Outcome == g.Outcome && f.Host == g.Host && f.terms == g.terms
	}
	return !stops || f.Outcome == g.Outcome && f.At == g.At
}

func changeOf(old, new *Fate) Change {
	before, after := old.Outcome == engine.Reached, new.Outcome == engine.Reached
	switch {
	case before && after && old.Host != new.Host:
		return Elsewhere
	case before && after:
		return Otherwise
	case after:
		return NewlyReached
	case before:
		return NoLonger
	}
	return StoppedBefore
}

// Summary puts differences together that are about the same destinations and hosts,
// whatever rules stopped their sources before.
func Summary(list []Difference) []Difference {
	var merged []Difference
	alike := map[string][]int{} // by what is quickly compared
	for _, d := range list {
		key := fmt.Sprint(d.Change, d.Old.Host, d.New.Host, d.Protocol, d.Ports)
		same := slices.IndexFunc(alike[key], func(i int) bool { return merged[i].To.Equal(d.To) })
		if same < 0 {
			alike[key] = append(alike[key], len(merged))
			merged = append(merged, d)
			continue
		}
		into := &merged[alike[key][same]]
		into.From = into.From.Union(d.From)
		into.AllPorts = into.AllPorts && d.AllPorts
	}
	return merged
}
