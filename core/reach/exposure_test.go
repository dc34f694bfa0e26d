package reach_test

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/reach"
	"hollowbridge/core/walk"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile/netfiletest"
)

// Outsiders are counted as somebody would who looks at each address, and at each network of a site.
func TestOutsidersAreCountedOneByOne(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes many networks")
	}
	n := netfiletest.Parse(t, `
network: edge
gateways:
  rim:
    interfaces:
      fibre: {address: [198.51.100.18/29, '2001:db8:61::2/64'], zone: outside}
      yard: {address: 203.0.113.65/27, zone: yard}
    routes: [{to: default, via: 198.51.100.17}, {to: default, via: '2001:db8:61::1'}]
`)
	names := reach.NewNamer(n)
	random := rand.New(rand.NewPCG(3, 3))
	for range 300 {
		var ranges []header.Range
		addresses, sites := map[netip.Addr]bool{}, map[netip.Prefix]bool{}
		for range 1 + random.IntN(4) {
			a := netip.AddrFrom4([4]byte{203, 0, byte(112 + random.IntN(2)), byte(random.IntN(256))})
			b := a
			for range random.IntN(200) {
				b = b.Next()
			}
			ranges = append(ranges, header.Range{First: a, Last: b})
			for x := a; ; x = x.Next() {
				if n.Internet().Contains(x) && !n.Unused().Contains(x) {
					addresses[x] = true
				}
				if x == b {
					break
				}
			}
			six := netip.AddrFrom16([16]byte{0x20, 1, 0xd, 0xb8, 0, byte(random.IntN(3)), byte(random.IntN(256)), byte(random.IntN(256))})
			end := six.As16()
			end[5] += byte(random.IntN(2)) // a few networks further
			end[15] = 9
			last := netip.AddrFrom16(end)
			if last.Less(six) {
				continue
			}
			ranges = append(ranges, header.Range{First: six, Last: last})
			for p := netip.PrefixFrom(six, 48).Masked(); ; {
				sites[p] = true
				next := header.RangeOf(p).Last.Next()
				if p = netip.PrefixFrom(next, 48); last.Less(next) {
					break
				}
			}
		}
		gotAddresses, gotSites := names.Outsiders(header.AddressesOf(ranges...))
		if gotAddresses != uint64(len(addresses)) || gotSites != uint64(len(sites)) {
			t.Fatalf("%v: %d addresses and %d sites, not %d and %d", ranges, gotAddresses, gotSites, len(addresses), len(sites))
		}
	}
	for text, want := range map[string]reach.Exposure{
		"0.0.0.0/0": reach.OpenToAll, "192.0.0.0/4": reach.OpenToMany, "20.0.0.0/19": reach.OpenToMany, "20.0.0.0/20": reach.OpenToFew, "20.0.0.1/32": reach.OpenToFew,
		"2001:db8:8000::/36": reach.OpenToFew, "2001:db8::/32": reach.OpenToMany, "10.0.0.0/8": reach.OpenToFew,
	} {
		if got := names.Exposure(header.AddressesOfPrefixes(netip.MustParsePrefix(text))); got != want {
			t.Errorf("%s is exposed by %d, not %d", text, got, want)
		}
	}
}

// What is put together says of each connection what was said of it before, and nothing of others.
func TestWhatFaresAlikeSaysTheSame(t *testing.T) {
	grouped, all := 0, 0
	for seed := range netfiletest.Asked(*explored, 5) {
		old, new := netfiletest.Parse(t, gen.Small(seed)), netfiletest.Parse(t, gen.Small(seed))
		random := rand.New(rand.NewPCG(seed, 51))
		g := new.Gateways[random.IntN(len(new.Gateways))]
		for r := range g.Rules() {
			r.Disabled = r.Disabled || random.IntN(3) == 0
		}
		found, err := reach.Differences(walk.Compile(old, nil), walk.Compile(new, nil), network.Times{}, false)
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		names := reach.NewNamer(new)
		for _, list := range [][]reach.Difference{reach.Alike(names, found), reach.Summary(names, found)} {
			all, grouped = all+len(found), grouped+len(list)
			for i := range found {
				d := &found[i]
				holds, rest := d.Own(), d.From // its sources may stand in several lines
				for k := range list {
					if says(&list[k], d) {
						rest = rest.Minus(list[k].From)
					}
					holds = holds || d.Sender.By != nil && saysInside(&list[k], d)
				}
				if !holds && !rest.Empty() {
					t.Fatalf("seed %d: %s %s -> %s %s is lost", seed, d.Change, d.From, d.To, d.Services)
				}
			}
			for i := range list { // and nothing is added: its example, also with other destinations, is in one of those it was made of
				p := list[i].Example.Packet
				destinations := []netip.Addr{p.Destination}
				for _, r := range list[i].To.Ranges() {
					if r.First.Is4() == p.Source.Is4() {
						destinations = append(destinations, r.First, r.Last)
					}
				}
				for _, to := range destinations {
					member := false
					for k := range found {
						d := &found[k]
						member = member || d.Change == list[i].Change && d.From.Contains(p.Source) && d.To.Contains(to) && d.Services.Matches(p.Protocol, p.DestinationPort) && d.When.Holds(list[i].Example.Moment)
					}
					if !member {
						t.Fatalf("seed %d: %s -> %s %s is in no difference", seed, p.From(), to, p.Service())
					}
				}
			}
		}
	}
	if grouped*10 > all*9 {
		t.Errorf("%d differences are %d when those alike are put together", all, grouped)
	}
}

// saysInside reports whether a difference says also what machines beside an uplink meet.
func saysInside(whole, part *reach.Difference) bool {
	if whole.Change != part.Change || whole.Old.Host != part.Old.Host || whole.New.Host != part.New.Host {
		return false
	}
	if part.Sender.Hop { // with its own address it may get there before and after
		return true
	}
	return slices.ContainsFunc(whole.Inside, func(s reach.Straight) bool { return s.By == part.Sender.By && part.To.Minus(s.To).Empty() })
}

// says reports whether one difference says all that another one does, of the sources that it is about.
func says(whole, part *reach.Difference) bool {
	if whole.Change != part.Change || whole.On != part.On || !part.To.Minus(whole.To).Empty() {
		return false
	}
	for _, s := range part.Services {
		if !whole.Services.Matches(s.Protocol, s.Ports.First) || !whole.Services.Matches(s.Protocol, s.Ports.Last) {
			return false
		}
	}
	return whole.When.Equal(part.When) && whole.Old.Host == part.Old.Host && whole.New.Host == part.New.Host && whole.Was == part.Was && whole.Is == part.Is
}
