package engine

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A table finds the same condition as a walk over the list, also where all of
// them overlap in every field.
func TestTableAgreesWithAWalkOverTheList(t *testing.T) {
	for seed := range uint64(60) {
		random := rand.New(rand.NewPCG(seed, 9))
		address := func() netip.Addr {
			if random.IntN(4) == 0 {
				return netip.AddrFrom16([16]byte{0: byte(random.IntN(2)), 15: byte(random.IntN(64))})
			}
			return netip.AddrFrom4([4]byte{10, 0, byte(random.IntN(2)), byte(random.IntN(64))})
		}
		set := func() matcher {
			if random.IntN(4) == 0 {
				return setMatcher(header.AllAddresses())
			}
			var ranges []header.Range
			for range random.IntN(4) {
				a, b := address(), address()
				if random.IntN(2) == 0 {
					b = a
				}
				if b.Less(a) {
					a, b = b, a
				}
				if a.BitLen() == b.BitLen() {
					ranges = append(ranges, header.Range{First: a, Last: b})
				}
			}
			return setMatcher(header.AddressesOf(ranges...))
		}
		var conditions []condition
		for i := range 1 + random.IntN(300) {
			c := condition{rule: &network.Rule{Disabled: random.IntN(20) == 0}, index: i, from: set(), to: set()}
			for range random.IntN(3) {
				first := uint16(1 + random.IntN(60))
				c.services = append(c.services, header.Service{Protocol: []header.Protocol{header.TCP, header.UDP}[random.IntN(2)], Ports: header.Ports{First: first, Last: first + uint16(random.IntN(2)*random.IntN(20))}})
			}
			conditions = append(conditions, c)
		}
		table := newTable(conditions)
		for range 500 {
			q := newQuery(&header.Packet{Source: address(), Destination: address(), DestinationPort: uint16(1 + random.IntN(80)), Protocol: header.TCP}, 0, 0, network.Always)
			want := noMatch
			for i := range conditions {
				if conditions[i].meets(&q) {
					want = int32(i)
					break
				}
			}
			if got := table.find(&q); got != want {
				t.Fatalf("seed %d: %v: condition %d, want %d", seed, q, got, want)
			}
		}
	}
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
		table := newRouteTable(text)
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
			if found := table.lookup(a); found != nil {
				got = "connected"
				if found.distance > 0 {
					got = fmt.Sprint("static ", found.blackhole)
				}
				if found.prefix.Bits() != bits {
					got += " of another prefix"
				}
			}
			if got != best {
				t.Fatalf("seed %d: %s: %q, want %q", seed, a, got, best)
			}
		}
	}
}
