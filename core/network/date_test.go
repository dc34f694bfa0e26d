package network_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"hollowbridge/core/network"
	"hollowbridge/internal/netfile/netfiletest"
)

// A deadline is a day, or a minute of one, and is over when the calendar says so.
func TestDeadlines(t *testing.T) {
	for text, want := range map[string]network.Deadline{
		"2027-01-31": "2027-01-31", "2028-02-29": "2028-02-29", "2027-02-29": "", "2027-13-01": "", "2027-1-31": "", "31.1.2027": "", "tomorrow": "", "": "",
		"2027-01-31T00:00:00Z": "2027-01-31", "2027-01-31T10:00:00Z": "", "2027-01-31 ": "",
		"2027-01-31 14:00": "2027-01-31 14:00", "2027-01-31T14:00": "2027-01-31 14:00", "2027-01-31 14:00:00": "2027-01-31 14:00", "2027-01-31 24:00": "", "2027-01-31 14": "",
	} {
		d, err := network.ParseDeadline(text)
		if d != want || (err == nil) != (want != "") || err != nil && !strings.Contains(err.Error(), "YEAR-MONTH-DAY") {
			t.Errorf("%q is read as %q, %v", text, d, err)
		}
	}
	random := rand.New(rand.NewPCG(1, 1))
	for range 2000 { // by the calendar of the standard library
		at := time.Date(2000+random.IntN(80), time.Month(1+random.IntN(12)), 1+random.IntN(31), random.IntN(24), random.IntN(60), 0, 0, time.UTC)
		m := network.MomentAt(at)
		if !m.Time(time.UTC).Equal(at) || m.Date() != network.DateOf(at) || m.Near(network.DateOf(at)) != strings.ToLower(at.Format("Mon 15:04")) || m.Near(network.DateOf(at.AddDate(0, 0, 1))) != at.Format("2006-01-02 15:04") {
			t.Fatalf("%s is read as %s, %s", at, m, m.Near(m.Date()))
		}
		day, next := network.DateOf(at), network.DateOf(at.AddDate(0, 0, 1))
		if day.After(1) != next || next.Begins()-day.Begins() != 24*60 || m-day.Begins() != network.Moment(at.Hour()*60+at.Minute()) {
			t.Fatalf("the day of %s begins at %s", at, day.Begins())
		}
		last, minute := network.Deadline(day), network.DeadlineOf(m)
		if last.IsOver(m) || last.IsOver(next.Begins()-1) || !last.IsOver(next.Begins()) || !minute.IsOver(m) || minute.IsOver(m-1) || last.Day() != day {
			t.Fatalf("%s and %s are over when they are not", last, minute)
		}
		if weekday := random.IntN(7); (int(day.NextOn(weekday, 5).Time(time.UTC).Weekday())+6)%7 != weekday || day.NextOn(weekday, 5) < day.Begins() || day.NextOn(weekday, 5) >= day.After(7).Begins() {
			t.Fatalf("the next day %d from %s on is %s", weekday, day, day.NextOn(weekday, 5))
		}
	}
	if network.Deadline("").IsOver(1 << 40) {
		t.Error("what has no last day is over")
	}
}

// The next rule to end is the first of those that are not over, whatever their lists.
func TestTheNextExpiryIsTheFirst(t *testing.T) {
	n := netfiletest.Parse(t, `
network: edge
gateways:
  rim:
    interfaces:
      fibre: {address: 198.51.100.18/29, zone: outside}
    nat: [{source-nat: a, on: fibre, as: interface, until: 2030-05-01}]
    filter:
      - {allow: b, until: 2030-04-30}
      - {allow: c, until: 2030-06-01, disabled: true}
      - {allow: d}
`)
	at := func(day network.Date) network.Moment { return day.Begins() + 600 }
	for _, c := range []struct{ today, next network.Date }{{"2030-04-30", "2030-05-01"}, {"2030-05-01", "2030-05-02"}, {"2030-05-02", "2030-06-02"}, {"2030-06-02", ""}} {
		if next, ok := n.NextExpiry(at(c.today)); ok != (c.next != "") || ok && next != c.next.Begins() {
			t.Errorf("on %s the next to end is that of %s, not %s", c.today, next, c.next)
		}
	}
	n.On(at("2030-05-01"))
	var off []string
	for r := range n.Gateways[0].Rules() {
		if r.Off() != (r.Disabled || r.Name == "b") || r.Active(at("2030-05-01")) == r.Off() || r.Active(at("2030-05-02")) && r.Name == "a" {
			off = append(off, r.Name)
		}
	}
	if len(off) > 0 {
		t.Errorf("these take part, or do not, as they should not: %v", off)
	}
}

const hours = `
network: edge
gateways:
  rim:
    interfaces:
      fibre: {address: 198.51.100.18/29, zone: outside}
    filter:
%s`

// The words for moments are read as those of a schedule, and say what they were made of; what holds in one era is said
// with its ends.
func TestWhenInWords(t *testing.T) {
	for rules, want := range map[string]string{
		"{allow: a, when: {days: mon-fri, hours: 08:00-18:00}}":                                                "mon-fri 08:00-18:00",
		"{allow: a, when: {days: 'mon,wed,thu', hours: 22:00-06:00}}":                                          "mon,wed,thu 22:00-06:00",
		"{allow: a, when: {hours: 22:00-06:00}}":                                                               "daily 22:00-06:00",
		"{allow: a, when: {days: 'sat,sun'}}":                                                                  "sat,sun",
		"{allow: a, when: {days: mon-sat}}":                                                                    "mon-sat",
		"{allow: a, until: 2027-01-31}":                                                                        "until 2027-01-31",
		"{allow: a, until: 2027-01-14 15:00}":                                                                  "until 2027-01-14 15:00",
		"{allow: a, until: 2027-01-31, when: {hours: 08:00-18:00}}":                                            "daily 08:00-18:00 until 2027-01-31",
		"{drop: a, until: 2027-01-31}, {allow: b}":                                                             "from 2027-02-01",
		"{drop: a, until: 2027-01-14 15:00}, {allow: b}":                                                       "from 2027-01-14 15:00",
		"{drop: a, when: {days: mon-fri, hours: 08:00-18:00}}, {allow: b}":                                     "except mon-fri 08:00-18:00",
		"{allow: a, when: {days: fri, hours: 20:00-08:00}}, {allow: b, when: {days: sat, hours: 07:00-09:00}}": "fri 20:00-09:00",
		"{allow: a, until: 2027-01-31}, {allow: b, when: {days: mon}}":                                         "until 2027-01-31; mon from 2027-02-01",
		"{allow: a, until: 2027-01-15}, {allow: b, until: 2027-01-20}":                                         "until 2027-01-20",
	} {
		n := netfiletest.Parse(t, fmt.Sprintf(hours, "      - "+strings.ReplaceAll(rules, "}, {", "}\n      - {")))
		times := network.EveryMoment(n)
		var list []network.Stretch
		for i := range times.Count() {
			verb := network.Drop
			for _, r := range n.Gateways[0].Filter {
				if r.Active(times.Moment(i)) {
					verb = r.Verb
					break
				}
			}
			if number, ok := times.Number(times.Moment(i)); number != i || !ok {
				t.Fatalf("moment %d is number %d", i, number)
			}
			if verb == network.Allow {
				list = append(list, network.Stretch{First: i, Last: i})
			}
		}
		if got := times.When(joined(list)).String(); got != want {
			t.Errorf("%s: %q, want %q", rules, got, want)
		}
	}
}

// joined puts stretches together that follow each other.
func joined(list []network.Stretch) (joined []network.Stretch) {
	for _, s := range list {
		if n := len(joined); n > 0 && joined[n-1].Last+1 == s.First {
			joined[n-1].Last = s.Last
		} else {
			joined = append(joined, s)
		}
	}
	return joined
}
