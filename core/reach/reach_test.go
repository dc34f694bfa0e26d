package reach_test

import (
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/reach"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/netfile/netfiletest"
)

var explored = flag.Uint64("explore", 40, "how many random networks to explore; .ci/run takes 100")

// trace asks the engine about one connection at a moment, as a person would: from the machine on a
// segment, by its name in this network, or from wherever the address is where that is nil.
func trace(e *walk.Engine, on *network.Segment, sender reach.Straight, p header.Packet, at network.Moment) (walk.Verdict, bool) {
	c := walk.Connection{Packet: p, Moment: at}
	if sender.By != nil { // by its name in this network
		c.From = e.Behind(e.Network().Gateway(sender.By.Gateway.Name).Interface(sender.By.Name), p.Source)
		return e.NewWalk().Verdict(c), true
	}
	if on == nil {
		var err error
		if c.From, err = e.Locate(p.Source); err != nil {
			return walk.Verdict{}, false
		}
		return e.NewWalk().Verdict(c), true
	}
	for _, s := range e.Network().Segments {
		if s.Name == on.Name && s.Contains(p.Source) && !s.Unused().Contains(p.Source) {
			c.From = e.On(s, p.Source)
			return e.NewWalk().Verdict(c), true
		}
	}
	return walk.Verdict{}, false
}

// handed returns a packet that somebody beside an uplink, or its next hop, hands to the gateway there.
func handed(random *rand.Rand, n *network.Network) (sender reach.Straight, p header.Packet, ok bool) {
	g := n.Gateways[random.IntN(len(n.Gateways))]
	sender = reach.Straight{By: g.Interfaces[random.IntN(len(g.Interfaces))], Hop: random.IntN(2) == 0}
	h := n.Hosts[random.IntN(len(n.Hosts))]
	p = header.Packet{Destination: h.Addresses[random.IntN(len(h.Addresses))], SourcePort: 40000, DestinationPort: []uint16{80, 443, 22, 8085, 53}[random.IntN(5)], Protocol: []header.Protocol{header.TCP, header.UDP}[random.IntN(2)]}
	family := header.FamilyOf(p.Destination)
	if !sender.By.FacesInternet(family) || !sender.By.IsUp() || sender.By.Upstream.NoBeside {
		return sender, p, false
	}
	p.Source = netip.MustParseAddr([]string{"203.0.113.4", "203.0.113.9", "192.0.2.7", "2001:db8:f::9"}[random.IntN(4)])
	if list := n.Beside(sender.By).Intersect(family.All()); !sender.Hop && !list.Empty() {
		p.Source = members(random, list)[random.IntN(2)]
	}
	return sender, p, header.FamilyOf(p.Source) == family && isAmong(n, sender, p.Source)
}

// entersOtherwise reports whether a packet that is handed to a gateway is not one that comes there from the internet anyway, or stays
// on the segment.
func entersOtherwise(e *walk.Engine, sender reach.Straight, p header.Packet) bool {
	i := e.Network().Gateway(sender.By.Gateway.Name).Interface(sender.By.Name)
	for _, prefix := range append(slices.Clone(i.Addresses), i.Upstream.Routes...) {
		if prefix.Contains(p.Destination) {
			return false
		}
	}
	return !sender.Hop || !e.Network().Internet().Contains(p.Destination)
}

// isAmong reports whether a machine beside an uplink, or its next hop, can send with an address.
func isAmong(n *network.Network, sender reach.Straight, source netip.Addr) bool {
	if !sender.Hop {
		return n.Beside(sender.By).Contains(source)
	}
	for _, s := range n.Segments {
		if s.Contains(source) {
			return false
		}
	}
	return n.Internet().Contains(source)
}

// begins returns a verdict, or none where a machine beside an uplink can't have sent that.
func begins(e *walk.Engine, sender reach.Straight, source netip.Addr, v walk.Verdict) walk.Verdict {
	i := e.Network().Gateway(sender.By.Gateway.Name).Interface(sender.By.Name)
	if isAmong(e.Network(), reach.Straight{By: i, Hop: sender.Hop}, source) {
		return v
	}
	return walk.Verdict{Outcome: engine.Unrouted}
}

// someMoment returns one of those at which something is so, or, where it is said, one at which it is not.
func someMoment(random *rand.Rand, times network.Times, when network.When, holds bool) (at network.Moment, ok bool) {
	for range 200 {
		if at = times.Moment(random.IntN(times.Count())); when.Holds(at) == holds {
			return at, true
		}
	}
	return at, false
}

// shared returns the segments that an address is on, where it is on several.
func shared(n *network.Network, a netip.Addr) []*network.Segment {
	var list []*network.Segment
	for _, s := range n.Segments {
		if s.Contains(a) && !s.Unused().Contains(a) {
			list = append(list, s)
		}
	}
	if len(list) < 2 {
		return nil
	}
	return list
}

// members returns addresses of a set: its borders and some between.
func members(random *rand.Rand, set header.Addresses) []netip.Addr {
	ranges := set.Ranges()
	if len(ranges) == 0 {
		return nil
	}
	r := ranges[random.IntN(len(ranges))]
	return []netip.Addr{r.First, r.Last}
}

// borders returns addresses right outside a set.
func borders(random *rand.Rand, set header.Addresses) []netip.Addr {
	var found []netip.Addr
	for _, a := range members(random, set) {
		for _, near := range []netip.Addr{a.Prev(), a.Next()} {
			if near.IsValid() && near.BitLen() == a.BitLen() && !set.Contains(near) {
				found = append(found, near)
			}
		}
	}
	return found
}

// Every set that reach lists is right: members reach the host, and sources right
// outside all sets of a destination do not.
func TestReachAgreesWithTraces(t *testing.T) {
	checked, twins, through, timed, straight := 0, 0, 0, 0, 0
	for _, seed := range netfiletest.Seeds(netfiletest.Asked(*explored, 3), 363) {
		n := netfiletest.Parse(t, gen.Mixed(seed))
		e := walk.Compile(n, nil)
		answer, err := reach.Find(e, reach.Question{})
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		found := answer.Reached
		random, times := rand.New(rand.NewPCG(seed, 31)), network.EveryMoment(n)
		for _, a := range found {
			for _, p := range packetsOf(random, &a) {
				at, known := someMoment(random, times, a.When, true)
				if !known {
					at = a.Example.Moment
				}
				v, ok := trace(e, a.On, a.Sender, p, at)
				if a.On != nil && ok {
					twins++
				}
				if checked++; ok && (v.Outcome != engine.Reached || v.To.Name() != a.Host) && a.AllPorts {
					t.Fatalf("seed %d: reach lets %s -> %s %s reach %s, a trace at %s says %s at %s\n%s", seed, p.From(), p.To(), p.Protocol, a.Host, at, v.Outcome, v.At.Name(), gen.Mixed(seed))
				}
				if at, known := someMoment(random, times, a.When, false); known && !(a.On == nil && shared(n, p.Source) != nil) && !listed(found, a.On, a.Sender, &p, at) {
					timed++
					if v, ok := trace(e, a.On, a.Sender, p, at); ok && v.Outcome == engine.Reached && inside(n, v.To.Name()) {
						t.Fatalf("seed %d: %s -> %s %s reaches %s at %s, which reach does not list\n%s", seed, p.From(), p.To(), p.Protocol, v.To.Name(), at, gen.Mixed(seed))
					}
				}
			}
			if v := e.NewWalk().Verdict(a.Example.Connection); v.Outcome != engine.Reached || v.To.Name() != a.Host {
				t.Fatalf("seed %d: the example %s -> %s does not reach %s at %s\n%s", seed, a.Example.Packet.From(), a.Example.Packet.To(), a.Host, a.Example.Moment, gen.Mixed(seed))
			}
		}
		through += checkLetThrough(t, seed, e, answer.LetThrough)
		for range 60 { // what somebody beside an uplink hands to its gateway
			sender, p, ok := handed(random, n)
			at := times.Moment(random.IntN(times.Count()))
			if !ok || listed(found, nil, sender, &p, at) {
				continue
			}
			straight++
			if v, ok := trace(e, nil, sender, p, at); ok && v.Outcome == engine.Reached && inside(n, v.To.Name()) && entersOtherwise(e, sender, p) {
				t.Fatalf("seed %d: %s -> %s %s by %s reaches %s at %s, which reach does not list\n%s", seed, p.From(), p.To(), p.Protocol, sender.Name(), v.To.Name(), at, gen.Mixed(seed))
			}
		}
		for _, a := range found {
			for _, source := range borders(random, a.From) {
				p := a.Example.Packet
				p.Source = source
				at := times.Moment(random.IntN(times.Count()))
				if source == p.Destination || n.Unused().Contains(source) || a.On == nil && shared(n, source) != nil || listed(found, a.On, a.Sender, &p, at) || a.Sender.By != nil && !isAmong(n, a.Sender, source) {
					continue
				}
				if v, ok := trace(e, a.On, a.Sender, p, at); ok && v.Outcome == engine.Reached && inside(n, v.To.Name()) {
					t.Fatalf("seed %d: %s -> %s %s reaches %s at %s, which reach does not list\n%s", seed, p.From(), p.To(), p.Protocol, v.To.Name(), at, gen.Mixed(seed))
				}
			}
		}
	}
	if !testing.Short() && (checked < 1000 || twins < 20 || through < 1000 || timed < 20 || straight < 200) {
		t.Errorf("only %d members were checked, %d of addresses that are in several places, %d that get to nobody, %d at other times, %d straight", checked, twins, through, timed, straight)
	}
}

// checkLetThrough traces members of what is let through to nobody, and connections beside them,
// and returns how many.
func checkLetThrough(t *testing.T, seed uint64, e *walk.Engine, found []reach.Access) (checked int) {
	t.Helper()
	random := rand.New(rand.NewPCG(seed, 32))
	nobody := func(v *walk.Verdict) bool { return v.Outcome == engine.Absent || v.Outcome == engine.Refused }
	for _, a := range found {
		for _, p := range append(packetsOf(random, &a), a.Example.Packet) {
			v, ok := trace(e, a.On, a.Sender, p, a.Example.Moment)
			checked++
			to := v.To.Name()
			if v.Outcome == engine.Absent {
				to = "" // it may have come to a relay before
			}
			if ok && a.AllPorts && (!nobody(&v) || to != a.Host) {
				t.Fatalf("seed %d: reach lets %s -> %s %s through to nobody at %q, a trace says %s at %s", seed, p.From(), p.To(), p.Protocol, a.Host, v.Outcome, v.At.Name())
			}
		}
		if d := a.Example; !a.Delivered.Contains(words.TraceOf(e.NewWalk(), d.Connection).Ended.Destination) {
			t.Fatalf("seed %d: %s -> %s does not become one to %s", seed, d.Packet.From(), d.Packet.To(), a.Delivered)
		}
		for _, source := range borders(random, a.From) {
			p := a.Example.Packet
			p.Source = source
			if source == p.Destination || e.Network().Unused().Contains(source) || a.On == nil && shared(e.Network(), source) != nil || listed(found, a.On, a.Sender, &p, a.Example.Moment) || a.Sender.By != nil {
				continue
			}
			v, ok := trace(e, a.On, a.Sender, p, a.Example.Moment)
			c := walk.Connection{Packet: p, Moment: a.Example.Moment}
			if a.On == nil {
				c.From, _ = e.Locate(p.Source)
			} else {
				c.From = e.On(a.On, p.Source)
			}
			if passed := words.TraceOf(e.NewWalk(), c).Passed; len(passed) == 0 {
				continue // it is on that segment itself
			}
			if outside := v.At.Machine.Internet || v.At.Segment != nil && v.At.Segment.IsUplink(header.FamilyOf(p.Destination)); ok && nobody(&v) && !outside {
				t.Fatalf("seed %d: %s -> %s %s is let through to nobody, which reach does not list\n%s", seed, p.From(), p.To(), p.Protocol, gen.Mixed(seed))
			}
		}
	}
	return checked
}

func inside(n *network.Network, host string) bool {
	h := n.Host(host)
	return n.Gateway(host) != nil || h != nil && !h.IsAbroad()
}

func listed(found []reach.Access, on *network.Segment, sender reach.Straight, p *header.Packet, at network.Moment) bool {
	for _, a := range found {
		if sender.By != nil { // also where it is open to the same senders anyway, or to the next hop with its own address
			inside := slices.IndexFunc(a.Inside, func(s reach.Straight) bool {
				return s.By == sender.By && s.To.Contains(p.Destination) && s.Sent.Matches(p.Protocol, p.DestinationPort)
			})
			via, _ := sender.By.NextHop(header.FamilyOf(p.Source))
			among := a.From.Contains(p.Source) || !network.Carried(p.Source) || // of a private uplink, which everybody is not
				sender.Hop && a.From.Contains(via)
			if a.When.Holds(at) && inside >= 0 && among {
				return true
			}
			if a.Sender.By == sender.By && a.When.Holds(at) && (a.From.Contains(p.Source) || sender.Hop) && a.To.Contains(p.Destination) && a.Sent.Matches(p.Protocol, p.DestinationPort) {
				return true
			}
			continue
		}
		if a.Sender.By == nil && (a.On == nil || on == nil || a.On == on) && a.When.Holds(at) && a.From.Contains(p.Source) && a.To.Contains(p.Destination) && a.Sent.Matches(p.Protocol, p.DestinationPort) {
			return true
		}
	}
	return false
}

// packetsOf returns members of an access at its borders.
func packetsOf(random *rand.Rand, a *reach.Access) []header.Packet {
	var found []header.Packet
	for _, source := range members(random, a.From) {
		for _, destination := range members(random, a.To) {
			p := a.Example.Packet
			p.Source, p.Destination = source, destination
			if source != destination && source.BitLen() == destination.BitLen() {
				found = append(found, p)
			}
		}
	}
	return found
}

// changed changes one thing of a random network.
func changed(random *rand.Rand, text string) string {
	lines := strings.Split(text, "\n")
	timed, sent := random.IntN(2) == 0, random.IntN(4) == 0
	for tries := range 400 {
		i := random.IntN(len(lines))
		if before, list, upstream := strings.Cut(lines[i], "routes: ['"); sent && upstream { // what a provider sends here
			_, rest, _ := strings.Cut(list, "'")
			lines[i] = before + "routes: ['2001:db8:a8::/46'" + rest
			return strings.Join(lines, "\n")
		} else if sent && tries < 200 {
			continue
		}
		if hours := strings.HasPrefix(lines[i], "        when: ") || strings.HasPrefix(lines[i], "        until: 2"); timed && !hours && tries < 300 {
			continue
		}
		switch line := lines[i]; {
		case strings.Contains(line, "- allow: r"):
			lines[i] = strings.Replace(line, "allow", "drop", 1)
		case strings.Contains(line, "- drop: r"):
			lines[i] = strings.Replace(line, "drop", "allow", 1)
		case strings.HasPrefix(line, "        hairpin: true"), strings.HasPrefix(line, "        disabled: true"), strings.HasPrefix(line, "    answers-ping"):
			lines = append(lines[:i], lines[i+1:]...)
		case strings.HasPrefix(line, "        when: "), strings.HasPrefix(line, "        until: 2"):
			lines[i] = []string{"        when: {days: tue-thu, hours: 09:00-17:00}", "        until: 2027-01-20", "        note: always"}[random.IntN(3)]
		case strings.HasPrefix(line, "        service: https"):
			lines[i] = "        service: tcp/444"
		default:
			continue
		}
		return strings.Join(lines, "\n")
	}
	return text
}

// Connections fare differently under two networks exactly where compare says so.
func TestCompareAgreesWithTraces(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes many networks")
	}
	differing, same, twins, timed, straight, named := 0, 0, 0, 0, 0, 0
	for seed := range netfiletest.Asked(*explored, 5) {
		random := rand.New(rand.NewPCG(seed, 41))
		text := gen.Mixed(seed)
		other := changed(random, text)
		if seed%8 == 7 { // somebody gets a name where nobody in the file is
			address := fmt.Sprintf("10.1.%d.%d", random.IntN(2), 8+random.IntN(6))
			if seed%32 == 7 { // among VPN clients, where an uplink has some
				address = "10.64.0.7"
			}
			other = strings.Replace(text, "\nhosts:\n", "\nhosts:\n  newcomer: {address: "+address+", serves: [http, https, tcp/8085]}\n", 1)
		}
		if _, err := netfile.Parse("changed.yaml", []byte(other)); err != nil {
			continue
		}
		a, b := walk.Compile(netfiletest.Parse(t, text), nil), walk.Compile(netfiletest.Parse(t, other), nil)
		found, err := reach.Differences(a, b, network.Times{}, false)
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		whole, err := reach.NewBaseline(a, network.Times{}, reach.MostPieces).Differences(b, false, header.Protocols())
		if err != nil || listing(whole) != listing(found) {
			t.Fatalf("seed %d: what fares alike by rules is left out, and so is more:\n%s\n%s %v", seed, listing(whole), listing(found), err)
		}
		times := network.EveryMoment(a.Network(), b.Network())
		fares := func(on *network.Segment, sender reach.Straight, p header.Packet, at network.Moment) (string, string, bool) {
			x, before := trace(a, on, sender, p, at)
			y, after := trace(b, on, sender, p, at)
			if !before { // nobody is there
				x = walk.Verdict{Outcome: engine.Unrouted}
			}
			if !after {
				y = walk.Verdict{Outcome: engine.Unrouted}
			}
			if sender.By != nil { // it may be nobody's in one of them
				x, y = begins(a, sender, p.Source, x), begins(b, sender, p.Source, y)
			}
			return fateFor(x, b.Network()), fateFor(y, a.Network()), before || after
		}
		for _, d := range found {
			differing++
			if x, y, ok := fares(d.On, d.Sender, d.Example.Packet, d.Example.Moment); !ok || x == y {
				t.Fatalf("seed %d: compare says %s -> %s %s is %s, traces say %s and %s", seed, d.Example.Packet.From(), d.Example.Packet.To(), d.Services, d.Change, x, y)
			}
			x, before := trace(a, d.On, d.Sender, d.Example.Packet, d.Example.Moment)
			y, after := trace(b, d.On, d.Sender, d.Example.Packet, d.Example.Moment)
			if before && after && d.Change != reach.Otherwise && d.Change != kind(x, y, a.Network(), b.Network()) {
				t.Fatalf("seed %d: compare says %s -> %s %s is %s, traces say %s", seed, d.Example.Packet.From(), d.Example.Packet.To(), d.Services, d.Change, kind(x, y, a.Network(), b.Network()))
			}
			if d.Change == reach.Named {
				named++
			}
			for _, source := range append(members(random, d.From), borders(random, d.From)...) {
				p := d.Example.Packet
				p.Source = source
				if source == p.Destination || d.On == nil && shared(a.Network(), source) != nil || a.Network().Unused().Union(b.Network().Unused()).Contains(source) {
					continue
				}
				at := d.Example.Moment
				if random.IntN(2) == 0 {
					at = times.Moment(random.IntN(times.Count()))
				}
				if d.Sender.By != nil {
					if straight++; !isAmong(a.Network(), d.Sender, source) {
						continue
					}
				}
				x, y, ok := fares(d.On, d.Sender, p, at)
				if !d.When.Holds(at) {
					timed++
				}
				if yes, sure := covered(found, d.On, d.Sender, shared(a.Network(), source) == nil, &p, at); ok && sure && (x != y) != yes {
					t.Fatalf("seed %d: %s -> %s %s: traces at %s say %q and %q, compare says differs: %v\n%s", seed, p.From(), p.To(), p.Protocol, at, x, y, yes, text)
				}
			}
		}
		for range 200 {
			p := randomPacket(random)
			var on *network.Segment
			if several := shared(a.Network(), p.Source); several != nil {
				on = several[random.IntN(len(several))]
				twins++
			}
			at := times.Moment(random.IntN(times.Count()))
			var sender reach.Straight
			if n := a.Network(); random.IntN(3) == 0 {
				var ok bool
				if sender, p, ok = handed(random, n); !ok || !entersOtherwise(a, sender, p) || !entersOtherwise(b, sender, p) {
					continue
				}
				on = nil
			}
			x, y, ok := fares(on, sender, p, at)
			if !ok || p.Source == p.Destination || a.Network().Unused().Union(b.Network().Unused()).Contains(p.Source) {
				continue
			}
			same++
			if yes, sure := covered(found, on, sender, on == nil, &p, at); sure && (x != y) != yes {
				t.Fatalf("seed %d: %s -> %s %s: traces at %s say %q and %q, compare says differs: %v\n%s", seed, p.From(), p.To(), p.Protocol, at, x, y, yes, text)
			}
		}
		if self, err := reach.Differences(a, walk.Compile(netfiletest.Parse(t, text), nil), network.Times{}, true); err != nil || len(self) > 0 {
			t.Fatalf("seed %d: a network differs from itself: %v %v", seed, self, err)
		}
		if self, err := reach.Differences(a, walk.Compile(netfiletest.Parse(t, renamed(a.Network(), text)), nil), network.Times{}, true); err != nil || len(self) > 0 {
			t.Fatalf("seed %d: a network differs from itself with other names: %v %v", seed, self, err)
		}
	}
	if differing == 0 || same < 1000 || twins < 20 || timed < int(*explored)/4 || straight < int(*explored)/10 || *explored > 100 && named == 0 {
		t.Errorf("%d named, %d at other times, %d beside uplinks, %d differences, %d other connections, %d of addresses that are in several places", named, timed, straight, differing, same, twins)
	}
}

// renamed returns the text of a network in which every host, gateway and interface has another name.
func renamed(n *network.Network, text string) string {
	var names []string
	for _, h := range n.Hosts {
		names = append(names, h.Name)
	}
	for _, g := range n.Gateways {
		names = append(names, g.Name)
		names = append(names, network.InterfaceNames(g.Interfaces)...)
	}
	return regexp.MustCompile(`\b(`+strings.Join(names, "|")+`)\b`).ReplaceAllString(text, "new-$1")
}

// listing writes differences, sorted.
func listing(found []reach.Difference) string {
	var lines []string
	for _, d := range found {
		lines = append(lines, fmt.Sprint(d.Change, d.From, d.To, d.Services, d.FromPorts, d.When, d.Example.Packet, d.Was, d.Is))
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// fateFor is fate beside that in another network: where that does not name a host on the internet, or among VPN clients, somebody there
// has the packet.
func fateFor(v walk.Verdict, other *network.Network) string {
	if at := v.At.Machine; at.Host != nil && (at.Internet || at.Clients != nil) && other.Host(at.Host.Name) == nil {
		at.Host = nil
		return fmt.Sprintf("%s %s#%d -> %s", at.Name(), v.Delivered.From(), v.Delivered.SourcePort, v.Delivered.To())
	}
	return fate(v)
}

// kind says what kind of change two traces of a connection show that are not alike.
func kind(x, y walk.Verdict, a, b *network.Network) reach.Change {
	before, after := x.Outcome == engine.Reached, y.Outcome == engine.Reached
	newly := func(there, named walk.Verdict, other *network.Network) bool { // nothing else is changed, so it is the same packet
		h := named.To.Machine.Host
		return there.Outcome == engine.Absent && h != nil && other.Host(h.Name) == nil && named.At.Name() == h.Name &&
			network.Site{Segment: h.Segment(named.Delivered.Destination)}.Name() == there.At.Name()
	}
	switch {
	case before && after && x.To.Name() != y.To.Name():
		return reach.Elsewhere
	case before && after:
		return reach.Otherwise
	case after && newly(x, y, a):
		return reach.Named
	case before && newly(y, x, b):
		return reach.Unnamed
	case after:
		return reach.NewlyReached
	}
	return reach.NoLonger
}

func fate(v walk.Verdict) string {
	if v.Outcome != engine.Reached {
		return "stopped"
	}
	return fmt.Sprintf("%s %s#%d -> %s", v.To.Name(), v.Delivered.From(), v.Delivered.SourcePort, v.Delivered.To())
}

// covered reports whether a packet from a segment is among the differences, alone where its
// source is on no other; it is not sure where
// that depends on the source port.
func covered(found []reach.Difference, on *network.Segment, sender reach.Straight, alone bool, p *header.Packet, at network.Moment) (yes, sure bool) {
	sure = true
	for _, d := range found {
		here := d.On == nil && (on == nil || alone) || d.On != nil && on != nil && d.On.Name == on.Name
		if d.Sender.By != nil || sender.By != nil {
			here = d.Sender.By != nil && sender.By != nil && d.Sender.By.String() == sender.By.String() && d.Sender.Hop == sender.Hop
		}
		if here && d.When.Holds(at) && d.From.Contains(p.Source) && d.To.Contains(p.Destination) && d.Services.Matches(p.Protocol, p.DestinationPort) {
			yes, sure = true, sure && d.AllPorts
		}
	}
	return yes, sure
}

func randomPacket(random *rand.Rand) header.Packet {
	pick := func(list ...string) netip.Addr { return netip.MustParseAddr(list[random.IntN(len(list))]) }
	p := header.Packet{
		Source:      pick("203.0.113.4", "203.0.113.9", "192.0.2.7", "10.1.0.9", "10.1.1.3", "10.1.0.4", "10.1.1.5", "10.64.0.7", "10.5.0.9", "10.5.0.77", "10.5.0.177"),
		Destination: pick("198.51.100.2", "198.51.100.2", "198.51.100.4", "203.0.113.4", "10.1.0.4", "10.1.1.5", "10.1.0.1", "192.0.2.99", "10.5.0.9", "10.5.0.200", "10.64.0.7"),
		SourcePort:  40000, Protocol: header.TCP,
	}
	p.DestinationPort = []uint16{80, 443, 444, 22, 8085, 37020}[random.IntN(6)]
	return p
}

// What changes nothing is proven to change nothing.
func TestWhatChangesNothingIsProven(t *testing.T) {
	const base = `network: cottage
groups:
  fronts: [203.0.113.0/28, 192.0.2.0/28]
hosts:
  archive: {address: 10.61.24.5, serves: [https, ssh]}
  desk: {address: 10.61.24.6, serves: [rfb]}
gateways:
  rim:
    interfaces:
      fibre: {address: 198.51.100.18/29, zone: outside}
      yard: {address: 10.61.24.1/28, zone: yard}
    routes:
      - {to: default, via: 198.51.100.17}
    nat:
      - {port-forward: web, on: fibre, service: https, to: archive}
      - {port-forward: screen, on: fibre, service: tcp/15900, to: "desk:5900"}
    filter:
      - {allow: web, from: fronts, to: archive, service: https}
      - {allow: screen, from: 203.0.113.64/27, to: desk}
`
	for what, c := range map[string]struct {
		old, new string
		same     bool
	}{
		"renaming":       {"fronts", "doors", true},
		"splitting":      {"fronts: [203.0.113.0/28, 192.0.2.0/28]", "a: [203.0.113.0/28]\n  b: [192.0.2.0/29, 192.0.2.8/29]\n  fronts: [a, b]", true},
		"reordering":     {"      - {allow: web, from: fronts, to: archive, service: https}\n      - {allow: screen, from: 203.0.113.64/27, to: desk}\n", "      - {allow: screen, from: 203.0.113.64/27, to: desk}\n      - {allow: web, from: fronts, to: archive, service: https}\n", true},
		"one-to-one set": {"tcp/15900, to: \"desk:5900\"", "tcp/15900-15900, to: \"desk:5900-5900\"", true},
		"one address":    {"192.0.2.0/28]", "192.0.2.0-192.0.2.14]", false},
		"another port":   {"tcp/15900", "tcp/15901", false},
		"another host":   {"to: archive}", "to: desk}", false},
		"a host's name":  {"archive", "vault", true},
		"a gateway's":    {"rim:", "edge:", true},
		"an interface's": {"fibre", "glass", true},
		"another's name": {"10.61.24.5, serves: [https, ssh]}\n  desk: {address: 10.61.24.6", "10.61.24.6, serves: [https, ssh]}\n  desk: {address: 10.61.24.5", false},
	} {
		text := strings.ReplaceAll(base, c.old, c.new)
		if text == base {
			t.Fatalf("%s changes nothing in the text", what)
		}
		found, err := reach.Differences(walk.Compile(netfiletest.Parse(t, base), nil), walk.Compile(netfiletest.Parse(t, text), nil), network.Times{}, false)
		if err != nil || (len(found) == 0) != c.same {
			t.Errorf("%s: %d differences, %v", what, len(found), err)
		}
	}
}

// Rules that all overlap each other in every field are answered rightly, or it is
// said plainly that they are not.
func TestTangledRulesAreAnsweredOrGivenUp(t *testing.T) {
	for _, rules := range []int{30, 300} {
		n := netfiletest.Parse(t, gen.Tangled(1, rules))
		e := walk.Compile(n, nil)
		start := time.Now()
		answer, err := reach.Find(e, reach.Question{})
		found := answer.Reached
		took := time.Since(start)
		if err != nil {
			var tooLarge flowset.TooLarge
			if !errors.As(err, &tooLarge) || rules < 100 {
				t.Errorf("%d rules: %v", rules, err)
			}
			t.Logf("%d rules: given up after %v: %v", rules, took, err)
			continue
		}
		t.Logf("%d rules: %d ways in %v", rules, len(found), took)
		random := rand.New(rand.NewPCG(5, 5))
		for _, a := range found[:min(len(found), 300)] {
			for _, p := range append(packetsOf(random, &a), a.Example.Packet) {
				if v, ok := trace(e, a.On, a.Sender, p, a.Example.Moment); ok && a.AllPorts && v.To.Name() != a.Host {
					t.Fatalf("%s -> %s does not reach %s", p.From(), p.To(), a.Host)
				}
			}
		}
	}
}

// A thousand one-to-one rules under entangled filter rules are refused, and not listed in
// hundreds of thousands of lines; a question about one of them is answered.
func TestEntangledWaysAreNotListedOneByOne(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes seconds")
	}
	text := gen.Tangled(3, 120)
	var nat, hosts strings.Builder
	for i := range 1000 {
		fmt.Fprintf(&nat, "      - {one-to-one: o%d, on: fibre, outside: 198.18.%d.%d, inside: 10.0.%d.%d}\n", i, i>>8, i&255, i>>8, i&255)
		fmt.Fprintf(&hosts, "  h%d: {address: 10.0.%d.%d, serves: [tcp, udp]}\n", i, i>>8, i&255)
	}
	text = strings.Replace(text, "      - {one-to-one: all, on: fibre, outside: 192.0.2.0/24, inside: 10.0.0.0/24}\n", nat.String(), 1)
	text = strings.Replace(text, "  archive: {address: 10.0.0.5, serves: [tcp, udp]}\n", hosts.String(), 1)
	text = strings.Replace(text, "198.51.100.2/29", "198.19.255.2/15", 1)
	text = strings.Replace(text, "via: 198.51.100.1", "via: 198.19.255.1", 1)
	text = strings.Replace(text, "yard: {address: 10.0.0.1/8", "yard: {address: 10.0.255.1/8", 1)
	text = regexp.MustCompile(`to: 10\.0\.0\.\d+-10\.0\.0\.\d+`).ReplaceAllString(text, "to: 10.0.0.0/22")
	n := netfiletest.Parse(t, text)
	e := walk.Compile(n, nil)
	var tooMany reach.TooMany
	start := time.Now()
	if found, err := reach.Find(e, reach.Question{}); !errors.As(err, &tooMany) {
		t.Errorf("%d ways: %v", len(found.Reached), err)
	}
	to, err := netfile.ParseExpression(n, "h5")
	if err != nil {
		t.Fatal(err)
	}
	if found, err := reach.Find(e, reach.Question{To: &to}); err != nil || len(found.Reached) == 0 {
		t.Errorf("one host: %d ways, %v", len(found.Reached), err)
	}
	t.Logf("both in %v", time.Since(start))
}

// Whatever a comparison may hold, it is right or says that this is not enough.
func TestALimitIsAnErrorWhereverItIsReached(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes many networks")
	}
	old := walk.Compile(netfiletest.Parse(t, gen.Small(6)), nil)
	new := walk.Compile(netfiletest.Parse(t, strings.Replace(gen.Small(6), "allow: ", "drop: ", 1)), nil)
	whole, err := reach.Differences(old, new, network.Times{}, false)
	if err != nil || len(whole) == 0 {
		t.Fatalf("%d differences: %v", len(whole), err)
	}
	enough := 0
	for most := 10; enough < 3; most += most/6 + 1 {
		base := reach.NewBaseline(old, network.Times{}, most)
		found, err := base.Differences(new, false, header.Protocols())
		if err != nil { // the next answer must not be made of half a survey
			if self, err := base.Differences(old, false, header.Protocols()); err == nil && len(self) > 0 {
				t.Fatalf("with %d pieces a network differs from itself", most)
			}
			found, err = base.Differences(new, false, header.Protocols())
		}
		var tooLarge flowset.TooLarge
		switch {
		case err == nil && len(found) == len(whole):
			enough++
		case !errors.As(err, &tooLarge):
			t.Fatalf("with %d pieces: %d of %d differences, %v", most, len(found), len(whole), err)
		}
	}
}

func BenchmarkReach(b *testing.B) {
	for _, rules := range []int{1000, 10000, 100000} {
		b.Run(fmt.Sprint(rules), func(b *testing.B) {
			n := netfiletest.Parse(b, gen.Large(1, rules))
			from, err := netfile.ParseExpression(n, "internet")
			if err != nil {
				b.Fatal(err)
			}
			e := walk.Compile(n, nil)
			b.ReportAllocs()
			for b.Loop() {
				if _, err := reach.Find(e, reach.Question{From: &from}); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

func BenchmarkCompare(b *testing.B) {
	for _, rules := range []int{1000, 10000, 100000} {
		b.Run(fmt.Sprint(rules), func(b *testing.B) {
			text := gen.Large(1, rules)
			other := strings.Replace(strings.Replace(strings.Replace(text, "allow: r5\n", "drop: r5\n", 1), "service: tcp/2037\n", "service: tcp/2038\n", 1), "drop: r", "allow: x", 1)
			old, new := walk.Compile(netfiletest.Parse(b, text), nil), walk.Compile(netfiletest.Parse(b, other), nil)
			b.ReportAllocs()
			for b.Loop() {
				if _, err := reach.Differences(old, new, network.Times{}, false); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
