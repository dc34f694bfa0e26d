package network

import (
	"slices"
	"sort"
)

// Times are the moments that a question is about, numbered from 0.
//
// A question about every moment is one about all weeks from today on. No rule tells a week from another but by its
// deadline, so it is enough to ask about the first week from today on, and about the first one from each deadline
// on: fewer minutes where the next deadline comes sooner. What is said of such a week holds up to that.
//
// The zero Times is one moment, at which rules with deadlines take part.
type Times struct {
	today Date
	parts []part
}

// A part is moments without a gap, a week at most.
type part struct {
	first Moment
	count int
	from  int // number of the first
}

// At returns one moment.
func At(m Moment) Times { return Times{m.Date(), []part{{m, 1, 0}}} }

// EveryMoment returns all moments from the first one of today on that the rules of some networks tell apart; one where
// these tell none.
func EveryMoment(networks ...*Network) Times {
	if !Timed(networks...) {
		return At(networks[0].Now)
	}
	today := networks[0].Today
	begins := []Moment{today.Begins()}
	for _, n := range networks {
		for _, g := range n.Gateways {
			for r := range g.Rules() {
				if r.Timed() && r.over > begins[0] {
					begins = append(begins, r.over)
				}
			}
		}
	}
	slices.Sort(begins)
	begins = slices.Compact(begins)
	t := Times{today: today}
	from := 0
	for i, first := range begins {
		count := minutesAWeek
		if i+1 < len(begins) {
			count = min(count, int(begins[i+1]-first))
		}
		t.parts = append(t.parts, part{first, count, from})
		from += count
	}
	return t
}

// IsZero reports whether they are the zero Times.
func (t Times) IsZero() bool { return len(t.parts) == 0 }

// Or returns the times, and every moment of some networks where they are the zero ones.
func (t Times) Or(networks ...*Network) Times {
	if t.IsZero() {
		return EveryMoment(networks...)
	}
	return t
}

// Timed reports whether some rule of the networks takes part at some moments and not at others.
func Timed(networks ...*Network) bool {
	for _, n := range networks {
		for _, g := range n.Gateways {
			for r := range g.Rules() {
				if r.Timed() {
					return true
				}
			}
		}
	}
	return false
}

// Count returns how many moments they are, one at least.
func (t Times) Count() int {
	if len(t.parts) == 0 {
		return 1
	}
	last := t.parts[len(t.parts)-1]
	return last.from + last.count
}

// Equal reports whether they are the same moments.
func (t Times) Equal(u Times) bool { return slices.Equal(t.parts, u.parts) }

// IsOne reports whether they are one moment.
func (t Times) IsOne() bool { return t.Count() == 1 }

// Moment returns the moment of a number.
func (t Times) Moment(number int) Moment {
	if len(t.parts) == 0 {
		return 0
	}
	i := sort.Search(len(t.parts), func(i int) bool { return t.parts[i].from > number }) - 1
	return t.parts[i].first + Moment(number-t.parts[i].from)
}

// Usual returns the number of the moment that an example is of, among some, which are in order: the first of a
// week that begins on Monday.
func (t Times) Usual(list []Stretch) int {
	best, found := 0, false
	for _, p := range t.parts {
		for _, s := range list {
			first, last := max(s.First, p.from), min(s.Last, p.from+p.count-1)
			if first > last {
				continue
			}
			at := p.first + Moment(first-p.from)
			if monday := (minutesAWeek - at.ofWeek()) % minutesAWeek; first+monday <= last {
				first, at = first+monday, at+Moment(monday)
			}
			if !found || at.ofWeek() < t.Moment(best).ofWeek() {
				best, found = first, true
			}
		}
		if found {
			break
		}
	}
	return best
}

// Name writes one of the moments as Moment.Near does.
func (t Times) Name(m Moment) string { return m.Near(t.today) }

// Number returns the number of a moment; false where it is none of them.
func (t Times) Number(m Moment) (number int, ok bool) {
	for _, p := range t.parts {
		if m >= p.first && int(m-p.first) < p.count {
			return p.from + int(m-p.first), true
		}
	}
	return 0, false
}

// A Stretch is moments without a gap, by their numbers: from First to Last.
type Stretch struct{ First, Last int }

// Active returns at which moments what has some hours takes part, in their order.
func (t Times) Active(h Hours) []Stretch {
	week := h.week()
	return t.stretches(func(m Moment) bool { return (h.over == 0 || m < h.over) && week[m.ofWeek()] })
}

// stretches returns the moments for which something holds.
func (t Times) stretches(holds func(Moment) bool) (list []Stretch) {
	for _, p := range t.parts {
		for k := range p.count {
			if !holds(p.first + Moment(k)) {
				continue
			}
			number := p.from + k
			if n := len(list); n > 0 && list[n-1].Last == number-1 {
				list[n-1].Last = number
			} else {
				list = append(list, Stretch{number, number})
			}
		}
	}
	return list
}
