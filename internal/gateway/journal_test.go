package gateway

import (
	"testing"
	"time"
)

// No jump of the wall clock makes what was kept old, and a clock that goes right is followed.
func TestAClockThatJumpsMakesNothingOld(t *testing.T) {
	begun, year := time.Now().Round(0), 365*24*time.Hour
	c := newSteadyClock(begun.Add(-time.Minute), begun)
	for _, step := range []struct {
		passed, jumped time.Duration
		want           time.Duration // from the beginning
	}{
		{time.Second, 0, -time.Minute + 2*time.Second},           // what is behind goes twice as fast
		{2 * time.Second, year, -time.Minute + 4*time.Second},    // a jump of a year
		{3 * time.Second, 0, -time.Minute + 6*time.Second},       // and back
		{2 * time.Minute, 0, 2 * time.Minute},                    // it has caught up
		{3 * time.Minute, -year, 3*time.Minute - year},           // never ahead of the wall clock
		{4 * time.Minute, 0, 4 * time.Minute},                    // which is right again
		{5 * time.Minute, 10 * year, 6 * time.Minute},            // a clock that stays wrong
		{time.Hour, 10 * year, 6*time.Minute + 2*55*time.Minute}, // makes old twice as fast, no more
	} {
		if got := c.at(begun.Add(step.passed+step.jumped), step.passed).Sub(begun); got != step.want {
			t.Errorf("after %v, with a clock that is %v wrong, it is %v, want %v", step.passed, step.jumped, got, step.want)
		}
	}
}

// Events outlive a jump of the clock, over a restart too.
func TestEventsOutliveAJumpOfTheClock(t *testing.T) {
	folder, now := t.TempDir(), time.Now()
	for round := range 3 {
		state, err := OpenState(folder, "rim")
		if err != nil {
			t.Fatal(err)
		}
		j, err := openJournal(state, Keeping{Most: 1 << 40, Age: time.Hour}, func([]Event) {}, func(err error) { t.Error(err) })
		if err != nil {
			t.Fatal(err)
		}
		at := now
		if round == 1 { // what is written down while the clock is a year ahead
			at = now.AddDate(1, 0, 0)
		}
		for range 100 {
			j.Record(Event{Time: at})
		}
		list, _, err := j.List("rim", &Filter{}, 1000, true)
		if err != nil || len(list) != 100*(round+1) {
			t.Errorf("in round %d there are %d events, %v", round, len(list), err)
		}
		j.Close()
		state.Close()
	}
}
