package cli

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"hollowbridge/core/network"
	"hollowbridge/core/reach"
)

// A momentText is the time that -at names, as it was written and understood; the zero one is none.
type momentText struct {
	text    string
	exact   network.Moment // with a day of the calendar, or
	weekday int            // 0 for Monday, 7 for today, and
	minute  int            // of the day
	dated   bool
}

const dayAndTime = "2006-01-02 15:04"

// readMoment reads "mon 14:00", "14:00" (today), or a date and time.
func readMoment(text string) (m momentText, err error) {
	m.text = text
	if text == "" {
		return m, nil
	}
	if t, err := time.Parse(dayAndTime, text); err == nil {
		m.exact, m.dated = network.MomentAt(t), true
		return m, nil
	}
	day, clock, found := strings.Cut(text, " ")
	if m.weekday = 7; !found {
		clock = text
	}
	t, err := time.Parse("15:04", clock)
	m.minute = t.Hour()*60 + t.Minute()
	known := !found
	for i, name := range network.DayNames {
		if found && name == strings.ToLower(day) {
			m.weekday, known = i, true
		}
	}
	if err != nil || !known {
		return m, fmt.Errorf("%s: not a time; write 14:00, \"mon 14:00\" or \"2026-11-23 14:00\"", text)
	}
	return m, nil
}

// isNone reports whether no time is named.
func (m momentText) isNone() bool { return m.text == "" }

// in returns the moment where a network is, now where none is named: a day of the week is the next one, or today.
func (m momentText) in(n *network.Network) network.Moment {
	switch {
	case m.isNone():
		return n.Now
	case m.dated:
		return m.exact
	case m.weekday == 7:
		return n.Today.Begins() + network.Moment(m.minute)
	}
	return n.Today.NextOn(m.weekday, m.minute)
}

// onDay makes a network that of the moment that -at names, where it names a day of the calendar.
func (c *call) onDay(n *network.Network) {
	if m := c.moment(); m.dated {
		n.On(m.exact)
	}
}

// times returns the moments that are asked about, in a network: all of them where -at names none.
func (c *call) times(n *network.Network) network.Times {
	if m := c.moment(); !m.isNone() {
		return network.At(m.in(n))
	}
	return network.Times{}
}

// moment returns the time that -at names, which is right: else nothing is run.
func (c *call) moment() momentText {
	m, _ := readMoment(c.at)
	return m
}

// atText says of which moment an answer is, where it is of one.
func (c *call) atText() string {
	if c.at == "" {
		return ""
	}
	return " at " + c.at
}

// whenOnly says at which moments something is so, where not at all that are asked about.
func whenOnly(w network.When) string {
	if w.IsAlways() {
		return ""
	}
	return ", " + w.Sentence()
}

// entangled says why it can't be said what a change does.
func entangled(err error, instead string) string {
	var zones reach.TwoTimezones
	if errors.As(err, &zones) {
		return zones.Error()
	}
	return "the rules are too much entangled to compare" + instead
}
