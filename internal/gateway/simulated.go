package gateway

import (
	"fmt"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/portmap"
	"hollowbridge/internal/sessions"
)

// A Simulated gateway decides about packets that it is handed, as the engine says, and
// remembers sessions like a real one.
type Simulated struct {
	recorder Recorder
	start    time.Time
	now      func() time.Time
	running  atomic.Pointer[sessions.Running]
	expiring sync.WaitGroup
	stop     chan struct{}
}

// NewSimulated returns a simulated gateway with nothing in force.
func NewSimulated(recorder Recorder) *Simulated {
	s := &Simulated{recorder: recorder, start: time.Now(), now: time.Now, stop: make(chan struct{})}
	s.expiring.Go(s.expire)
	return s
}

// expire removes sessions that have timed out, once a second, until Close.
func (s *Simulated) expire() {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-s.stop:
			return
		case <-tick.C:
			if r := s.running.Load(); r != nil {
				r.Store.Expire()
			}
		}
	}
}

// Close is Backend's.
func (s *Simulated) Close() error {
	close(s.stop)
	s.expiring.Wait()
	return nil
}

// Name is Backend's.
func (s *Simulated) Name() string { return "simulated" }

// Check is Backend's: the engine can do all that the file can say.
func (s *Simulated) Check(*walk.Engine, *engine.Gateway) ([]string, error) { return nil, nil }

// Use is Backend's.
func (s *Simulated) Use(_ *walk.Engine, g *engine.Gateway) error {
	if r := s.running.Load(); r != nil {
		r.Store.Rename(g.Renamed(r.Gateway()))
		r.Swap(g)
		return nil
	}
	clock := func() time.Duration { return time.Since(s.start) }
	s.running.Store(sessions.Start(g, sessions.New(g.Gateway, clock)))
	return nil
}

// Clear is Backend's.
func (s *Simulated) Clear() error {
	s.running.Store(nil)
	return nil
}

// Open is Backend's.
func (s *Simulated) Open(open []*network.Mapping, shut []portmap.Shut) error {
	r := s.running.Load()
	if r == nil {
		return nil
	}
	for _, m := range shut {
		r.Store.Shut(m.Protocol, m.Outside)
	}
	for _, m := range open {
		r.Store.Open(m)
	}
	return nil
}

// Bound is Backend's.
func (s *Simulated) Bound(protocol header.Protocol, inside netip.AddrPort, outside netip.Addr) (port uint16, ok bool) {
	if r := s.running.Load(); r != nil {
		return r.Store.Bound(protocol, inside, outside)
	}
	return 0, false
}

// IsTaken is Backend's.
func (s *Simulated) IsTaken(protocol header.Protocol, outside netip.AddrPort) bool {
	r := s.running.Load()
	return r != nil && r.Store.IsTaken(protocol, outside)
}

// Count is Backend's.
func (s *Simulated) Count() int {
	if r := s.running.Load(); r != nil {
		return r.Store.Count()
	}
	return 0
}

// Sessions is Backend's.
func (s *Simulated) Sessions(f *Filter, each func(*Session) bool) error {
	r := s.running.Load()
	if r == nil {
		return nil
	}
	g := r.Gateway().Gateway
	r.Store.ListThose(f.matches, func(o sessions.Open) bool {
		made := sessionOf(g, &o)
		return !f.matchesRules(&made) || each(&made)
	})
	return nil
}

// Hidden is Backend's.
func (s *Simulated) Hidden(each func(Hidden)) error {
	r := s.running.Load()
	if r == nil {
		return nil
	}
	r.Store.ListThose(isHidden, func(o sessions.Open) bool {
		each(hiddenOf(o.Before, o.After))
		return true
	})
	return nil
}

// sessionOf returns a session for the wire.
func sessionOf(g *network.Gateway, o *sessions.Open) Session {
	made := Session{
		Gateway: g.Name, Number: o.Number, Before: PacketOf(o.Before), After: PacketOf(o.After),
		Redirect: nameOf(o.Redirect), Permit: nameOf(o.Permit), Source: nameOf(o.Source),
		State: o.State, Age: o.Age.Seconds(), Idle: o.Idle.Seconds(), Left: o.Left.Seconds(),
		Forth: countOf(o.Passed[engine.Forth]), Back: countOf(o.Passed[engine.Back]),
	}
	made.In, made.InZone = o.In.Name, o.In.Zone
	if o.Out != nil {
		made.Out, made.OutZone = o.Out.Name, o.Out.Zone
	}
	return made
}

func nameOf(r *network.Rule) string {
	switch {
	case r == nil:
		return ""
	case r.Kind == network.MappingKind:
		return r.List() + "/" + r.Name
	}
	return r.Name
}

// End is Backend's.
func (s *Simulated) End(numbers map[uint64]bool) (int, error) {
	r := s.running.Load()
	if r == nil {
		return 0, nil
	}
	return r.Store.RemoveNumbers(numbers), nil
}

// Hits is Backend's.
func (s *Simulated) Hits(bool) ([]Hit, error) {
	r := s.running.Load()
	if r == nil {
		return nil, nil
	}
	var list []Hit
	for _, h := range r.Store.Hits() {
		last := s.start.Add(h.Last)
		exhausted := int64(0)
		if h.Rule.List == "nat" { // whose rules end nothing else
			exhausted = h.Ended
		}
		list = append(list, Hit{
			Gateway: h.Rule.Gateway, List: h.Rule.List, Rule: h.Rule.Name, Connections: h.Connections, Open: h.Open, Stopped: h.Stopped, Exhausted: exhausted,
			Forth: countOf(h.Passed[engine.Forth]), Back: countOf(h.Passed[engine.Back]), Last: &last,
		})
	}
	return list, nil
}

// Begin is Backend's.
func (s *Simulated) Begin(e *walk.Engine, g *engine.Gateway) ([]string, error) {
	return nil, s.Use(e, g)
}

// Missed is Backend's.
func (s *Simulated) Missed() (connections, lines int64) { return 0, 0 }

// errNothingInForce is the error where no revision is.
var errNothingInForce = fmt.Errorf("nothing is in force yet; hollowbridge apply puts a network there")

// Decide takes a packet through the gateway.
func (s *Simulated) Decide(in string, p header.Packet, sender netip.Addr, part header.Part, size int) (d engine.Decision, err error) {
	r := s.running.Load()
	if r == nil {
		return d, errNothingInForce
	}
	g, now := r.Gateway(), s.now()
	if in == "" { // its own answer
		var log engine.Log
		d, ok := g.Answer(&engine.Arrival{Packet: p, Part: part, Sender: sender, Size: size, At: g.MomentAt(now)}, r.Store, &log)
		if !ok {
			return engine.Decision{Action: engine.Stops, Outcome: engine.Dropped, Step: engine.StepSession}, nil
		}
		return *d, nil
	}
	i := g.Interface(in)
	if i == nil {
		return d, fmt.Errorf("%s: %s has no such interface", in, g.Name)
	}
	return s.decide(r, &engine.Arrival{In: i, Packet: p, Sender: sender, Part: part, Size: size, At: g.MomentAt(now)}, now), nil
}

// decided is Decide for the wire.
func (s *Simulated) decided(a Arriving, p header.Packet, part header.Part) (Decided, error) {
	d, err := s.Decide(a.In, p, a.Sender, part, a.Size)
	if err != nil {
		return Decided{}, err
	}
	made := Decided{Action: actions[d.Action], Tells: tellings[d.Tells], Step: string(d.Step), Rule: nameOf(d.Rule), Packet: PacketOf(d.Packet), Sender: d.Sender, Via: d.Via}
	if d.Action == engine.Stops {
		made.Outcome, made.Packet = d.Outcome.String(), a.Packet
	} else {
		made.Step, made.Rule = "", ""
	}
	if d.Action == engine.Forwards {
		made.Out = d.Out.Name
	} else {
		made.Via = netip.Addr{}
	}
	return made, nil
}

// What a gateway does, and how it tells, as the API names them.
var (
	actions  = [...]string{engine.Forwards: "forwards", engine.Takes: "takes", engine.Stops: "stops"}
	tellings = [...]string{engine.NoMessage: "nothing", engine.ResetMessage: "reset", engine.ErrorMessage: "error"}
)

var logs = sync.Pool{New: func() any { return new(engine.Log) }}

// decide takes a packet through a running gateway, and records it where that is asked for.
func (s *Simulated) decide(r *sessions.Running, a *engine.Arrival, now time.Time) engine.Decision {
	log := logs.Get().(*engine.Log)
	d := r.Decide(a, log)
	logs.Put(log)
	if d.Follows {
		return d
	}
	if rule, ok := logged(a.In.Gateway, &d); ok {
		s.recorder.Record(eventOf(a, &d, rule, now))
	}
	return d
}

// eventOf returns what is recorded of a new connection.
func eventOf(a *engine.Arrival, d *engine.Decision, rule *network.Rule, now time.Time) Event {
	e := Event{Time: now, Gateway: a.In.Gateway.Name, What: connectionEvent, Outcome: Passes, In: a.In.Name, InDevice: a.In.Device}
	before := PacketOf(a.Packet)
	e.Before = &before
	switch {
	case d.Action == engine.Stops:
		e.Outcome = d.Outcome.String()
	default:
		after := PacketOf(d.Packet)
		e.After = &after
	}
	if d.Out != nil {
		e.Out, e.OutDevice = d.Out.Name, d.Out.Device
	}
	if rule != nil {
		e.Rule = rule.List() + "/" + rule.Name
	}
	e.Text = why(a.In.Gateway, d, rule)
	return e
}

// The kinds of events.
const (
	connectionEvent = "connection"
	revisionEvent   = "revision"
	trialEvent      = "trial"
	serviceEvent    = "service"
	mappingEvent    = "mapping"
)
