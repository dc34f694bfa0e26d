package gateway

import (
	"cmp"
	"errors"
	"net/netip"
	"slices"
	"time"

	"hollowbridge/core/header"
)

// A Sum is many events in a few lines.
type Sum struct {
	Events   int        `json:"events"` // connections; one that is stopped and tried again is one
	Again    int        `json:"again"`  // how often these were tried again
	From     *time.Time `json:"from"`
	To       *time.Time `json:"to"`
	Outcomes []Often    `json:"outcomes"`
	Rules    []Often    `json:"rules"`
	Sources  []Often    `json:"sources"`
	Closed   []Often    `json:"closed"` // services that were tried and stopped
	Scans    []Scan     `json:"scans"`
	Cut      bool       `json:"cut"` // there were more sources than are looked at
}

// Often is how often something came.
type Often struct {
	Name  string `json:"name"`
	Count int    `json:"count"`
}

// A Scan is a source that tried many services or machines within a minute, and was stopped.
type Scan struct {
	Source    string    `json:"source"`
	Time      time.Time `json:"time"` // of the first one
	Services  int       `json:"services"`
	Addresses int       `json:"addresses"`
}

// What makes a scan, and how much is kept in mind to find one.
const (
	scanWithin  = time.Minute
	scanTargets = 10
	mostSources = 100_000
	mostOften   = 10
	mostTargets = 4096 // of one source
)

// tried is what a source has tried within a minute.
type tried struct {
	since     time.Time
	services  map[header.Service]bool
	addresses map[netip.Addr]bool
	scan      int // in the list, or negative
}

// A sender is where a connection comes from, whatever it is translated to on its way through the gateway.
type sender struct {
	protocol string
	from     netip.Addr
	port     uint16
}

// decidedWithin is how long after a rule has translated a connection on the kernel it is written down at most what the filter did.
const decidedWithin = 2 * time.Second

// sum looks at all events that a filter lets through.
func (j *journal) sum(f *Filter) (*Sum, error) {
	s := &Sum{Outcomes: []Often{}, Rules: []Often{}, Sources: []Often{}, Closed: []Often{}, Scans: []Scan{}}
	outcomes, rules, sources, closed := map[string]int{}, map[string]int{}, map[netip.Addr]int{}, map[header.Service]int{}
	targets := map[netip.Addr]*tried{}
	attempts, decided := Attempts{}, map[sender]time.Time{}
	err := j.look(f, 0, func(e *stored) error {
		if e.What != connectionEvent || e.Before == nil {
			return nil
		}
		p, err := e.Before.Header()
		if err != nil {
			return nil
		}
		if _, again := attempts.Again(&e.Event, 0); again {
			s.Again++
			return nil
		}
		if from := (sender{e.Before.Protocol, p.Source, p.SourcePort}); e.Outcome != Translated {
			if len(decided) >= mostSources {
				clear(decided)
			}
			decided[from] = e.Time
		} else if at, known := decided[from]; known && at.Sub(e.Time) <= decidedWithin {
			delete(decided, from)
			rules[e.Rule]++
			return nil // what became of it is counted
		}
		s.Events++
		at := e.Time
		if s.From = &at; s.To == nil {
			s.To = &at
		}
		outcomes[e.Outcome]++
		if e.Rule != "" {
			rules[e.Rule]++
		}
		if sources[p.Source] == 0 && len(sources) == mostSources {
			s.Cut = true
			return nil
		}
		sources[p.Source]++
		if e.Outcome != Passes && e.Outcome != Translated {
			if service := p.Service(); closed[service] > 0 || len(closed) < mostSources {
				closed[service]++
			}
			s.try(targets, p, at)
		}
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) {
		return nil, err
	}
	s.Outcomes, s.Rules = top(outcomes, func(k string) string { return k }), top(rules, func(k string) string { return k })
	s.Sources, s.Closed = top(sources, netip.Addr.String), top(closed, header.Service.String)
	slices.SortStableFunc(s.Scans, func(a, b Scan) int { return cmp.Compare(b.Services*b.Addresses, a.Services*a.Addresses) })
	s.Scans = s.Scans[:min(len(s.Scans), mostOften)]
	return s, nil
}

// try notes what a source has tried: events come the latest first.
func (s *Sum) try(targets map[netip.Addr]*tried, p header.Packet, at time.Time) {
	t := targets[p.Source]
	if t == nil || t.since.Sub(at) > scanWithin {
		t = &tried{since: at, services: map[header.Service]bool{}, addresses: map[netip.Addr]bool{}, scan: -1}
		targets[p.Source] = t
	}
	if len(t.services)+len(t.addresses) < mostTargets {
		t.services[p.Service()], t.addresses[p.Destination] = true, true
	}
	if len(t.services) < scanTargets && len(t.addresses) < scanTargets {
		return
	}
	if t.scan < 0 {
		t.scan = len(s.Scans)
		s.Scans = append(s.Scans, Scan{Source: p.Source.String()})
	}
	scan := &s.Scans[t.scan]
	scan.Time, scan.Services, scan.Addresses = at, len(t.services), len(t.addresses)
}

// An attempt is a connection that a gateway stopped: its sender does not know that, and tries it again.
type attempt struct {
	gateway, in, out, rule, outcome, protocol string
	from, to                                  netip.Addr
	sport, dport                              uint16
}

// Attempts are those whose next try may come.
type Attempts map[attempt]*latest

// latest is when an attempt was last tried, and where who asked has it.
type latest struct {
	at    time.Time
	place int
}

// againWithin is how long TCP waits at most before it tries again what nobody answered: its waits double up to this (RFC 6298; 6 tries).
const againWithin = 66 * time.Second

// Again reports whether an event is another try of a stopped connection, and where whoever asks has the first; else the event is at the
// place that is given. Events come in the order of their times, from either end.
func (a Attempts) Again(e *Event, place int) (first int, again bool) {
	if e.Before == nil || e.Outcome == Passes || e.Outcome == Translated {
		return 0, false
	}
	p, err := e.Before.Header()
	if err != nil {
		return 0, false
	}
	this := attempt{e.Gateway, e.In, e.Out, e.Rule, e.Outcome, e.Before.Protocol, p.Source, p.Destination, p.SourcePort, p.DestinationPort}
	if l := a[this]; l != nil && l.at.Sub(e.Time).Abs() <= againWithin {
		l.at = e.Time
		return l.place, true
	}
	if len(a) >= mostSources {
		clear(a)
	}
	a[this] = &latest{e.Time, place}
	return 0, false
}

// top returns what came most often.
func top[K comparable](counts map[K]int, name func(K) string) []Often {
	list := []Often{}
	for k, n := range counts {
		list = append(list, Often{name(k), n})
	}
	slices.SortFunc(list, func(a, b Often) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.Name, b.Name))
	})
	return list[:min(len(list), mostOften)]
}
