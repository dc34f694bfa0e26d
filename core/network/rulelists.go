package network

// RuleLists numbers lists of rules, so that maps can have them as keys: a list has the number that it had before. The zero one is ready.
type RuleLists struct{ longer map[longerList]int }

// A longerList is a list and one rule more.
type longerList struct {
	list int
	rule *Rule
}

// Number returns the number of a list of rules, in this order; 0 is that of the empty list.
func (l *RuleLists) Number(rules []*Rule) (number int) {
	for _, r := range rules {
		number = l.With(number, r)
	}
	return number
}

// With returns the number of a list with one rule more.
func (l *RuleLists) With(list int, rule *Rule) int {
	if l.longer == nil {
		l.longer = map[longerList]int{}
	}
	key := longerList{list, rule}
	number, known := l.longer[key]
	if !known {
		number = len(l.longer) + 1
		l.longer[key] = number
	}
	return number
}
