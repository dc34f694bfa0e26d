package table

import (
	"iter"

	"hollowbridge/core/network"
)

// A Span is the rules of a list from first to before end, by index.
type Span struct{ First, End int }

// A Replacement is what differs between two lists of rules: a section of the older one has become
// another of the newer one.
type Replacement struct{ Old, New Span }

// ReplacementOf returns the least one between two lists, by the digests of their rules.
func ReplacementOf(old, new []network.Digest) Replacement {
	first := 0
	for first < len(old) && first < len(new) && old[first] == new[first] {
		first++
	}
	behind := 0
	for behind < len(old)-first && behind < len(new)-first && old[len(old)-1-behind] == new[len(new)-1-behind] {
		behind++
	}
	return Replacement{Span{first, len(old) - behind}, Span{first, len(new) - behind}}
}

func (c Replacement) IsNone() bool { return c.Old.First == c.Old.End && c.New.First == c.New.End }

// IsSmall reports whether a table of so many rules is better patched than made anew.
func (c Replacement) IsSmall(rules int) bool {
	return c.Old.End-c.Old.First+c.New.End-c.New.First <= max(16, rules/64)
}

// A patch is what makes the table of another revision of a table's list: some of its rules
// are no more, others stand at their place, and those behind have moved.
type patch struct {
	Replacement
	behind int32  // the first condition for a rule behind
	added  *Table // for the rules that were not there
}

// Patched returns a table for another revision of its list, which the change leads to from
// the list that the table was made of.
func (t *Table) Patched(c Replacement, added *Table, rules []*network.Rule) *Table {
	p := *t
	p.rules, p.patch = rules, nil
	if c.IsNone() {
		return &p
	}
	p.patch = &patch{Replacement: c, behind: int32(len(t.conditions)), added: added}
	p.asksFrom, p.asksTo, p.asksLed, p.zones = t.asksFrom || added.asksFrom, t.asksTo || added.asksTo, t.asksLed || added.asksLed, max(t.zones, added.zones)
	for n := range t.conditions {
		if t.conditions[n].Index >= c.Old.End {
			p.patch.behind = int32(n)
			break
		}
	}
	return &p
}

// IsEmpty reports whether no packet meets a condition, as there is none.
func (t *Table) IsEmpty() bool { return len(t.conditions) == 0 && t.patch == nil }

// Find returns the number of the first condition the query meets, or noMatch.
func (t *Table) Find(q *Query) int32 {
	found := t.findFrom(q, 0)
	if t.patch == nil {
		return found
	}
	return t.findPatched(q, found)
}

// findPatched is find of a patched table, where found is what the query meets of the conditions that it was made of.
func (t *Table) findPatched(q *Query, found int32) int32 {
	if found != NoMatch && t.conditions[found].Index < t.patch.Old.First {
		return found
	}
	if added := t.patch.added.Find(q); added != NoMatch {
		return int32(len(t.conditions)) + added
	}
	if found != NoMatch && found < t.patch.behind { // it is no more
		return t.findFrom(q, t.patch.behind)
	}
	return found
}

// Condition returns a condition by its number.
func (t *Table) Condition(n int32) *Condition {
	if int(n) < len(t.conditions) {
		return &t.conditions[n]
	}
	return &t.patch.added.conditions[int(n)-len(t.conditions)]
}

// Index returns where the rule of a condition stands in the list.
func (t *Table) Index(n int32) int { return t.Moved(n, t.Condition(n).Index) }

// Moved returns where a rule stands in the list as it is now.
func (t *Table) Moved(n int32, i int) int {
	if t.patch != nil && int(n) < len(t.conditions) && i >= t.patch.Old.End {
		i += t.patch.New.End - t.patch.Old.End
	}
	return i
}

// Listed returns a rule by where it stands in the list.
func (t *Table) Listed(i int) *network.Rule { return t.rules[i] }

// Rule returns the rule of a condition.
func (t *Table) Rule(n int32) *network.Rule { return t.rules[t.Index(n)] }

// Ordered returns the conditions with their numbers, in the order in which they are tried.
func (t *Table) Ordered() iter.Seq2[int32, *Condition] {
	return func(yield func(int32, *Condition) bool) {
		end, behind := int32(len(t.conditions)), int32(len(t.conditions))
		if t.patch != nil {
			end, behind = t.patch.behind, t.patch.behind
			for end > 0 && t.conditions[end-1].Index >= t.patch.Old.First {
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
			if n := int32(len(t.conditions) + k); !yield(n, t.Condition(n)) {
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
