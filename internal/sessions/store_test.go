package sessions_test

import (
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile/netfiletest"
	"hollowbridge/internal/sessions"
)

var networks = flag.Uint64("networks", 50, "how many random networks to send connections through; .ci/run takes 100")

// A plain store is the slow, obvious one: a list that is searched from its end, and looked
// through for what has timed out.
type plain struct {
	g    *network.Gateway
	now  func() time.Duration
	list []*plainSession
}

type plainSession struct {
	engine.Session
	used    time.Duration
	third   bool // a TCP packet has come after the first two
	closing bool
}

func (p *plain) expire() {
	p.list = slices.DeleteFunc(p.list, func(s *plainSession) bool {
		idle := 5 * time.Minute
		switch {
		case s.Before.Protocol == header.ICMP:
			idle = time.Minute
		case s.Before.Protocol == header.TCP && s.third && !s.closing:
			idle = 2*time.Hour + 4*time.Minute
		case s.Before.Protocol == header.TCP:
			idle = 4 * time.Minute
		}
		return p.now()-s.used >= idle
	})
}

func (p *plain) Find(packet *header.Packet, part header.Part, _ int, found *engine.Session) (engine.Direction, bool) {
	p.expire()
	begins := part == header.Begins && (packet.Protocol == header.TCP || packet.Protocol == header.ICMP)
	for _, s := range slices.Backward(p.list) {
		d := engine.Back
		if begins || s.After.Answer() != *packet {
			if d = engine.Forth; s.Before != *packet {
				continue
			}
		}
		s.used = p.now()
		switch part {
		case header.Finishes, header.Resets:
			s.closing = true
		case header.Continues:
			s.third = true
		case header.Begins:
			if s.closing {
				s.closing, s.third = false, false
			}
		}
		if d == engine.Back {
			s.Answered = true
		}
		*found = s.Session
		return d, true
	}
	return engine.Forth, false
}

func (p *plain) Keep(s *engine.Session) bool {
	p.expire()
	if most := p.g.Limits.Sessions; most > 0 && len(p.list) >= most {
		return false
	}
	p.list = append(p.list, &plainSession{Session: *s, used: p.now()})
	return true
}

func (p *plain) Mapped(in *network.Interface, q *header.Packet) *engine.Mapping {
	for _, m := range p.g.Opened {
		if slices.Contains(m.On, in) && m.Protocol == q.Protocol && m.Outside == netip.AddrPortFrom(q.Destination, q.DestinationPort) && m.Admits(q.Source, q.SourcePort) {
			return engine.NewMapping(m)
		}
	}
	return nil
}

func (p *plain) taken(final header.Packet, port uint16, mapping network.MappingBehavior) bool {
	if mapping == network.EndpointIndependent && slices.ContainsFunc(p.g.Opened, func(m *network.Mapping) bool {
		return m.Protocol == final.Protocol && m.Inside != m.Outside && m.Outside == netip.AddrPortFrom(final.Source, port)
	}) {
		return true
	}
	return slices.ContainsFunc(p.list, func(s *plainSession) bool {
		return s.Binds(&final, mapping) && (!final.Protocol.Numbered() || s.After.SourcePort == port)
	})
}

func (p *plain) Take(l *engine.Lease, grant *engine.Grant) bool {
	p.expire()
	for _, r := range l.Pool.Ranges() {
		for a := r.First; r.Contains(a); a = a.Next() {
			final := l.Packet
			final.Source = a
			if !final.Protocol.Numbered() {
				if !p.taken(final, 0, l.Mapping) {
					*grant = engine.Grant{Address: a}
					return true
				}
				continue
			}
			mapped := 0
			for _, m := range p.g.Opened {
				if port := int(m.Outside.Port()); l.Mapping == network.EndpointIndependent && m.Protocol == final.Protocol && m.Inside != m.Outside && m.Outside.Addr() == a &&
					m.Inside == netip.AddrPortFrom(l.Packet.Source, l.Packet.SourcePort) && (l.Ports == (header.Ports{}) || l.Ports.Contains(m.Outside.Port())) && (mapped == 0 || port < mapped) {
					mapped = port
				}
			}
			if mapped != 0 {
				*grant = engine.Grant{Address: a, Port: uint16(mapped)}
				return true
			}
			for _, s := range p.list {
				if s.Binds(&final, l.Mapping) && s.Before.Source == l.Packet.Source && s.Before.SourcePort == l.Packet.SourcePort &&
					(l.Ports == (header.Ports{}) || l.Ports.Contains(s.After.SourcePort)) && (mapped == 0 || int(s.After.SourcePort) < mapped) {
					mapped = int(s.After.SourcePort)
				}
			}
			if mapped != 0 {
				*grant = engine.Grant{Address: a, Port: uint16(mapped)}
				return true
			}
			own := l.Packet.SourcePort
			if l.KeepPort && !p.taken(final, own, l.Mapping) {
				*grant = engine.Grant{Address: a, Port: own}
				return true
			}
			if !l.KeepPort && p.g.Handling.PortAssignment != network.PortPreserving {
				own = 0
			}
			if port, ok := engine.NextPort(l.Ports, own, func(port uint16) bool { return !p.taken(final, port, l.Mapping) }); ok {
				*grant = engine.Grant{Address: a, Port: port}
				return true
			}
		}
	}
	return false
}

func (p *plain) Distinct(final header.Packet, ports header.Ports, mapping network.MappingBehavior) (uint16, bool) {
	p.expire()
	clashes := func(port uint16) bool {
		final.SourcePort = port
		return slices.ContainsFunc(p.list, func(s *plainSession) bool { return !s.Local && s.After == final })
	}
	own := final.SourcePort
	if !clashes(own) {
		return own, true
	}
	if !final.Protocol.Numbered() {
		return 0, false
	}
	return engine.NextPort(ports, own, func(port uint16) bool { return !clashes(port) && !p.taken(final, port, mapping) })
}

// A clock is moved by the tests.
type clock struct{ at time.Duration }

func (c *clock) now() time.Duration { return c.at }

// withMappings returns a store with the mappings that a gateway has, of which some were others before.
func withMappings(g *network.Gateway, c *clock) *sessions.Store {
	s := sessions.New(g, c.now)
	for _, m := range g.Opened {
		s.Open(network.NewMapping(m.On[0], m.Protocol, m.Outside, netip.MustParseAddrPort("10.1.0.99:7"), nil, network.PCP, m.Owner))
		s.Open(network.NewMapping(m.On[0], header.UDP, netip.AddrPortFrom(m.Outside.Addr(), 40009), m.Inside, nil, network.PCP, m.Owner))
		s.Shut(header.UDP, netip.AddrPortFrom(m.Outside.Addr(), 40009))
		s.Open(m)
	}
	return s
}

// Connections through gateways with stores fare as with the plain list, while time goes on:
// the same outcomes, addresses and ports.
func TestStoreAgreesWithAPlainList(t *testing.T) {
	for seed := range netfiletest.Asked(*networks, 10) {
		n := netfiletest.Parse(t, gen.Small(seed))
		e := walk.Compile(n, nil)
		c := &clock{}
		random := rand.New(rand.NewPCG(seed, 5))
		netfiletest.OpenSome(random, n)
		var stores []*sessions.Store
		fast := e.NewWalkOver(func(g *network.Gateway) engine.State {
			stores = append(stores, withMappings(g, c))
			return stores[len(stores)-1]
		})
		slow := e.NewWalkOver(func(g *network.Gateway) engine.State { return &plain{g: g, now: c.now} })
		var earlier []walk.Connection
		for i := range 200 {
			conn, ok := netfiletest.Connection(random, e)
			if len(earlier) > 0 && random.IntN(3) == 0 {
				conn, ok = earlier[random.IntN(len(earlier))], true
			}
			if !ok {
				continue
			}
			// A port that was taken for a connection that came to nothing is free again a second later.
			c.at += time.Duration(1+random.IntN(1<<random.IntN(9))) * time.Second
			for _, s := range stores {
				s.Expire()
			}
			got, want := fast.Verdict(conn), slow.Verdict(conn)
			if got != want {
				t.Fatalf("seed %d, connection %d, %s -> %s %s at %v:\n store %+v\n plain %+v", seed, i, conn.Packet.From(), conn.Packet.To(), conn.Packet.Protocol, c.at, got, want)
			}
			earlier = append(earlier, conn)
			if got.Answered.Source.IsValid() {
				if at, err := e.Locate(got.Answered.Source); err == nil {
					earlier = append(earlier, walk.Connection{Packet: got.Answered, From: at, Moment: conn.Moment})
				}
			}
		}
	}
}

// A trace over sessions that are kept and one over a store say the same, as long as no time
// passes and connections that were stopped are forgotten.
func TestStoreAgreesWithTheSessionsOfATrace(t *testing.T) {
	for seed := range netfiletest.Asked(*networks, 10) {
		n := netfiletest.Parse(t, gen.Small(seed))
		netfiletest.OpenSome(rand.New(rand.NewPCG(seed, 10)), n)
		e := walk.Compile(n, nil)
		c := &clock{}
		var stores []*sessions.Store
		way := e.NewWalkOver(func(g *network.Gateway) engine.State {
			stores = append(stores, withMappings(g, c))
			return stores[len(stores)-1]
		})
		kept := e.NewWalk()
		random := rand.New(rand.NewPCG(seed, 9))
		var earlier []walk.Connection
		for i := range 60 {
			conn, ok := netfiletest.Connection(random, e)
			if len(earlier) > 0 && random.IntN(3) == 0 {
				conn, ok = earlier[random.IntN(len(earlier))], true
			}
			if !ok {
				continue
			}
			earlier = append(earlier, conn)
			before := map[header.Packet]bool{}
			for _, s := range stores {
				s.List(func(o sessions.Open) bool { before[o.Before] = true; return true })
			}
			got, want := way.Verdict(conn), kept.Remember(conn)
			if want.To.Machine != (network.Place{}) && want.Answered == (header.Packet{}) && want.Outcome == engine.Reached {
				break // an answer to an earlier connection, which only machines know
			}
			if want.Outcome == engine.Loop || got.Outcome == engine.Exhausted && want.Outcome != engine.Exhausted {
				break // it comes to a gateway twice: a trace's own sessions hold no ports, a running gateway's do
			}
			if got != want {
				t.Fatalf("seed %d, connection %d, %s -> %s %s:\n store %+v\n trace %+v", seed, i, conn.Packet.From(), conn.Packet.To(), conn.Packet.Protocol, got, want)
			}
			c.at += 1100 * time.Millisecond // for ports that were taken in vain
			if got.Outcome != engine.Reached && got.Outcome != engine.Unanswered {
				for _, s := range stores {
					s.Remove(func(o engine.Session) bool { return !before[o.Before] })
				}
			}
		}
	}
}

// So do connections that want the few ports of some addresses, which are full most of the time: for all
// destinations, or for each by itself, in both families.
func TestFewPortsAgreeWithAPlainList(t *testing.T) {
	exhausted, forwarded := 0, 0
	for seed := range netfiletest.Few(uint64(60), 8) {
		random := rand.New(rand.NewPCG(seed, 73))
		text := strings.Replace(busy, "198.51.100.2-198.51.100.5", "198.51.100.2-198.51.100.5, ports: 2000-2002", 1)
		inside, outside := [16]byte{10: 255, 11: 255, 10, 1}, [16]byte{10: 255, 11: 255, 203, 0, 113}
		if seed%2 == 1 {
			text = strings.NewReplacer("198.51.100.2/29", "2001:db8:a::2/64", "10.0.0.1/8", "fd00::1/64", "198.51.100.", "2001:db8:a::").Replace(text)
			inside, outside = [16]byte{0: 0xfd}, [16]byte{0x20, 1, 13, 0xb8}
		}
		mapping := []string{"endpoint-independent", "address-dependent", "address-and-port-dependent"}[seed%3]
		n := netfiletest.Parse(t, strings.Replace(text, "routes:", fmt.Sprintf("handling: {mapping: %s, port-assignment: %s}\n    routes:", mapping, []string{"preserving", "sequential"}[random.IntN(2)]), 1))
		g, c := walk.Compile(n, nil).Gateway(n.Gateways[0]), &clock{}
		store, slow := sessions.New(n.Gateways[0], c.now), &plain{g: n.Gateways[0], now: c.now}
		var log engine.Log
		for i := range 400 {
			c.at += time.Duration(1+random.IntN(1<<random.IntN(7))) * time.Second
			store.Expire()
			a := engine.Arrival{In: g.Interfaces[1], Part: header.Begins, Packet: header.Packet{
				Source: among(inside, random.IntN(40)+2), SourcePort: uint16(1999 + random.IntN(5)),
				Destination: among(outside, random.IntN(3)), DestinationPort: uint16(80 + random.IntN(2)),
				Protocol: []header.Protocol{header.TCP, header.UDP}[random.IntN(2)],
			}}
			got := *g.Decide(&a, store, &log)
			want := *g.Decide(&a, slow, &log)
			if got.Action != want.Action || got.Action == engine.Forwards && got.Packet != want.Packet {
				t.Fatalf("seed %d, %s, connection %d, %s -> %s: store %v %s, plain %v %s", seed, mapping, i, a.Packet.From(), a.Packet.To(), got.Action, got.Packet.From(), want.Action, want.Packet.From())
			}
			if got.Action == engine.Forwards {
				forwarded++
			} else {
				exhausted++
			}
		}
	}
	if exhausted < 100 || forwarded < 1000 {
		t.Errorf("%d exhausted, %d forwarded", exhausted, forwarded)
	}
}

// among returns one of the addresses that begin like one; of IPv4 as of IPv6.
func among(first [16]byte, number int) netip.Addr {
	first[15] = byte(number)
	return netip.AddrFrom16(first).Unmap()
}

const busy = `network: busy
gateways:
  rim:
    interfaces:
      fibre: {address: 198.51.100.2/29, zone: outside}
      yard: {address: 10.0.0.1/8, zone: yard}
    routes: [{to: default, via: 198.51.100.1}]
    nat: [{source-nat: out, on: fibre, as: 198.51.100.2-198.51.100.5}]
    filter: [{allow: all}]
`

// A flood is packets of connections from inside, each of its own.
func flood(number int) header.Packet {
	return header.Packet{
		Source: netip.AddrFrom4([4]byte{10, 1 + byte(number>>16), byte(number >> 8), byte(number)}), SourcePort: uint16(1024 + number%60000),
		Destination: netip.AddrFrom4([4]byte{203, 0, byte(number >> 7), byte(number)}), DestinationPort: uint16(1 + number>>14), Protocol: header.TCP,
	}
}

// A full pool has no port, and one that is given back is found again.
func TestPortsOfAFullPoolAreFoundAgain(t *testing.T) {
	if testing.Short() {
		t.Skip("it fills a pool")
	}
	n := netfiletest.Parse(t, busy)
	g, c := walk.Compile(n, nil).Gateway(n.Gateways[0]), &clock{}
	store := sessions.New(n.Gateways[0], c.now)
	running := sessions.Start(g, store)
	decide := func(i int) engine.Decision {
		return running.Decide(&engine.Arrival{In: n.Gateways[0].Interfaces[1], Packet: flood(i)}, &engine.Log{})
	}
	used := map[string]bool{}
	i := 0
	for ; ; i++ {
		d := decide(i)
		if d.Action != engine.Forwards {
			if d.Outcome != engine.Exhausted {
				t.Fatalf("connection %d is %s", i, d.Outcome)
			}
			break
		}
		if used[d.Packet.From()] {
			t.Fatalf("connection %d gets %s, which another one has", i, d.Packet.From())
		}
		used[d.Packet.From()] = true
	}
	if len(used) < 4*(65536-1024) || store.Count() != len(used) {
		t.Errorf("%d ports were given away, and there are %d sessions", len(used), store.Count())
	}
	given := flood(i / 2)
	var had string
	if removed := store.Remove(func(s engine.Session) bool {
		if s.Before == given {
			had = s.After.From()
		}
		return s.Before == given
	}); removed != 1 {
		t.Fatalf("%d sessions were removed", removed)
	}
	if d := decide(i); d.Action != engine.Forwards || d.Packet.From() != had {
		t.Errorf("%s instead of %s", d.Packet.From(), had)
	}
	hits := store.Hits()
	if len(hits) != 2 || hits[0].Open != int64(len(used)) || hits[0].Connections != int64(len(used))+2 || hits[1].Stopped != 1 || hits[0].Rule != (network.RuleID{Gateway: "rim", List: "nat", Name: "out"}) {
		t.Errorf("%+v", hits)
	}
	c.at = 5 * time.Minute
	if expired := store.Expire(); expired != len(used) || store.Count() != 0 {
		t.Errorf("%d timed out, %d are left", expired, store.Count())
	}
}

// Sessions go on with their translation under another revision, and know its rules.
func TestSessionsOutliveARevision(t *testing.T) {
	n := netfiletest.Parse(t, busy)
	c := &clock{}
	running := sessions.Start(walk.Compile(n, nil).Gateway(n.Gateways[0]), sessions.New(n.Gateways[0], c.now))
	p := flood(7)
	d := running.Decide(&engine.Arrival{In: n.Gateways[0].Interfaces[1], Packet: p}, &engine.Log{})
	for _, change := range []struct {
		old, new string
		outcome  engine.Action
	}{
		{"198.51.100.2-198.51.100.5", "198.51.100.3", engine.Forwards},
		{"{allow: all}", "{drop: all}", engine.Forwards},
		{"routes:", "handling: {restarts-on-apply: true}\n    routes:", engine.Stops},
	} {
		m := netfiletest.Parse(t, replaced(t, change.old, change.new))
		running.Swap(walk.Compile(m, nil).Gateway(m.Gateways[0]))
		back := running.Decide(&engine.Arrival{In: m.Gateways[0].Interfaces[0], Packet: d.Packet.Answer(), Part: header.Answers}, &engine.Log{})
		if back.Action != change.outcome {
			t.Errorf("after %s: %+v", change.new, back)
		}
		if back.Action == engine.Forwards && (back.Packet != p.Answer() || back.Out != m.Gateways[0].Interfaces[1]) {
			t.Errorf("after %s it is %s -> %s by %v", change.new, back.Packet.From(), back.Packet.To(), back.Out)
		}
	}
}

// What rules and sessions have counted is what was decided, packet by packet, also when
// sessions have ended.
func TestCountsAreWhatWasDecided(t *testing.T) {
	for seed := range netfiletest.Asked(*networks, 10) {
		n := netfiletest.Parse(t, strings.ReplaceAll(gen.Small(seed), "tcp-state: loose", "tcp-state: strict"))
		g, c := n.Gateways[0], &clock{}
		running := sessions.Start(walk.Compile(n, nil).Gateway(g), sessions.New(g, c.now))
		random := rand.New(rand.NewPCG(seed, 11))
		want := map[network.RuleID]sessions.Hits{}
		var log engine.Log
		var sent []engine.Arrival
		for range 120 {
			a := engine.Arrival{In: g.Interfaces[random.IntN(len(g.Interfaces))], Packet: header.Packet{
				Source: netip.AddrFrom4([4]byte{203, 0, 113, byte(random.IntN(8))}), Destination: netip.AddrFrom4([4]byte{198, 51, 100, 2}),
				SourcePort: uint16(40000 + random.IntN(3)), DestinationPort: []uint16{80, 443, 22}[random.IntN(3)], Protocol: header.TCP,
			}, Size: 40 + random.IntN(1000)}
			if random.IntN(2) == 0 {
				a.Packet.Source, a.Packet.Destination = netip.AddrFrom4([4]byte{10, 1, 0, byte(4 + random.IntN(5))}), netip.AddrFrom4([4]byte{192, 0, 2, 7})
			}
			direction := engine.Forth
			if len(sent) > 0 && random.IntN(2) == 0 {
				before := sent[random.IntN(len(sent))]
				a.Packet, a.In, a.Part, direction = before.Packet.Answer(), before.In, header.Answers, engine.Back
			}
			d := running.Decide(&a, &log)
			if d.Action == engine.Forwards && !d.Follows {
				sent = append(sent, engine.Arrival{In: d.Out, Packet: d.Packet})
			}
			rules := map[*network.Rule]bool{d.Redirect: true, d.Permit: true, d.Source: true}
			stops := d.Action == engine.Stops && !d.Follows
			if stops {
				rules[d.Rule] = true
			}
			delete(rules, nil)
			for r := range rules {
				h := want[r.ID()]
				if h.Rule = r.ID(); !d.Follows {
					h.Connections++
				}
				switch {
				case stops && r != d.Rule:
					h.Stopped++
				case stops:
					h.Ended++
				}
				h.Passed[direction] = h.Passed[direction].Plus(sessions.Count{Packets: 1, Bytes: int64(a.Size)})
				want[r.ID()] = h
			}
			if c.at += time.Second; random.IntN(40) == 0 {
				c.at += 10 * time.Minute // all end
			}
		}
		check := func() {
			t.Helper()
			got := map[network.RuleID]sessions.Hits{}
			for _, h := range running.Store.Hits() {
				h.Open, h.Last = 0, 0
				got[h.Rule] = h
			}
			if !maps.Equal(got, want) {
				t.Fatalf("seed %d:\n got  %+v\n want %+v", seed, got, want)
			}
		}
		check()
		running.Store.Remove(func(engine.Session) bool { return true })
		check()
	}
}

func replaced(t *testing.T, old, new string) string {
	t.Helper()
	text := busy
	at := 0
	for i := range text {
		if i+len(old) <= len(text) && text[i:i+len(old)] == old {
			at = i
		}
	}
	return text[:at] + new + text[at+len(old):]
}

// Many goroutines at once give no two connections one port, and lose none.
func TestStoreIsSafeForManyGoroutines(t *testing.T) {
	n := netfiletest.Parse(t, busy)
	var c clock
	running := sessions.Start(walk.Compile(n, nil).Gateway(n.Gateways[0]), sessions.New(n.Gateways[0], c.now))
	each, workers := 3000, 8
	if testing.Short() {
		each = 500
	}
	var mutex sync.Mutex
	used := map[string]bool{}
	var group sync.WaitGroup
	for w := range workers {
		group.Go(func() {
			var log engine.Log
			for i := range each {
				p := flood(w*each + i)
				d := running.Decide(&engine.Arrival{In: n.Gateways[0].Interfaces[1], Packet: p}, &log)
				back := running.Decide(&engine.Arrival{In: n.Gateways[0].Interfaces[0], Packet: d.Packet.Answer(), Part: header.Answers}, &log)
				if d.Action != engine.Forwards || back.Action != engine.Forwards || back.Packet != p.Answer() {
					t.Errorf("%+v %+v", d, back)
					return
				}
				mutex.Lock()
				if used[d.Packet.From()] {
					t.Errorf("%s is given away twice", d.Packet.From())
				}
				used[d.Packet.From()] = true
				mutex.Unlock()
			}
		})
	}
	group.Go(func() {
		for range 50 {
			running.Store.List(func(sessions.Open) bool { return true })
			running.Store.Expire()
			running.Swap(walk.Compile(n, nil).Gateway(n.Gateways[0]))
		}
	})
	group.Wait()
	if running.Store.Count() != each*workers {
		t.Errorf("%d sessions", running.Store.Count())
	}
}

// What is said of a session is how it stands at the moment: its state, its times, what passed.
func TestSessionsSayHowTheyStand(t *testing.T) {
	n := netfiletest.Parse(t, busy)
	g, c := n.Gateways[0], &clock{}
	running := sessions.Start(walk.Compile(n, nil).Gateway(g), sessions.New(g, c.now))
	var log engine.Log
	pass := func(in *network.Interface, p header.Packet, part header.Part, size int) engine.Decision {
		return running.Decide(&engine.Arrival{In: in, Packet: p, Part: part, Size: size}, &log)
	}
	only := func() sessions.Open {
		t.Helper()
		var list []sessions.Open
		running.Store.List(func(o sessions.Open) bool { list = append(list, o); return true })
		if len(list) != 1 {
			t.Fatalf("%d sessions", len(list))
		}
		return list[0]
	}
	yard, fibre := g.Interfaces[1], g.Interfaces[0]
	p := flood(3)
	d := pass(yard, p, header.Begins, 60)
	check := func(state string, age, idle, left time.Duration, forth, back sessions.Count) {
		t.Helper()
		o := only()
		if o.State != state || o.Age != age || o.Idle != idle || o.Left != left || o.Passed != [2]sessions.Count{forth, back} || o.Number != 1 {
			t.Errorf("%s, %s old, %s idle, %s left, %v; want %s, %s, %s, %s, %v %v", o.State, o.Age, o.Idle, o.Left, o.Passed, state, age, idle, left, forth, back)
		}
	}
	check("opening", 0, 0, 4*time.Minute, sessions.Count{Packets: 1, Bytes: 60}, sessions.Count{})
	c.at += 10 * time.Second
	check("opening", 10*time.Second, 10*time.Second, 4*time.Minute-10*time.Second, sessions.Count{Packets: 1, Bytes: 60}, sessions.Count{})
	pass(fibre, d.Packet.Answer(), header.Answers, 52)
	c.at += time.Second
	pass(yard, p, header.Continues, 1000)
	check("established", 11*time.Second, 0, 2*time.Hour+4*time.Minute, sessions.Count{Packets: 2, Bytes: 1060}, sessions.Count{Packets: 1, Bytes: 52})
	c.at += time.Hour
	pass(fibre, d.Packet.Answer(), header.Continues, 1500)
	check("established", time.Hour+11*time.Second, 0, 2*time.Hour+4*time.Minute, sessions.Count{Packets: 2, Bytes: 1060}, sessions.Count{Packets: 2, Bytes: 1552})
	pass(yard, p, header.Finishes, 40)
	check("closing", time.Hour+11*time.Second, 0, 4*time.Minute, sessions.Count{Packets: 3, Bytes: 1100}, sessions.Count{Packets: 2, Bytes: 1552})
	if n := running.Store.RemoveNumbers(map[uint64]bool{2: true}); n != 0 {
		t.Errorf("%d removed", n)
	}
	if n := running.Store.RemoveNumbers(map[uint64]bool{1: true, 9: true}); n != 1 || running.Store.Count() != 0 {
		t.Errorf("%d removed", n)
	}
	u := p
	u.Protocol = header.UDP
	d = pass(yard, u, header.Begins, 100)
	if o := only(); o.State != "unanswered" || o.Number != 2 {
		t.Errorf("%+v", o)
	}
	pass(fibre, d.Packet.Answer(), header.Begins, 100)
	if o := only(); o.State != "answered" || o.Passed[engine.Back].Packets != 1 {
		t.Errorf("%+v", o)
	}
	found := 0
	running.Store.ListThose(func(before, after header.Packet) bool { return before == u && after == d.Packet }, func(sessions.Open) bool { found++; return true })
	running.Store.ListThose(func(before, after header.Packet) bool { return before != u }, func(sessions.Open) bool { found += 10; return true })
	if found != 1 {
		t.Error(found)
	}
}
