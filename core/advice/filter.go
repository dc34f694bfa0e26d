package advice

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// hiddenRules finds rules that others in front of them leave nothing for.
func (x *exam) hiddenRules() {
	for _, h := range x.hidden {
		if h.Rule.Disabled {
			continue
		}
		text := "it matches nothing at all"
		if len(h.By) > 0 {
			var names []string
			for _, r := range h.By {
				names = append(names, r.Name)
			}
			text = "it can never match: " + strings.Join(names, ", ") + " in front of it take everything"
		}
		x.rule(network.HiddenRule, h.Rule, text, x.remove(h.Rule))
	}
}

// crossingRules finds filter rules that cross one in front of them with another verb.
func (x *exam) crossingRules() {
	verbs := map[*network.Rule]network.Verb{}
	for _, g := range x.net.Gateways {
		for _, r := range g.Filter {
			verbs[&r.Rule] = r.Verb
		}
	}
	told := map[*network.Rule]bool{}
	for _, c := range x.explorer.Crossings() {
		if (verbs[c.First] == network.Allow) != (verbs[c.Second] == network.Allow) && !told[c.Second] {
			told[c.Second] = true
			x.rule(network.HalfHidden, c.Second, fmt.Sprintf("%s (line %d) decides about part of it, %s -> %s for one", c.First.Name, c.First.Place.Line, c.Example.From(), c.Example.To()))
		}
	}
}

// unusedRules finds filter rules that no connection ever comes to.
func (x *exam) unusedRules() {
	used := map[*network.Rule]bool{}
	for _, o := range x.regions {
		for _, r := range o.Rules {
			used[r] = true
		}
	}
	hidden := map[*network.Rule]bool{}
	for _, h := range x.hidden {
		hidden[h.Rule] = true
	}
	for _, g := range x.net.Gateways {
		for _, r := range g.Filter {
			wrong := slices.ContainsFunc(x.found, func(f Finding) bool { return f.Kind == network.WrongSide && f.Place == r.Place })
			if !used[&r.Rule] && !hidden[&r.Rule] && !r.Disabled && !wrong {
				x.rule(network.UnusedRule, &r.Rule, "no connection ever comes to it", x.remove(&r.Rule))
			}
		}
	}
}

// dropLists finds lists of who is stopped in front of a rule that lets everyone else through.
func (x *exam) dropLists() {
	for _, g := range x.net.Gateways {
		for i, drop := range g.Filter {
			from := drop.From.Addresses()
			listed := !drop.From.IsAny() && len(drop.From.Zones()) == 0 && from.Intersect(x.net.Internet()).Empty() && from.Size() < 1024
			if drop.Verb == network.Allow || drop.Disabled || !listed {
				continue
			}
			for _, allow := range g.Filter[i+1:] {
				if allow.Verb == network.Allow && !allow.Disabled && from.Minus(allow.From.Addresses()).Empty() && sameServices(drop, allow) {
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
