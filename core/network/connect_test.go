package network_test

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile/netfiletest"
)

// addresses are some that matter to a network, and their neighbours.
func addresses(n *network.Network, random *rand.Rand) []netip.Addr {
	var list []netip.Addr
	for _, g := range n.Gateways {
		for _, i := range g.Interfaces {
			for _, p := range i.Addresses {
				list = append(list, p.Addr(), p.Masked().Addr())
			}
		}
		for _, r := range g.Routes {
			list = append(list, r.To.Addr())
		}
		if a, ok := g.Claims().First(); ok {
			list = append(list, a)
		}
	}
	for _, h := range n.Hosts {
		list = append(list, h.Addresses...)
	}
	for range 20 {
		list = append(list, netip.AddrFrom4([4]byte{byte(random.IntN(224)), byte(random.IntN(256)), byte(random.IntN(4)), byte(random.IntN(256))}))
	}
	for _, a := range list[:len(list):len(list)] {
		if next := a.Next(); next.IsValid() {
			list = append(list, next)
		}
	}
	return list
}

// The internet is, address by address, what the words say: what uplinks carry,
// without interfaces' own, inside prefixes, VPN clients, and what is sent here or routed inside.
func TestInternetAddressByAddress(t *testing.T) {
	for seed := range netfiletest.Few(uint64(150), 50) {
		n := netfiletest.Parse(t, gen.Small(seed))
		for _, a := range addresses(n, rand.New(rand.NewPCG(seed, 31))) {
			if got, want := n.Internet().Contains(a), onInternet(n, a); got != want {
				t.Fatalf("seed %d: %s is on the internet: %v, want %v", seed, a, got, want)
			}
		}
	}
}

func onInternet(n *network.Network, a netip.Addr) bool {
	uplink := false
	for _, g := range n.Gateways {
		for _, i := range g.Interfaces {
			uplink = uplink || i.FacesInternet(header.FamilyOf(a))
			for _, p := range i.Addresses {
				if p.Addr() == a {
					return false
				}
				if p.Contains(a) && !i.FacesInternet(header.FamilyOf(a)) {
					return false
				}
			}
			for _, p := range append(slices.Clone(i.Clients), i.Upstream.Routes...) {
				if p.Contains(a) {
					return false
				}
			}
		}
		for _, r := range g.Routes {
			if r.To.Bits() > 0 && !r.Blackhole && r.To.Contains(a) && !r.Out.FacesInternet(header.FamilyOf(a)) {
				return false
			}
		}
	}
	return uplink && network.Carried(a)
}

// No machine has an address of a gateway, nor the first or last of an IPv4 prefix, but for a
// host that says so.
func TestUnusedAddressByAddress(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes every address")
	}
	for seed := range netfiletest.Few(uint64(150), 50) {
		n := netfiletest.Parse(t, gen.Small(seed))
		unused := n.Unused()
		for _, a := range addresses(n, rand.New(rand.NewPCG(seed, 32))) {
			want := false
			for _, g := range n.Gateways {
				want = want || g.Claims().Contains(a) && n.Internet().Contains(a)
				for _, i := range g.Interfaces {
					for _, p := range i.Addresses {
						edge := a == p.Masked().Addr() || p.Contains(a) && !p.Contains(a.Next())
						want = want || p.Addr() == a || edge && a.Is4() && p.Contains(a) && p.Bits() < 31
					}
				}
			}
			want = want && !slices.ContainsFunc(n.Hosts, func(h *network.Host) bool { return h.Has(a) })
			if got := unused.Contains(a); got != want {
				t.Fatalf("seed %d: %s is unused: %v, want %v", seed, a, got, want)
			}
		}
	}
}

// Segments are the interfaces whose prefixes are the same, and an address is on the one
// with the longest prefix that holds it.
func TestSegmentsAddressByAddress(t *testing.T) {
	behind := 0
	for seed := range netfiletest.Few(uint64(150), 50) {
		n := netfiletest.Parse(t, gen.Small(seed))
		for _, a := range addresses(n, rand.New(rand.NewPCG(seed, 33))) {
			bits := -1
			var want []*network.Segment
			for _, g := range n.Gateways {
				for _, i := range g.Interfaces {
					for _, p := range i.Addresses {
						switch {
						case !p.Contains(a) || p.Bits() < bits:
						case p.Bits() > bits:
							bits, want = p.Bits(), []*network.Segment{i.Segment}
						default:
							want = append(want, i.Segment)
						}
					}
				}
			}
			got := n.SegmentOf(a, "")
			if r := routerFor(n, a, want, bits); r != nil {
				behind++
				there := got != nil && got == r.Out.Segment
				if r.Via.IsValid() {
					there = got != nil && got.Behind != nil && got.Router == r.Via && got.Behind.Segment == r.Out.Segment
				}
				if !there {
					t.Fatalf("seed %d: %s is on %v, want it behind %s", seed, a, got, r.Via)
				}
				continue
			}
			if len(want) == 0 != (got == nil) || got != nil && got != want[0] && !contains(want, got) {
				t.Fatalf("seed %d: %s is on %v, want one of %v", seed, a, got, want)
			}
			if got != nil && !got.Contains(a) {
				t.Fatalf("seed %d: %s is on %s, which does not hold it", seed, a, got.Name)
			}
		}
		for _, s := range n.Segments {
			for _, i := range s.Interfaces {
				if i.Segment != s {
					t.Fatalf("seed %d: %s is on another segment", seed, i)
				}
			}
		}
	}
	if behind < 100 {
		t.Errorf("only %d addresses are behind a router", behind)
	}
}

// routerFor returns the route to the inside router that an address is behind, or nil: the longest to it whose next hop is inside and
// nobody's, and where the address is on segments already, longer than their prefix and of a gateway there.
func routerFor(n *network.Network, a netip.Addr, on []*network.Segment, bits int) (best *network.Route) {
	if n.ClientsAt(a) != nil {
		return nil
	}
	for _, g := range n.Gateways {
		for i := range g.Routes {
			r := &g.Routes[i]
			if r.Blackhole || r.To.Bits() == 0 || !r.To.Contains(a) || r.Out.FacesInternet(header.FamilyOf(a)) {
				continue
			}
			taken := slices.ContainsFunc(n.Hosts, func(h *network.Host) bool { return h.Has(r.Via) }) || r.Out.Segment.OwnerOn(r.Via) != nil
			here := len(on) == 0 || r.To.Bits() > bits && slices.ContainsFunc(on[0].Interfaces, func(i *network.Interface) bool { return i.Gateway == g })
			if !taken && here && (best == nil || r.To.Bits() > best.To.Bits() || r.To.Bits() == best.To.Bits() && r.Distance < best.Distance) {
				best = r
			}
		}
	}
	return best
}

func contains(list []*network.Segment, s *network.Segment) bool {
	for _, other := range list {
		if other == s {
			return true
		}
	}
	return false
}
