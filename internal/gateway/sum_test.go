package gateway

import (
	"net/netip"
	"testing"
	"time"
)

// A connection that is stopped is one, however often it is tried; another port, or much later, is another one. A connection that a rule
// translates and the filter decides about afterwards is one as well.
func TestAConnectionIsOneHoweverOftenItIsTried(t *testing.T) {
	at := time.Date(2026, 12, 1, 20, 0, 0, 0, time.UTC)
	event := func(seconds float64, outcome, rule string, port uint16, to string) Event {
		e := Event{Time: at.Add(time.Duration(seconds * float64(time.Second))), Gateway: "rim", What: connectionEvent, Outcome: outcome, Rule: rule, In: "fibre"}
		e.Before = &Packet{Protocol: "tcp", Source: netip.MustParseAddr("192.0.2.10"), SourcePort: port, Destination: netip.MustParseAddr(to), DestinationPort: 443}
		return e
	}
	events := []Event{
		event(0, "dropped", "filter/last", 40000, "198.51.100.18"), event(1, "dropped", "filter/last", 40000, "198.51.100.18"),
		event(1, "dropped", "filter/last", 40001, "198.51.100.18"), event(3, "dropped", "filter/last", 40000, "198.51.100.18"),
		event(66, "dropped", "filter/last", 40000, "198.51.100.18"), event(300, "dropped", "filter/last", 40000, "198.51.100.18"),
		event(301, Translated, "nat/web", 40002, "198.51.100.18"), event(301.1, Passes, "filter/web", 40002, "10.61.24.5"),
		event(302, Passes, "filter/web", 40002, "10.61.24.5"), event(303, Translated, "nat/web", 40003, "198.51.100.18"),
	}
	attempts, firsts := Attempts{}, 0
	for i := range events {
		if first, again := attempts.Again(&events[i], i); again && first != 0 {
			t.Errorf("event %d is said to be event %d again", i, first)
		} else if !again {
			firsts++
		}
	}
	if firsts != 7 {
		t.Errorf("%d of the events are first tries, not 7", firsts)
	}
	state, err := OpenState(t.TempDir(), "rim")
	if err != nil {
		t.Fatal(err)
	}
	defer state.Close()
	j, err := openJournal(state, Keeping{Most: 1 << 40, Age: 1 << 60}, func([]Event) {}, func(err error) { t.Error(err) })
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	for _, e := range events {
		j.Record(e)
	}
	j.write()
	sum, err := j.sum(&Filter{})
	if err != nil || sum.Events != 6 || sum.Again != 3 {
		t.Fatalf("%+v, %v", sum, err)
	}
	rules := map[string]int{}
	for _, o := range sum.Rules {
		rules[o.Name] = o.Count
	}
	if rules["nat/web"] != 2 || rules["filter/web"] != 2 || rules["filter/last"] != 3 {
		t.Errorf("rules %v", rules)
	}
}

func TestSeverities(t *testing.T) {
	for want, list := range map[int][]Event{
		info:    {{What: connectionEvent, Outcome: Passes}, {What: connectionEvent, Outcome: Translated}, {What: mappingEvent, Outcome: "granted"}},
		notice:  {{What: connectionEvent, Outcome: "dropped"}, {What: mappingEvent, Outcome: "refused"}, {What: revisionEvent}, {What: serviceEvent}},
		warning: {{What: connectionEvent, Outcome: "exhausted"}, {What: connectionEvent, Outcome: "unrouted"}, {What: tableEvent}},
	} {
		for _, e := range list {
			if got := severityOf(&e); got != want {
				t.Errorf("%s %s: %d, not %d", e.What, e.Outcome, got, want)
			}
		}
	}
}

// connectionsIn returns which of some events a sum counts, the slow way.
func connectionsIn(events []Event) (counted []Event) {
	merged := make([]bool, len(events))
	same := func(a, b *Event) bool {
		return a.Gateway == b.Gateway && a.In == b.In && a.Out == b.Out && a.Rule == b.Rule && a.Outcome == b.Outcome && *a.Before == *b.Before
	}
	for i := len(events) - 1; i >= 0; i-- {
		e := &events[i]
		if e.Before == nil {
			continue
		}
		for k := i + 1; k < len(events); k++ {
			next := &events[k]
			if next.Before == nil {
				continue
			}
			if e.Outcome != Passes && e.Outcome != Translated {
				if same(e, next) {
					merged[i] = next.Time.Sub(e.Time).Abs() <= againWithin
					break
				}
				continue
			}
			if e.Outcome == Passes {
				break
			}
			from := e.Before.Protocol == next.Before.Protocol && e.Before.Source == next.Before.Source && e.Before.SourcePort == next.Before.SourcePort
			if from && next.Outcome == Translated && merged[k] {
				break
			}
			if from && next.Outcome != Translated && !merged[k] {
				merged[i] = next.Time.Sub(e.Time) <= decidedWithin
				break
			}
		}
		if !merged[i] {
			counted = append(counted, *e)
		}
	}
	return counted
}
