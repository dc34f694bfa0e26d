package prove

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/reach"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
	"hollowbridge/internal/kernel"
	"hollowbridge/internal/lab"
	"hollowbridge/internal/sessions"
)

// A kernel may do otherwise than a trace in few ways, docs/kernel.md lists them. None of them excuses whatever is seen: each says
// what must be seen instead, and that is compared as strictly.

// retraced returns the trace of a case in which gateways hide sources behind the addresses and ports that the kernel took, where
// the rules let it; nil where it took those of the case's trace.
func (p *Prover) retraced(c *Case) *words.Trace {
	took := false
	way := p.Engine.NewWalkOver(func(g *network.Gateway) engine.State {
		return &taker{sessions.New(g, func() time.Duration { return 0 }), g, c.Seen, &took}
	})
	if t := words.TraceOf(way, c.Trace.Connection); took {
		return t
	}
	return nil
}

// A taker is the state of a gateway that hides a source as the kernel did.
type taker struct {
	*sessions.Store
	at   *network.Gateway
	seen []lab.Sighting
	took *bool // another address or port than it would have
}

// Take is engine.State's: what was seen to leave, where it is one of the pool, and has a port that the rule allows.
func (s *taker) Take(l *engine.Lease, grant *engine.Grant) bool {
	if !s.Store.Take(l, grant) {
		return false
	}
	for _, e := range s.seen {
		q := e.Packet
		same := q.Protocol == l.Packet.Protocol && q.Destination == l.Packet.Destination && q.DestinationPort == l.Packet.DestinationPort
		if e.Node != s.at.Name || !e.Leaves || e.Kind == lab.Unreachable || !same || !l.Pool.Contains(q.Source) || !allows(l, q.SourcePort) {
			continue
		}
		if q.Source != grant.Address || q.SourcePort != grant.Port {
			*grant, *s.took = engine.Grant{Address: q.Source, Port: q.SourcePort, Alone: true}, true
		}
		return true
	}
	return true
}

// allows reports whether the kernel may give a source a port: its own, where that is among those of the rule, else any of them.
func allows(l *engine.Lease, port uint16) bool {
	switch {
	case !l.Packet.Protocol.Numbered() || l.KeepPort:
		return port == l.Packet.SourcePort
	case l.Ports == (header.Ports{}):
		return port >= 1024
	}
	return l.Ports.Contains(port)
}

// An excuse is one way in which the kernel does otherwise.
type excuse struct {
	reason    string
	holds     bool         // it is about this case
	meets     []lab.Answer // what the client meets then
	delivered bool         // where it is delivered is as traced all the same
}

// known says why the kernel does otherwise, where that is known and what is seen is what must be seen then.
func (p *Prover) known(c *Case, delivery string) string {
	for _, x := range slices.Concat(p.excusesOnTheWay(c), p.excusesAtTheEnd(c)) {
		if x.holds && slices.Contains(x.meets, c.Result.Answer) && (delivery == "" || !x.delivered) {
			return x.reason
		}
	}
	return ""
}

// silence is what a client meets that nobody answers.
var silence = []lab.Answer{lab.Silence}

// sees reports whether a packet was seen that is so.
func (c *Case) sees(is func(*lab.Sighting) bool) bool {
	return slices.ContainsFunc(c.Seen, func(s lab.Sighting) bool { return is(&s) })
}

// excusesOnTheWay are those of gateways, and of the internet, for a packet that they have.
func (p *Prover) excusesOnTheWay(c *Case) []excuse {
	t := c.Trace
	hidden := t.Ended.Source != t.Connection.Packet.Source
	return []excuse{
		{"a next hop that is a host takes the packet, and says nothing",
			t.Outcome == engine.Unrouted && c.sees(func(s *lab.Sighting) bool {
				h := p.Engine.Network().Host(s.Node)
				return h != nil && !s.Leaves && !h.Has(s.Packet.Destination) && p.isHop(h)
			}), silence, false},
		{"the kernel tells it only a source to which it has a route, as that is after translation",
			t.Told && t.Outcome == engine.Absent && len(t.Passed) > 0 && p.Engine.Gateway(t.Passed[len(t.Passed)-1]).OutTo(t.Ended.Source) == nil, silence, true},
		{"no route is told to a client once a second, and was before", tells(t) && p.told[tellerOf(t)], silence, true},
		{"a gateway that it crosses twice in a row translates the answer once", hidden && crossedAtOnce(t), silence, true},
		{"several gateways answer for its translated source", p.claimedBy(t.Ended.Source) > 1, []lab.Answer{lab.Silence, lab.Answered, lab.Taken}, true},
		{"a provider's router tells it, if anybody",
			t.Told && (t.Outcome == engine.Absent || t.Outcome == engine.Unrouted) && c.sees(func(s *lab.Sighting) bool { return s.Node == lab.Internet && !s.Leaves }),
			[]lab.Answer{lab.Silence, lab.WasRefused}, true},
		{"the last gateway tells nobody, but a provider's router behind it did",
			!t.Told && t.Outcome == engine.Absent && c.sees(func(s *lab.Sighting) bool {
				return s.Node == lab.Internet && s.Leaves && s.Kind == lab.Unreachable && s.Packet.Source == c.Result.By
			}), []lab.Answer{lab.WasRefused}, true},
		{"what goes round ends with an error that says so", t.Outcome == engine.Loop, []lab.Answer{lab.WasRefused}, true},
	}
}

// excusesAtTheEnd are those of the machine that a packet gets to.
func (p *Prover) excusesAtTheEnd(c *Case) []excuse {
	t := c.Trace
	return []excuse{
		{"the kernel does not have the address of an interface that is down",
			t.To.Gateway != nil && slices.ContainsFunc(t.To.Gateway.Interfaces, func(i *network.Interface) bool { return !i.IsUp() && i.Own().Contains(t.Delivered.Destination) }), silence, true},
		{"the kernel answers itself only where it has a route",
			t.To.Gateway != nil && p.Engine.Gateway(p.Engine.Network().Gateways[t.To.Gateway.Index]).OutTo(t.Delivered.Source) == nil, silence, true},
		{"a relay that reaches nobody says nothing",
			t.At.Machine.Host != nil && t.Outcome == engine.Refused && c.sees(func(s *lab.Sighting) bool {
				return s.Node == t.At.Machine.Host.Name && relayed(t.At.Machine.Host, s.Packet)
			}), []lab.Answer{lab.Silence, lab.Taken}, true},
	}
}

// A toldBy is a client and the gateway that tells it that there is no route.
type toldBy struct {
	gateway *network.Gateway
	client  netip.Addr
}

func tells(t *words.Trace) bool {
	return t.Told && t.Outcome == engine.Unrouted && t.At.Gateway != nil
}

func tellerOf(t *words.Trace) toldBy { return toldBy{t.At.Gateway, t.Ended.Source} }

// isHop reports whether a host is the next hop of a route.
func (p *Prover) isHop(h *network.Host) bool {
	return slices.ContainsFunc(p.Engine.Network().Gateways, func(g *network.Gateway) bool {
		return slices.ContainsFunc(g.Routes, func(r network.Route) bool { return r.Via.IsValid() && h.Has(r.Via) })
	})
}

// crossedAtOnce reports whether a trace goes through one gateway twice with nothing but the
// internet or a segment between.
func crossedAtOnce(t *words.Trace) bool {
	for i := 1; i < len(t.Passed); i++ {
		if t.Passed[i] == t.Passed[i-1] {
			return true
		}
	}
	return false
}

// claimedBy returns how many gateways answer for an address.
func (p *Prover) claimedBy(a netip.Addr) (count int) {
	for _, g := range p.Engine.Network().Gateways {
		if p.Engine.Gateway(g).ClaimedEver().Contains(a) {
			count++
		}
	}
	return count
}

// relayed reports whether a relay of a host takes a packet.
func relayed(h *network.Host, p header.Packet) bool {
	return h != nil && slices.ContainsFunc(h.Relays, func(r network.Relay) bool { return r.Listen.Matches(p.Protocol, p.DestinationPort) })
}

// knownWithout says that a rule is left out, where what is seen is what the network does without those that are: or, in
// ways that are known, a kernel.
func (p *Prover) knownWithout(c *Case) string {
	t := p.without(c.Trace.Connection)
	if t == nil {
		return ""
	}
	as := *c
	as.Trace = t
	if answer, delivery := p.differs(&as, t); answer+delivery != "" && p.known(&as, delivery) == "" {
		return ""
	}
	if r := p.leftOut(c.Trace); r != nil {
		return fmt.Sprintf("%s is left out: the kernel can't do it", r.Name)
	}
	return "a rule is left out: the kernel can't do it"
}

// leftOut returns the rule that the kernel can't follow and that has a part in a trace, or nil.
func (p *Prover) leftOut(t *words.Trace) *network.Rule {
	for _, u := range p.Lab.Unable {
		if r := u.Rule; r != nil && (t.Rule != nil && t.Rule.ID() == r.ID() || slices.ContainsFunc(t.Steps, func(s words.Step) bool { return s.Rule == r.Name && s.At == r.Gateway.Name })) {
			return r
		}
	}
	return nil
}

// Without returns an engine of a network, which nobody else has, without the rules that a lab of it left out; nil where it left none out.
func Without(n *network.Network, unable []*kernel.Unable) *walk.Engine {
	found := false
	for _, u := range unable {
		if u.Rule == nil || n.Gateway(u.Rule.Gateway.Name) == nil {
			continue
		}
		for r := range n.Gateway(u.Rule.Gateway.Name).Rules() {
			if r.ID() == u.Rule.ID() {
				r.Disabled, found = true, true
			}
		}
	}
	if !found {
		return nil
	}
	return walk.Compile(n, nil)
}

// MakeRoom takes limits out of a network, which nobody else has, that connections would meet because many are sent at once, and says so.
func MakeRoom(n *network.Network) (notes []string) {
	for _, g := range n.Gateways {
		if most := g.Limits.Sessions; most > 0 && most < mostTogether*mostSessions {
			notes = append(notes, fmt.Sprintf("%s: limits: {sessions: %d} is none of the lab's: many connections are sent at once", g.Name, most))
			g.Limits.Sessions = 0
		}
	}
	return notes
}

// mostSessions is how many sessions one connection leaves at a gateway, by far.
const mostSessions = 4

// without returns the trace of a connection without the rules that were left out, or nil where it can't begin there.
func (p *Prover) without(c walk.Connection) *words.Trace {
	same := network.FindRenamed(p.Engine.Network(), p.Able.Network())
	at, ok := reach.PlaceIn(p.Able, &same, &c.From, c.Packet.Source)
	if !ok {
		return nil
	}
	c.From = at
	return words.TraceOf(p.Able.NewWalk(), c)
}

// tookText says what the kernel took for a translated source.
func tookText(traced, took *words.Trace) string {
	return fmt.Sprintf("the kernel chose %s where the trace says %s", took.Ended.From(), traced.Ended.From())
}
