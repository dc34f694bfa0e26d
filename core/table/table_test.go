package table

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// randomConditions are conditions that overlap in every field, and the packets to ask them.
type randomConditions struct{ *rand.Rand }

func (r randomConditions) address() netip.Addr {
	if r.IntN(4) == 0 {
		return netip.AddrFrom16([16]byte{0: byte(r.IntN(2)), 15: byte(r.IntN(64))})
	}
	return netip.AddrFrom4([4]byte{10, 0, byte(r.IntN(2)), byte(r.IntN(64))})
}

func (r randomConditions) matcher() Matcher {
	if r.IntN(4) == 0 {
		return MatcherOf(header.AllAddresses())
	}
	var ranges []header.Range
	for range r.IntN(4) {
		a, b := r.address(), r.address()
		if r.IntN(2) == 0 {
			b = a
		}
		if b.Less(a) {
			a, b = b, a
		}
		if a.BitLen() == b.BitLen() {
			ranges = append(ranges, header.Range{First: a, Last: b})
		}
	}
	return MatcherOf(header.AddressesOf(ranges...))
}

func (r randomConditions) ports() header.Ports {
	first := uint16(1 + r.IntN(60))
	return header.Ports{First: first, Last: first + uint16(r.IntN(2)*r.IntN(20))}
}

func (r randomConditions) condition(index int) Condition {
	c := Condition{Rule: &network.Rule{Disabled: r.IntN(20) == 0}, Index: index, From: r.matcher(), To: r.matcher()}
	for range r.IntN(3) {
		s := header.Service{Protocol: []header.Protocol{header.TCP, header.UDP}[r.IntN(2)], Ports: r.ports()}
		c.Services = append(c.Services, s)
	}
	if r.IntN(3) == 0 {
		c.SourcePorts = []header.Ports{r.ports(), r.ports()}
	}
	return c
}

func (r randomConditions) packet() header.Packet {
	p := header.Packet{Source: r.address(), Destination: r.address(), Protocol: header.Protocols()[r.IntN(len(header.Protocols()))]}
	if p.Protocol.HasPorts() {
		p.SourcePort, p.DestinationPort = uint16(1+r.IntN(80)), uint16(1+r.IntN(80))
	}
	return p
}

// A table finds the same condition as a walk over the list, also where all of
// them overlap in every field.
func TestTableAgreesWithAWalkOverTheList(t *testing.T) {
	for seed := range uint64(60) {
		random := randomConditions{rand.New(rand.NewPCG(seed, 9))}
		var conditions []Condition
		for i := range 1 + random.IntN(300) {
			conditions = append(conditions, random.condition(i))
		}
		table := New(conditions, nil)
		for range 500 {
			p := random.packet()
			q := NewQuery(&p, Scope{})
			want := NoMatch
			for i := range conditions {
				if plainlyMeets(&conditions[i], p) {
					want = int32(i)
					break
				}
			}
			if got := table.Find(&q); got != want {
				t.Fatalf("seed %d: %v: condition %d, want %d", seed, q, got, want)
			}
		}
	}
}

// plainlyMeets says again, in a line, what it is to meet a condition.
func plainlyMeets(c *Condition, p header.Packet) bool {
	portAmong := func(list []header.Ports) bool {
		return slices.ContainsFunc(list, func(r header.Ports) bool { return r.First <= p.SourcePort && p.SourcePort <= r.Last })
	}
	return !c.Rule.Disabled && c.From.All.Contains(p.Source) && c.To.All.Contains(p.Destination) &&
		(len(c.Services) == 0 || slices.ContainsFunc(c.Services, func(s header.Service) bool {
			return s.Protocol == p.Protocol && s.Ports.First <= p.DestinationPort && p.DestinationPort <= s.Ports.Last
		})) && (len(c.SourcePorts) == 0 || p.Protocol.HasPorts() && portAmong(c.SourcePorts))
}

// Routes are found like by a walk over all of them.
func TestRouteTableAgreesWithAWalkOverTheRoutes(t *testing.T) {
	for seed := range uint64(200) {
		random := rand.New(rand.NewPCG(seed, 11))
		text := &network.Gateway{Name: "rim"}
		up := &network.Interface{Gateway: text, Name: "up", Addresses: []netip.Prefix{netip.MustParsePrefix("10.0.0.1/24"), netip.MustParsePrefix("fd00::1/64")}, Zone: "z"}
		text.Interfaces = []*network.Interface{up}
		for range random.IntN(40) {
			r := network.Route{To: netip.PrefixFrom(netip.AddrFrom4([4]byte{byte(random.Uint32()), byte(random.IntN(4)), 0, 0}), random.IntN(33)).Masked(), Via: netip.MustParseAddr("10.0.0.9"), Out: up, Distance: 1 + random.IntN(3)}
			if random.IntN(3) == 0 {
				r.To, r.Via = netip.PrefixFrom(netip.AddrFrom16([16]byte{byte(random.Uint32())}), random.IntN(129)).Masked(), netip.MustParseAddr("fd00::9")
			}
			r.Blackhole = random.IntN(5) == 0
			text.Routes = append(text.Routes, r)
		}
		(&network.Draft{Gateways: []*network.Gateway{text}}).Connect()
		table := NewRoutes(text)
		for range 300 {
			a := netip.AddrFrom4([4]byte{byte(random.Uint32()), byte(random.IntN(4)), byte(random.IntN(3)), 7})
			if random.IntN(3) == 0 {
				a = netip.AddrFrom16([16]byte{byte(random.Uint32()), 15: byte(random.IntN(3))})
			}
			best := ""
			bits, distance := -1, 0
			for _, p := range up.Addresses {
				if p.Contains(a) && p.Bits() > bits {
					bits, distance, best = p.Bits(), 0, "connected"
				}
			}
			for _, r := range text.Routes {
				if r.To.Contains(a) && (r.To.Bits() > bits || r.To.Bits() == bits && r.Distance < distance) {
					bits, distance, best = r.To.Bits(), r.Distance, fmt.Sprint("static ", r.Blackhole)
				}
			}
			got := ""
			if found := table.Lookup(a); found != nil {
				got = "connected"
				if found.distance > 0 {
					got = fmt.Sprint("static ", found.Blackhole)
				}
				if found.Prefix.Bits() != bits {
					got += " of another prefix"
				}
			}
			if got != best {
				t.Fatalf("seed %d: %s: %q, want %q", seed, a, got, best)
			}
		}
	}
}
