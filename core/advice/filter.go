package advice

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"hollowbridge/core/engine"
	"hollowbridge/core/explore"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// hiddenRules finds rules that others in front of them leave nothing for.
func (x *exam) hiddenRules() {
	filter := map[*network.Rule]*network.FilterRule{}
	for _, g := range x.net.Gateways {
		for _, r := range g.Filter {
			filter[&r.Rule] = r
		}
	}
	for _, h := range x.lists.hidden {
		if h.Rule.Off() || x.awaitsMembers(h.Rule) {
			continue
		}
		if len(h.By) == 0 {
			x.rule(network.HiddenRule, h.Rule, "it matches nothing at all", x.remove(h.Rule))
			continue
		}
		this := filter[h.Rule]
		if this == nil { // it translates
			x.rule(network.HiddenRule, h.Rule, "it can never match: "+fronts(h.By, "takes everything", "take everything"), x.moveBefore(h.Rule, h.By[0]), x.remove(h.Rule))
			continue
		}
		opposed := slices.IndexFunc(h.By, func(r *network.Rule) bool { return opposes(this, filter[r]) })
		if opposed < 0 {
			x.rule(network.RedundantRule, h.Rule, "it changes nothing: "+fronts(h.By, "does the same already", "do the same already"), x.remove(h.Rule))
			continue
		}
		x.rule(network.HiddenRule, h.Rule, "it can never match: "+fronts(h.By, "takes everything", "take everything"), x.guarding(this, h.By[opposed])...)
	}
}

// awaitsMembers reports whether a rule is for a group that has no members just now: what it does when there are some is not to be seen.
func (x *exam) awaitsMembers(r *network.Rule) bool {
	if x.awaiting == nil {
		x.awaiting = map[*network.Rule]bool{}
		if slices.ContainsFunc(x.net.Groups, func(g *network.Group) bool { return g.Members.Empty() }) {
			for _, g := range x.net.Gateways {
				for _, r := range g.NAT {
					x.awaiting[&r.Rule] = x.net.EmptyGroup(r.From, r.To) != ""
				}
				for _, r := range g.Filter {
					x.awaiting[&r.Rule] = x.net.EmptyGroup(r.From, r.To) != ""
				}
			}
		}
	}
	return x.awaiting[r]
}

// mostFronts is how many rules in front of another one are named.
const mostFronts = 3

// fronts says what one rule, or several, in front of another do to it.
func fronts(rules []*network.Rule, does, do string) string {
	var names []string
	for _, r := range rules[:min(len(rules), mostFronts)] {
		names = append(names, fmt.Sprintf("%s (line %d)", r.Name, r.Place.Line))
	}
	switch more := len(rules) - len(names); {
	case more > 0:
		return fmt.Sprintf("%s and %d more in front of it %s", strings.Join(names, ", "), more, do)
	case len(rules) == 1:
		return names[0] + " in front of it " + does
	}
	return strings.Join(names, ", ") + " in front of it " + do
}

// opposes reports whether one rule lets through what the other stops.
func opposes(a, b *network.FilterRule) bool {
	return (a.Verb == network.Allow) != (b.Verb == network.Allow)
}

// guarding are edits by which a rule decides about what one of another verdict in front of it
// does. A rule that stops is never the one to go: it says what somebody wanted stopped.
func (x *exam) guarding(r *network.FilterRule, front *network.Rule) []network.Edits {
	edits := []network.Edits{x.moveBefore(&r.Rule, front)}
	for _, wide := range r.Gateway.Filter {
		if &wide.Rule == front && len(r.From.Items) == 1 && !strings.Contains(r.From.Text+wide.From.Text, " except ") && len(wide.From.Items) < 2 {
			edits = append(edits, x.change(front, network.Setting{Key: network.KeyFrom, Value: cmp.Or(wide.From.Text, "any") + " except " + r.From.Text}))
		}
	}
	if r.Verb == network.Allow {
		return append(edits, x.remove(&r.Rule))
	}
	return append(edits, x.remove(front))
}

func (x *exam) moveBefore(r, other *network.Rule) network.Edits {
	return network.Edits{{Verb: network.Move, Kind: r.Kind, Name: r.Name, Gateway: r.Gateway.Name, Before: other.Name}}
}

// crossingRules finds filter rules that cross one in front of them with another verb.
func (x *exam) crossingRules() {
	for _, c := range x.lists.crossings {
		x.rule(network.HalfHidden, c.Second, fmt.Sprintf("%s (line %d) decides about part of it, %s -> %s%s for one", c.First.Name, c.First.Place.Line, c.Example.From(), c.Example.To(), x.at(c.Moment, c.First, c.Second)))
	}
}

// at says when an example is, where one of some rules takes part at some moments only.
func (x *exam) at(m network.Moment, rules ...*network.Rule) string {
	if x.explorer.Times.IsOne() || !slices.ContainsFunc(rules, (*network.Rule).Timed) {
		return ""
	}
	return " at " + m.Near(x.net.Today)
}

// mostPassed is how many regions are explored again to see which rules pass others by.
const mostPassed = 2000

// passedBy returns the first of the rules of another verdict in front of a rule that decides about
// connections the rule would match: straight says whether also about those that are handed to gateways. told is false where that is not known: there are too many.
func (x *exam) passedBy(r *network.FilterRule, opposing []*network.FilterRule, straight bool, budget *int) (by *network.FilterRule, example explore.Passing, told bool) {
	for _, front := range opposing {
		if front.Number > r.Number {
			break
		}
		for _, o := range x.through[&front.Rule] {
			if o.From.Through != nil && !straight {
				continue
			}
			if *budget--; *budget < 0 {
				return nil, explore.Passing{}, false
			}
			passings, err := x.explorer.Passings(r, o.begun, o.Set)
			if err != nil {
				return nil, explore.Passing{}, false
			}
			for _, p := range passings {
				if p.Front == &front.Rule {
					return front, p, true
				}
			}
		}
	}
	return nil, explore.Passing{}, true
}

// unusedRules finds filter rules that no connection ever comes to: because rules of another
// verdict in front of them take all that could, or because nothing could.
func (x *exam) unusedRules() {
	used, straight := map[*network.Rule]bool{}, map[*network.Rule]bool{} // by machines beside uplinks alone
	for _, o := range x.regions {
		for _, r := range o.Rules {
			if o.From.Through == nil {
				used[r] = true
			} else {
				straight[r] = true
			}
		}
	}
	hidden := map[*network.Rule]bool{}
	for _, h := range x.lists.hidden {
		hidden[h.Rule] = true
	}
	wrong := map[network.Position]bool{}
	for _, f := range x.found {
		if f.Kind == network.WrongSide {
			wrong[f.Place] = true
		}
	}
	budget := mostPassed
	for _, g := range x.net.Gateways {
		deciding := map[bool][]*network.FilterRule{} // that allow something, and that stop it
		for _, r := range g.Filter {
			if len(x.through[&r.Rule]) > 0 && !r.Off() {
				deciding[r.Verb == network.Allow] = append(deciding[r.Verb == network.Allow], r)
			}
		}
		for _, r := range g.Filter {
			if used[&r.Rule] || hidden[&r.Rule] || r.Off() || wrong[r.Place] || x.awaitsMembers(&r.Rule) {
				continue
			}
			switch by, example, told := x.passedBy(r, deciding[r.Verb != network.Allow], !straight[&r.Rule], &budget); {
			case by != nil:
				never := "it never matches"
				if straight[&r.Rule] {
					never = "but for machines beside an uplink, it never matches"
				}
				x.rule(network.HiddenRule, &r.Rule, never+fmt.Sprintf(": %s (line %d) in front of it takes what could come to it, %s -> %s%s for one", by.Name, by.Place.Line, example.Example.From(), example.Example.To(), x.at(example.Moment, &by.Rule, &r.Rule)),
					x.guarding(r, &by.Rule)...)
			case straight[&r.Rule] && (r.Verb != network.Allow || x.reaches(&r.Rule)): // it stops them, or says so elsewhere
			case straight[&r.Rule]:
				x.rule(network.UnusedRule, &r.Rule, "but for machines beside an uplink, no connection ever comes to it", x.remove(&r.Rule))
			case told || r.Verb == network.Allow:
				x.rule(network.UnusedRule, &r.Rule, "no connection ever comes to it", x.remove(&r.Rule))
			default: // it may be what should stand in front
				x.rule(network.UnusedRule, &r.Rule, "no connection ever comes to it")
			}
		}
	}
}

// reaches reports whether connections get somewhere by a rule.
func (x *exam) reaches(r *network.Rule) bool {
	return slices.ContainsFunc(x.through[r], func(o *origin) bool { return o.Verdict.Outcome == engine.Reached })
}

// dropLists finds lists of who is stopped in front of a rule that lets everyone else through.
func (x *exam) dropLists() {
	for _, g := range x.net.Gateways {
		for i, drop := range g.Filter {
			if drop.Verb == network.Allow || drop.Off() || drop.From.IsAny() || len(drop.From.Zones()) > 0 {
				continue
			}
			from := drop.From.Addresses()
			if from.Size().Exceeds(1023) || !from.Intersect(x.net.Internet()).Empty() {
				continue
			}
			for _, allow := range g.Filter[i+1:] {
				if allow.Verb == network.Allow && !allow.Off() && from.Minus(allow.From.Addresses()).Empty() && sameServices(drop, allow) {
					x.rule(network.DropList, &drop.Rule, fmt.Sprintf("%s lets through everyone of %s whom it does not list", allow.Name, cmp.Or(allow.From.Text, "anybody")))
					break
				}
			}
		}
	}
}

func sameServices(a, b *network.FilterRule) bool {
	if len(a.Services) == 0 || len(b.Services) == 0 {
		return true
	}
	return slices.ContainsFunc(a.Services, func(s header.Service) bool { return b.Services.Matches(s.Protocol, s.Ports.First) })
}

func (x *exam) disabledRules() {
	for _, g := range x.net.Gateways {
		for _, r := range g.NAT {
			if r.Disabled {
				x.rule(network.DisabledRule, &r.Rule, disabledText(&r.Rule), x.remove(&r.Rule))
			}
		}
		for _, r := range g.Filter {
			if r.Disabled {
				x.rule(network.DisabledRule, &r.Rule, disabledText(&r.Rule), x.remove(&r.Rule))
			}
		}
	}
}

func disabledText(r *network.Rule) string {
	if r.Note != "" {
		return "it is disabled: " + r.Note
	}
	return "it is disabled; remove it if it is not needed"
}
