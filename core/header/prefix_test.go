package header

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"
)

// The classes of a translation of prefixes are all of the prefix, disjoint, and what is in
// one is moved by one distance.
func TestAddressesOfPrefixesMoveAlike(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes many prefixes")
	}
	random := rand.New(rand.NewPCG(6, 9))
	for _, prefixes := range [][2]string{
		{"fd01:203:405::/48", "2001:db8:1::/48"}, {"fd00:1:2:3::/64", "2001:db8:9:8::/64"}, {"fd00:1:2:300::/56", "2001:db8:9:800::/56"},
		{"fd00:1:2:300::/68", "2001:db8:9:800::/68"}, {"fd00:1::/65", "2001:db8:1::/65"}, {"fd00:1::/112", "2001:db8:1::/112"}, {"fd00::/36", "2001:db8::/36"},
	} {
		inside := netip.MustParsePrefix(prefixes[0])
		pair, _ := NewPrefixPair(inside, netip.MustParsePrefix(prefixes[1]))
		classes := pair.Classes(false)
		var whole Addresses
		for _, c := range classes {
			if !whole.Intersect(c.Alike).Empty() {
				t.Fatalf("%s: classes overlap", inside)
			}
			whole = whole.Union(c.Alike)
		}
		if !whole.Equal(AddressesOfPrefixes(inside)) {
			t.Fatalf("%s: the classes are not all of it", inside)
		}
		moved := func(a netip.Addr) {
			i := slices.IndexFunc(classes, func(c PrefixClass) bool { return c.Alike.Contains(a) })
			first, _ := classes[i].Alike.First()
			like, move := pair.Outward(first), pair.Outward(a)
			if like.To.IsValid() != move.To.IsValid() || move.To.IsValid() && Shift(a, first, like.To) != move.To {
				t.Fatalf("%s, alike %s, moves to %s", a, first, move.To)
			}
		}
		for range 200 {
			bytes := inside.Addr().As16()
			for i := inside.Bits() / 8; i < 16; i++ {
				bytes[i] = []byte{0, 0xff, byte(random.Uint32())}[random.IntN(3)]
			}
			if a := netip.AddrFrom16(bytes); inside.Contains(a) {
				moved(a)
			}
		}
		for _, c := range classes {
			for _, r := range c.Alike.Ranges()[:min(len(c.Alike.Ranges()), 40)] {
				moved(r.First)
				moved(r.Last)
			}
		}
	}
}
