// Package repair tries edits of a network file on a copy: whether they make a stopped
// connection reach its service, or mend a finding, and what else they would open.
package repair

import (
	"slices"

	"hollowbridge/core/advice"
	"hollowbridge/core/engine"
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/reach"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
	"hollowbridge/internal/netfile"
)

// A Repair is edits that were tried and do what they are for.
type Repair struct {
	Command  string // as it is typed
	Edits    network.Edits
	Opens    []reach.Difference // everything that fares differently, what is repaired included
	Names    *reach.Namer       // names whom it opens something to, in the network as repaired, like the edit itself
	Compared bool               // false where the network is too large to say what fares differently
	Others   []*network.Gateway // gateways of other parties that it changes
}

const (
	mostRepairs  = 3    // offered for one trace
	mostTogether = 3    // edits in one repair
	mostTries    = 60   // for one trace
	triedRules   = 8000 // tries times rules, where that is less

	mostPieces = 3_000_000 // of sets, to say what they open: about a second's work
	mostMended = 6_000_000 // to see whether findings are gone, for all together
)

// A Bench is a network file that edits are tried on. The file itself stays as it is.
type Bench struct {
	sketch    *netfile.Editor
	net       *network.Network
	base      *reach.Baseline
	mostRules int
	times     network.Times  // that are asked about; the zero Times are all
	told      network.Times  // of the last edited network, those moments
	space     *flowset.Space // for them, of the sets of all edited networks, which have most in common
	overgrown bool           // they have outgrown mostMended: no more are tried
}

// NewBench returns a bench for the network of a sketch, where some moments are asked about; the zero Times are
// all. Where it has more rules than mostRules, or too large sets, it is not said what repairs open.
func NewBench(sketch *netfile.Editor, n *network.Network, times network.Times, mostRules int) *Bench {
	return &Bench{sketch: sketch, net: n, times: times, mostRules: mostRules}
}

// examine says what there is to say about an edited network.
func (b *Bench) examine(e *walk.Engine) ([]advice.Finding, error) {
	if times := b.times.Or(b.net, e.Network()); b.space == nil || !times.Equal(b.told) {
		b.told, b.space = times, flowset.NewSpace(mostMended, times.Count())
	}
	return advice.Examine(e, advice.Asked{Times: b.told, Space: b.space})
}

// ForTrace returns the fewest edits that make the traced connection reach a host, those
// that change least first. Where an edit lets it get further, but not there, edits for
// what stops it then are tried with it. What closes something is returned only where
// nothing else helps, or where it corrects a rule. Where the connection stands for those of
// everybody who was asked about, and of all services, the repairs are for all of them: they must reach it too. What opens something for others than
// was asked about is returned only where nothing else helps, and so is what changes gateways of
// other parties.
func (b *Bench) ForTrace(t *words.Trace, asked Asked) []Repair {
	found := b.forTrace(t, asked, false)
	if len(found) == 0 {
		found = b.forTrace(t, asked, true)
	}
	if len(found) == 0 && len(asked.Others) > 0 { // nothing helps all
		asked.Others = nil
		return b.ForTrace(t, asked)
	}
	for _, unwanted := range []func(Repair) bool{Repair.closes, func(r Repair) bool { return r.beyond(t) }} {
		if slices.ContainsFunc(found, func(r Repair) bool { return !unwanted(r) }) {
			found = slices.DeleteFunc(found, unwanted)
		}
	}
	return sorted(found)
}

// beyond reports whether edits that add a way or a translation open something for others than the
// sender of a traced connection.
func (r Repair) beyond(t *words.Trace) bool {
	adds := slices.ContainsFunc(r.Edits, func(e network.Edit) bool {
		return e.Verb == network.Add && (e.Kind == "route" || e.Kind == network.SourceNAT.String())
	})
	return adds && slices.ContainsFunc(r.Opens, func(d reach.Difference) bool {
		return d.Change == reach.NewlyReached && !d.From.Contains(t.Connection.Packet.Source)
	})
}

// others returns the gateways of other parties that edits change.
func (b *Bench) others(m network.Edits) (list []*network.Gateway) {
	for _, edit := range m {
		if g := b.net.Gateway(edit.Gateway); b.net.IsOthers(g) && !slices.Contains(list, g) {
			list = append(list, g)
		}
	}
	return list
}

// forTrace tries edits for a trace, those of gateways of other parties only where it may.
func (b *Bench) forTrace(t *words.Trace, asked Asked, others bool) []Repair {
	var found []Repair
	type attempt struct {
		edits network.Edits
		from  []standstill // where it was stopped before
	}
	var waiting []attempt
	add := func(t *words.Trace, alike []*words.Trace, n *network.Network, before attempt) {
		from := append(slices.Clone(before.from), standsAt(t))
		for _, m := range advice.Proposals(t, n, advice.Wanted{Who: asked.Who, Service: asked.Service, Services: asked.Services, Alike: alike}) {
			if !others && len(b.others(m)) > 0 {
				continue
			}
			waiting = append(waiting, attempt{slices.Concat(before.edits, m), from})
		}
	}
	var alike []*words.Trace
	if len(asked.Others) > 0 { // a large network is not compiled for nobody
		_, alike = asked.stopped(walk.Compile(b.net, nil), t)
	}
	add(t, alike, b.net, attempt{})
	tried := map[string]bool{}
	for left := b.tries(); left > 0 && len(waiting) > 0 && len(found) < mostRepairs; {
		a := waiting[0]
		waiting = waiting[1:]
		if tried[netfile.Commands(a.edits)] {
			continue
		}
		if len(found) > 0 && len(a.edits) > len(found[0].Edits) {
			break
		}
		tried[netfile.Commands(a.edits)] = true
		left--
		after := b.try(a.edits)
		if after == nil {
			continue
		}
		switch again, alike := asked.stopped(after, traced(after, t.Connection)); {
		case again == nil:
		case again.Outcome == engine.Reached:
			found = append(found, b.repair(a.edits, after))
		case len(a.edits) < mostTogether && !slices.Contains(a.from, standsAt(again)):
			add(again, alike, after.Network(), a)
		}
	}
	return found
}

func sorted(list []Repair) []Repair {
	slices.SortStableFunc(list, func(a, b Repair) int {
		if a.Edits.Corrects() != b.Edits.Corrects() {
			if a.Edits.Corrects() {
				return -1
			}
			return 1
		}
		return len(a.Opens) - len(b.Opens)
	})
	return list
}

// closes reports whether something that was reached, and meant to be, is not any more.
func (r Repair) closes() bool {
	return !r.Edits.Corrects() && slices.ContainsFunc(r.Opens, func(d reach.Difference) bool { return d.Change == reach.NoLonger })
}

// tries returns how many edits are tried for a trace.
func (b *Bench) tries() int { return min(mostTries, max(1, triedRules/max(1, b.net.RuleCount()))) }

// A standstill is where and how a connection is stopped.
type standstill struct {
	outcome engine.Outcome
	at      string
	step    engine.StepKind
	rule    string
	packet  header.Packet
}

func standsAt(t *words.Trace) standstill {
	s := standstill{outcome: t.Outcome, at: t.At.Name(), step: t.Step, packet: t.Stood.After}
	if t.Rule != nil {
		s.rule = t.Rule.Name
	}
	return s
}

// mostChoices is how many edits are offered for a rule that others hide: what was meant, nobody can
// know.
const mostChoices = 3

// ForFinding returns the first of the edits for a finding after which it is gone and nothing new that
// is a danger or a mistake is found; of a hidden rule, all of them. There may be none.
func (b *Bench) ForFinding(f *advice.Finding, all []advice.Finding) (list []Repair) {
	most := 1
	if f.Kind == network.HiddenRule {
		most = mostChoices
	}
	for _, others := range []bool{false, true} {
		for _, m := range f.Proposals {
			if b.overgrown {
				return list
			}
			if (len(b.others(m)) > 0) != others {
				continue
			}
			if m, after := b.cured(f, all, m); after != nil {
				if list = append(list, b.repair(m, after)); len(list) == most {
					return list
				}
			}
		}
		if len(list) > 0 {
			break
		}
	}
	return list
}

// cured tries edits for a finding and, where they leave something else to be mended
// about the same rule, those for that as well. after is nil where that does not mend it.
func (b *Bench) cured(f *advice.Finding, all []advice.Finding, m network.Edits) (_ network.Edits, after *walk.Engine) {
	before := map[advice.Matter]bool{}
	for i := range all {
		before[all[i].Matter()] = true
	}
	for range 2 {
		after := b.try(m)
		if after == nil {
			return nil, nil
		}
		left, err := b.examine(after)
		if b.overgrown = err != nil; b.overgrown || slices.ContainsFunc(left, func(l advice.Finding) bool { return l.Matter() == f.Matter() }) {
			return nil, nil
		}
		worse := slices.IndexFunc(left, func(l advice.Finding) bool {
			exposes := m.Corrects() && l.Severity() == network.Danger // what the rule was meant to open is said with the edit
			beside := l.Kind == network.BesideUplink                  // it was so before, beside what was open to others
			return l.Severity() != network.Note && !exposes && !beside && !before[l.Matter()]
		})
		if worse < 0 {
			return m, after
		}
		if left[worse].Subject != f.Subject || len(left[worse].Proposals) == 0 {
			return nil, nil
		}
		m = slices.Concat(m, left[worse].Proposals[0])
	}
	return nil, nil
}

// try makes edits on a copy and returns the network as it is then, nil where it is not right.
func (b *Bench) try(m network.Edits) *walk.Engine {
	e := b.sketch.Copy()
	if e.ApplyAll(m) != nil {
		return nil
	}
	n, err := e.Network()
	if err != nil {
		return nil
	}
	n.On(b.net.Now)
	return walk.Compile(n, nil)
}

// repair says what edits open.
func (b *Bench) repair(m network.Edits, after *walk.Engine) Repair {
	r := Repair{Command: netfile.Commands(m), Edits: m, Others: b.others(m)}
	if b.net.RuleCount() > b.mostRules {
		return r
	}
	if b.base == nil {
		b.base = reach.NewBaseline(walk.Compile(b.net, nil), b.times, mostPieces)
	}
	found, err := b.base.Differences(after, false, touched(m, b.net, after.Network()))
	if err != nil {
		return r
	}
	r.Names = reach.NewNamer(after.Network())
	r.Opens, r.Compared = reach.Summary(r.Names, found), true
	return r
}

// touched returns the protocols whose connections edits can make a difference to. A
// filter rule is compared with those of its services alone.
func touched(m network.Edits, before, after *network.Network) []header.Protocol {
	var list []header.Protocol
	for _, edit := range m {
		for _, n := range []*network.Network{before, after} {
			if g := n.Gateway(edit.Gateway); g != nil {
				for _, r := range g.Filter {
					if r.Kind == edit.Kind && r.Name == edit.Name {
						list = append(list, protocolsOf(r.Services)...)
					}
				}
			}
		}
		if !slices.Contains(network.Verbs, network.Verb(edit.Kind)) {
			return header.Protocols()
		}
	}
	return list
}

func protocolsOf(services header.Services) []header.Protocol {
	var list []header.Protocol
	for _, s := range services {
		if s.Protocol == header.AnyProtocol {
			return header.Protocols()
		}
		list = append(list, s.Protocol)
	}
	if len(services) == 0 {
		return header.Protocols()
	}
	return list
}

// Asked is what a traced connection stands for. The zero Asked is that connection alone.
type Asked struct {
	Who      string            // whose connections, as files say it; its sender's alone where empty
	Service  string            // of which services, as files say it; its own alone where empty
	Services header.Services   // these
	Others   []walk.Connection // others that were asked about with it: of other services, and from others of these
}

// stopped returns what is stopped of what was asked about, in an edited network where the connection that stands for all fares as a trace says: that
// one or, where it reaches a host, the first of the others that does not; and those that end at the same place, where they are of other
// services. The trace that is given is returned where all reach a host, and nil where it is nil.
func (a Asked) stopped(e *walk.Engine, t *words.Trace) (first *words.Trace, alike []*words.Trace) {
	if first = t; t == nil {
		return nil, nil
	}
	for _, c := range a.Others {
		other := traced(e, c)
		switch {
		case other == nil || other.Outcome == engine.Reached:
		case first.Outcome == engine.Reached:
			first = other
		case first.At.Name() == other.At.Name() && first.Step == other.Step && first.Outcome == other.Outcome && sameSource(first, other):
			alike = append(alike, other)
		}
	}
	return first, alike
}

func sameSource(t, u *words.Trace) bool {
	return t.Connection.Packet.Source == u.Connection.Packet.Source
}

// traced traces a connection in an edited network, nil where it can't begin there.
func traced(e *walk.Engine, c walk.Connection) *words.Trace {
	var err error
	if through := c.From.Through; through != nil {
		g := e.Network().Gateway(through.Gateway.Name)
		c.From = e.Behind(g.Interface(through.Name), c.Packet.Source)
	} else if c.From, err = e.Locate(c.Packet.Source); err != nil {
		return nil
	}
	return words.TraceOf(e.NewWalk(), c)
}
