package engine

import (
	"iter"

	"hollowbridge/core/network"
)

// A section is the rules of a list from first to before end, by index.
type section struct{ first, end int }

// A replacement is what differs between two lists of rules: a section of the older one has become
// another of the newer one.
type replacement struct{ old, new section }

// replacementOf returns the least one between two lists, by the digests of their rules.
func replacementOf(old, new []network.Digest) replacement {
	first := 0
	for first < len(old) && first < len(new) && old[first] == new[first] {
		first++
	}
	behind := 0
	for behind < len(old)-first && behind < len(new)-first && old[len(old)-1-behind] == new[len(new)-1-behind] {
		behind++
	}
	return replacement{section{first, len(old) - behind}, section{first, len(new) - behind}}
}

func (c replacement) isNone() bool { return c.old.first == c.old.end && c.new.first == c.new.end }

// isSmall reports whether a table of so many rules is better patched than made anew.
func (c replacement) isSmall(rules int) bool {
	return c.old.end-c.old.first+c.new.end-c.new.first <= max(16, rules/64)
}

// A patch is what makes the table of another revision of a table's list: some of its rules
// are no more, others stand at their place, and those behind have moved.
type patch struct {
	replacement
	behind int32  // the first condition for a rule behind
	added  *table // for the rules that were not there
}

// patched returns a table for another revision of its list, which the change leads to from
// the list that the table was made of.
func (t *table) patched(c replacement, added *table, rules []*network.Rule) *table {
	p := *t
	p.rules, p.patch = rules, nil
	if c.isNone() {
		return &p
	}
	p.patch = &patch{replacement: c, behind: int32(len(t.conditions)), added: added}
	p.asksFrom, p.asksTo, p.asksLed, p.zones = t.asksFrom || added.asksFrom, t.asksTo || added.asksTo, t.asksLed || added.asksLed, max(t.zones, added.zones)
	for n := range t.conditions {
		if t.conditions[n].index >= c.old.end {
			p.patch.behind = int32(n)
			break
		}
	}
	return &p
}

// isEmpty reports whether no packet meets a condition, as there is none.
func (t *table) isEmpty() bool { return len(t.conditions) == 0 && t.patch == nil }

// find returns the number of the first condition the query meets, or noMatch.
func (t *table) find(q *query) int32 {
	found := t.findFrom(q, 0)
	if t.patch == nil {
		return found
	}
	return t.findPatched(q, found)
}

// findPatched is find of a patched table, where found is what the query meets of the conditions that it was made of.
func (t *table) findPatched(q *query, found int32) int32 {
	if found != noMatch && t.conditions[found].index < t.patch.old.first {
		return found
	}
	if added := t.patch.added.find(q); added != noMatch {
		return int32(len(t.conditions)) + added
	}
	if found != noMatch && found < t.patch.behind { // it is no more
		return t.findFrom(q, t.patch.behind)
	}
	return found
}

// condition returns a condition by its number.
func (t *table) condition(n int32) *condition {
	if int(n) < len(t.conditions) {
		return &t.conditions[n]
	}
	return &t.patch.added.conditions[int(n)-len(t.conditions)]
}

// index returns where the rule of a condition stands in the list.
func (t *table) index(n int32) int { return t.moved(n, t.condition(n).index) }

// moved returns where a rule stands in the list as it is now.
func (t *table) moved(n int32, i int) int {
	if t.patch != nil && int(n) < len(t.conditions) && i >= t.patch.old.end {
		i += t.patch.new.end - t.patch.old.end
	}
	return i
}

// listed returns a rule by where it stands in the list.
func (t *table) listed(i int) *network.Rule { return t.rules[i] }

// rule returns the rule of a condition.
func (t *table) rule(n int32) *network.Rule { return t.rules[t.index(n)] }

// ordered returns the conditions with their numbers, in the order in which they are tried.
func (t *table) ordered() iter.Seq2[int32, *condition] {
	return func(yield func(int32, *condition) bool) {
		end, behind := int32(len(t.conditions)), int32(len(t.conditions))
		if t.patch != nil {
			end, behind = t.patch.behind, t.patch.behind
			for end > 0 && t.conditions[end-1].index >= t.patch.old.first {
				end--
			}
		}
		for n := range end {
			if !yield(n, &t.conditions[n]) {
				return
			}
		}
		if t.patch == nil {
			return
		}
		for k := range t.patch.added.conditions {
			if n := int32(len(t.conditions) + k); !yield(n, t.condition(n)) {
				return
			}
		}
		for n := behind; int(n) < len(t.conditions); n++ {
			if !yield(n, &t.conditions[n]) {
				return
			}
		}
	}
}
