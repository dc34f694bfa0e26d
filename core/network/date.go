package network

import (
	"fmt"
	"strings"
	"time"
)

// A Date is a day as YYYY-MM-DD (ISO 8601), so that dates compare as texts do. The zero Date is none.
type Date string

// DateOf returns the day of a time, where that is.
func DateOf(t time.Time) Date { return Date(t.Format(time.DateOnly)) }

// After returns the day that is so many days later.
func (d Date) After(days int) Date {
	t, err := time.Parse(time.DateOnly, string(d))
	if err != nil {
		return ""
	}
	return DateOf(t.AddDate(0, 0, days))
}

// Begins returns the first moment of the day; 0 where it is none.
func (d Date) Begins() Moment {
	t, err := time.Parse(time.DateOnly, string(d))
	if err != nil {
		return 0
	}
	return MomentAt(t)
}

// A Deadline is until when something is meant to be, as files write it: a last day, as a Date, or a minute,
// as "2027-01-31 14:00", from which on it is over. The zero Deadline is none.
type Deadline string

// midnight is what programs put behind a day that write YAML: there it is a time.
const midnight = "T00:00:00Z"

// minutes are the ways to write a deadline with a minute, the one that is kept first.
var minutes = []string{"2006-01-02 15:04", "2006-01-02T15:04", "2006-01-02 15:04:00", "2006-01-02T15:04:00"}

// ParseDeadline reads a deadline.
func ParseDeadline(text string) (Deadline, error) {
	day := strings.TrimSuffix(text, midnight)
	if _, err := time.Parse(time.DateOnly, day); err == nil {
		return Deadline(day), nil
	}
	for _, layout := range minutes {
		if t, err := time.Parse(layout, text); err == nil {
			return Deadline(t.Format(minutes[0])), nil
		}
	}
	return "", fmt.Errorf("%s: not a day; write it as YEAR-MONTH-DAY, as 2027-01-31, or with a time, as \"2027-01-31 14:00\"", text)
}

// Over returns the first moment at which it is over; false where there is no deadline.
func (d Deadline) Over() (Moment, bool) {
	if d == "" {
		return 0, false
	}
	if t, err := time.Parse(minutes[0], string(d)); err == nil {
		return MomentAt(t), true
	}
	return Date(d).Begins() + minutesADay, true
}

// IsOver reports whether something that is until a deadline is over at a moment.
func (d Deadline) IsOver(at Moment) bool {
	over, ends := d.Over()
	return ends && over <= at
}

// Day returns the last day on which it is not over, of some minutes perhaps.
func (d Deadline) Day() Date {
	over, ends := d.Over()
	if !ends {
		return ""
	}
	return (over - 1).Date()
}

// DeadlineOf writes that something is over from a moment on.
func DeadlineOf(over Moment) Deadline {
	if over.minute() == 0 {
		return Deadline((over - 1).Date())
	}
	return Deadline(over.String())
}

// On makes the network that of a moment: rules that are over before that day begins take no part at any moment
// that is asked about. It comes before the network is compiled.
func (n *Network) On(now Moment) {
	n.Now, n.Today = now, now.Date()
	for _, g := range n.Gateways {
		for r := range g.Rules() {
			r.setNow(now)
		}
	}
}

// NextExpiry returns the first moment after some other at which a rule is over; false where there is none.
func (n *Network) NextExpiry(after Moment) (next Moment, ok bool) {
	for _, g := range n.Gateways {
		for r := range g.Rules() {
			if over, ends := r.Until.Over(); ends && over > after && (!ok || over < next) {
				next, ok = over, true
			}
		}
	}
	return next, ok
}

// Location returns where the hours of the network's rules are.
func (n *Network) Location() *time.Location {
	if n.Timezone == nil {
		return time.UTC
	}
	return n.Timezone
}

// MomentAt returns the moment of a time, where the network is.
func (n *Network) MomentAt(t time.Time) Moment { return MomentAt(t.In(n.Location())) }
