package network

import "testing"

// A schedule holds in the minutes that a walk over the week marks.
func TestSchedulesHoldWhenTheySay(t *testing.T) {
	for _, c := range []struct {
		days, hours  string
		holds, fails []Moment
	}{
		{"mon-fri", "08:00-18:00", []Moment{MomentOf(0, 480), MomentOf(4, 1079)}, []Moment{MomentOf(0, 479), MomentOf(4, 1080), MomentOf(5, 600)}},
		{"sat,sun", "22:00-06:00", []Moment{MomentOf(5, 1320), MomentOf(6, 359), MomentOf(0, 0), MomentOf(0, 359)}, []Moment{MomentOf(5, 0), MomentOf(0, 360), MomentOf(0, 1320)}},
		{"fri-mon", "00:00-24:00", []Moment{MomentOf(4, 0), MomentOf(0, 1439), MomentOf(6, 700)}, []Moment{MomentOf(1, 0), MomentOf(3, 1439)}},
	} {
		s := &Schedule{}
		var err error
		if s.Days, err = ParseDays(c.days); err != nil {
			t.Fatal(err)
		}
		if s.First, s.Last, err = ParseHours(c.hours); err != nil {
			t.Fatal(err)
		}
		for _, m := range c.holds {
			if !s.Holds(m) {
				t.Errorf("%s %s does not hold at minute %d", c.days, c.hours, m)
			}
		}
		for _, m := range c.fails {
			if s.Holds(m) {
				t.Errorf("%s %s holds at minute %d", c.days, c.hours, m)
			}
		}
	}
	for _, text := range []string{"", "8-18", "08:00", "24:00-06:00", "08:00-08:00", "08:60-09:00", "25:00-26:00", "a8:00-09:00"} {
		if _, _, err := ParseHours(text); err == nil {
			t.Errorf("%q is no hours", text)
		}
	}
	if _, err := ParseDays("mon-fry"); err == nil {
		t.Error("fry is no day")
	}
}
