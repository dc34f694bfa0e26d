package network

import (
	"fmt"
	"slices"
	"strings"
)

// A When says at which of some moments something is so. The zero When is always.
type When struct {
	text  string
	times Times
	list  []Stretch // of them
}

// When returns the words for some of the moments, which are in order; none are all of them.
func (t Times) When(list []Stretch) When {
	if len(list) == 0 || list[0] == (Stretch{0, t.Count() - 1}) {
		return When{}
	}
	return When{t.text(list, "", ""), t, list}
}

// IsAlways reports whether it is so at all moments.
func (w When) IsAlways() bool { return w.text == "" }

// Equal reports whether both are the same moments.
func (w When) Equal(v When) bool { return w.text == v.text && slices.Equal(w.list, v.list) }

// Holds reports whether it is so at a moment, which is one of those that are asked about.
func (w When) Holds(m Moment) bool {
	if w.IsAlways() {
		return true
	}
	number, ok := w.times.Number(m)
	return ok && slices.ContainsFunc(w.list, func(s Stretch) bool { return s.First <= number && number <= s.Last })
}

// String says when, as "mon-fri 08:00-18:00 until 2027-01-31" or "except sat,sun"; nothing where that is always.
func (w When) String() string { return w.text }

// Sentence says when for a sentence, as "only mon-fri 08:00-18:00 until 2027-01-31" or "always except sat,sun";
// nothing where that is always.
func (w When) Sentence() string {
	if w.IsAlways() {
		return ""
	}
	return w.times.text(w.list, "only ", "always ")
}

// A week is which of its minutes are marked, from Monday 00:00 on.
type week [minutesAWeek]bool

// An era is weeks that are alike, as far as is known of them.
type era struct {
	first        Moment
	holds, known week
}

// eras returns what holds in each time that is told from others.
func (t Times) eras(list []Stretch) (all []*era) {
	for _, p := range t.parts {
		e := &era{first: p.first}
		for k := range p.count {
			number, minute := p.from+k, (p.first + Moment(k)).ofWeek()
			for len(list) > 0 && list[0].Last < number {
				list = list[1:]
			}
			e.known[minute], e.holds[minute] = true, len(list) > 0 && list[0].First <= number
		}
		if n := len(all); n > 0 && all[n-1].takes(e) {
			continue
		}
		all = append(all, e)
	}
	return all
}

// takes makes another era part of this one, if nothing that is known of them differs.
func (e *era) takes(f *era) bool {
	for m := range e.holds {
		if e.known[m] && f.known[m] && e.holds[m] != f.holds[m] {
			return false
		}
	}
	for m := range e.holds {
		e.holds[m], e.known[m] = e.holds[m] || f.holds[m], e.known[m] || f.known[m]
	}
	return true
}

// text says when each era's moments are, and from when until when the era is; only stands before hours, and always
// before hours at which it is not so.
func (t Times) text(list []Stretch, only, always string) string {
	var parts []string
	all := t.eras(list)
	for i, e := range all {
		var words []string
		switch holds, all := e.counts(); holds {
		case 0:
			continue
		case all:
		default:
			words = append(words, e.text(only, always))
		}
		if i > 0 {
			words = append(words, "from "+beginning(e.first))
		}
		if i+1 < len(all) {
			words = append(words, "until "+string(DeadlineOf(all[i+1].first)))
		}
		parts = append(parts, strings.Join(words, " "))
	}
	return strings.Join(parts, "; ")
}

// beginning writes from when on something is so.
func beginning(m Moment) string {
	if m.minute() == 0 {
		return string(m.Date())
	}
	return m.String()
}

func (e *era) counts() (holds, known int) {
	for m := range e.holds {
		if e.known[m] {
			known++
		}
		if e.holds[m] {
			holds++
		}
	}
	return holds, known
}

// text says in which minutes of the week it holds, or in which it does not where that is shorter.
func (e *era) text(only, always string) string {
	var not week
	for m := range not {
		not[m] = e.known[m] && !e.holds[m]
	}
	hours, others := e.holds.hours(), not.hours()
	if len(others) < len(hours) {
		return always + "except " + strings.Join(others, ", ")
	}
	return only + strings.Join(hours, ", ")
}

// hours lists the marked minutes as files write them: the days, and hours that may cross midnight.
func (w *week) hours() []string {
	type hours struct{ first, last int } // of a day; last is 0 to 1440 more than first
	var order []hours
	days := map[hours][]int{}
	add := func(day, first, last int) {
		h := hours{first, last}
		if _, known := days[h]; !known {
			order = append(order, h)
		}
		days[h] = append(days[h], day%7)
	}
	begins := func(m int) bool { return w[m] && !w[(m+minutesAWeek-1)%minutesAWeek] }
	for m := range w {
		if !begins(m) {
			continue
		}
		end := m + 1
		for w[end%minutesAWeek] {
			end++
		}
		day, first := m/minutesADay, m%minutesADay
		if length := end - m; length < minutesADay || length == minutesADay && first == 0 {
			add(day, first, first+end-m)
			continue
		}
		for at := m; at < end; { // whole days, and what is left of the first and the last
			next := min(end, (at/minutesADay+1)*minutesADay)
			add(at/minutesADay, at%minutesADay, at%minutesADay+next-at)
			at = next
		}
	}
	var list []string
	for _, h := range order {
		text := dayText(days[h])
		if h != (hours{0, minutesADay}) {
			last := h.last
			if last > minutesADay {
				last -= minutesADay
			}
			if text == "mon-sun" {
				text = "daily"
			}
			text += fmt.Sprintf(" %02d:%02d-%02d:%02d", h.first/60, h.first%60, last/60, last%60)
		}
		list = append(list, text)
	}
	return list
}

// dayText writes days, 0 for Monday, as "mon-fri,sun".
func dayText(days []int) string {
	slices.Sort(days)
	var parts []string
	for i := 0; i < len(days); {
		k := i
		for k+1 < len(days) && days[k+1] == days[k]+1 {
			k++
		}
		switch {
		case k > i+1:
			parts = append(parts, DayNames[days[i]]+"-"+DayNames[days[k]])
			i = k + 1
		default:
			parts = append(parts, DayNames[days[i]])
			i++
		}
	}
	return strings.Join(parts, ",")
}
