package header

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
)

// A field is 16 IPv4 and 16 IPv6 addresses; sets over it are bit masks.
func fieldAddress(i int) netip.Addr {
	if i < 16 {
		return netip.AddrFrom4([4]byte{10, 0, 0, byte(i)})
	}
	bytes := netip.MustParseAddr("fd00::").As16()
	bytes[15] = byte(i - 16)
	return netip.AddrFrom16(bytes)
}

func randomSet(random *rand.Rand) (Addresses, uint32) {
	var ranges []Range
	mask := uint32(0)
	for range random.IntN(5) {
		base := random.IntN(2) * 16
		first := random.IntN(16)
		last := first + random.IntN(16-first)
		ranges = append(ranges, Range{fieldAddress(base + first), fieldAddress(base + last)})
		for i := first; i <= last; i++ {
			mask |= 1 << (base + i)
		}
	}
	return AddressesOf(ranges...), mask
}

// Sizes are exact, also where one address more or less is a trifle.
func TestSizesAreExact(t *testing.T) {
	six := func(first, last string) Addresses {
		return AddressesOf(Range{netip.MustParseAddr(first), netip.MustParseAddr(last)})
	}
	all, but := IPv6.All(), IPv6.All().Minus(Single(netip.MustParseAddr("2001:db8:ff::1")))
	if all.Size().Compare(but.Size()) <= 0 || AllAddresses().Size().Compare(all.Size()) <= 0 || all.Size().Half().Compare(but.Size()) >= 0 {
		t.Errorf("%v, %v and %v", AllAddresses().Size(), all.Size(), but.Size())
	}
	large := six("2001:db8:f0:ffff:ffff:ffff:ffff:fffe", "2001:db8:f1::101")
	if size := large.Size(); size != CountOf(0x104) || size.Exceeds(0x104) || !size.Exceeds(0x103) || size.UpTo(8) != 8 || size.UpTo(1000) != 0x104 {
		t.Errorf("%v addresses", size)
	}
	if wide := six("2001:db8:f0::1", "2001:db8:f1::"); wide.Size() != (Count{high: 1 << 16}) || wide.Size().Float64() != 1<<80 {
		t.Errorf("%v addresses", wide.Size())
	}
}

// Sets of addresses obey the laws of sets, compared with bit masks.
func TestAddressesAgreeWithBruteForce(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	check := func(what string, s Addresses, mask uint32) {
		t.Helper()
		count := 0
		for i := range 32 {
			if got, want := s.Contains(fieldAddress(i)), mask>>i&1 == 1; got != want {
				t.Fatalf("%s: %s contains %s: %v", what, s, fieldAddress(i), got)
			}
			count += int(mask >> i & 1)
		}
		if s.Size() != CountOf(count) || s.Empty() != (mask == 0) {
			t.Fatalf("%s: %s has size %v, want %v", what, s, s.Size(), count)
		}
		for i := 1; i < len(s.Ranges()); i++ {
			before, r := s.Ranges()[i-1], s.Ranges()[i]
			if !before.Last.Less(r.First) || before.Last.Next() == r.First && r.First.Is6() == before.Last.Is6() {
				t.Fatalf("%s: %s is not in its shortest form", what, s)
			}
		}
	}
	for range 5000 {
		a, x := randomSet(random)
		b, y := randomSet(random)
		check("union", a.Union(b), x|y)
		check("intersection", a.Intersect(b), x&y)
		check("difference", a.Minus(b), x&^y)
		if a.Equal(b) != (x == y) {
			t.Fatalf("%s equal %s: %v", a, b, a.Equal(b))
		}
	}
	if !AllAddresses().Minus(IPv6.All()).Equal(IPv4.All()) || !AllAddresses().IsAll() {
		t.Error("the families do not make up all addresses")
	}
}

func TestShiftMapsRangesOneToOne(t *testing.T) {
	for _, c := range [][4]string{
		{"10.0.0.7", "10.0.0.0", "198.51.100.16", "198.51.100.23"},
		{"10.0.0.0", "10.0.0.0", "10.0.1.255", "10.0.1.255"},
		{"10.0.1.1", "10.0.0.255", "192.0.2.254", "192.0.3.0"},
		{"fd00::ffff", "fd00::", "2001:db8::1", "2001:db8::1:0"},
	} {
		got := Shift(netip.MustParseAddr(c[0]), netip.MustParseAddr(c[1]), netip.MustParseAddr(c[2]))
		if got.String() != c[3] {
			t.Errorf("Shift(%s, %s, %s) = %s, want %s", c[0], c[1], c[2], got, c[3])
		}
	}
}

// RFC 6296: translation there and back gives the address again, and the checksum
// over the address stays the same.
func TestPrefixPairIsNeutralAndReversible(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	for _, prefixes := range [][2]string{
		{"fd01:203:405::/48", "2001:db8:1::/48"}, {"fd00::/32", "2001:db8::/32"},
		{"fd00:1:2:3::/64", "2001:db8:9:8::/64"}, {"fd00:1:2:3:4:5::/96", "2001:db8:0:0:8:9::/96"},
	} {
		inside, outside := netip.MustParsePrefix(prefixes[0]), netip.MustParsePrefix(prefixes[1])
		pair, ok := NewPrefixPair(inside, outside)
		if !ok {
			t.Fatal(prefixes)
		}
		for range 2000 {
			bytes := inside.Addr().As16()
			for i := inside.Bits() / 8; i < 16; i++ {
				bytes[i] = byte(random.Uint32())
			}
			a := netip.AddrFrom16(bytes)
			out := pair.Outward(a).To
			if !out.IsValid() {
				continue
			}
			if !outside.Contains(out) || onesSum(out.As16())%0xffff != onesSum(a.As16())%0xffff {
				t.Fatalf("%s -> %s leaves the prefix or changes the checksum", a, out)
			}
			if back := pair.Inward(out).To; back != a {
				t.Fatalf("%s -> %s -> %s", a, out, back)
			}
		}
	}
	for _, c := range []struct {
		inside, outside string
		lost            []string // inside addresses that have no place outside
		found           []string
	}{
		{"fd00:1::/48", "2001:db8:1::/48", []string{"fd00:1:0:ffff::5", "fd00:1:0:ffff::"}, []string{"fd00:1::", "fd00:1:0:0:ffff:ffff:ffff:ffff", "fd00:1:0:fffe::1"}},
		{"fd00:1::/64", "2001:db8:1::/64", []string{"fd00:1::ffff:ffff:ffff:ffff", "fd00:1::"}, []string{"fd00:1::ffff:ffff:ffff:fffe", "fd00:1::1"}},
		{"fd00:1::/65", "2001:db8:1::/65", []string{"fd00:1::7fff:ffff:ffff:ffff", "fd00:1::5:0:0:0", "fd00:1::"}, []string{"fd00:1::5:0:0:1"}},
	} {
		pair, _ := NewPrefixPair(netip.MustParsePrefix(c.inside), netip.MustParsePrefix(c.outside))
		for _, text := range c.lost {
			if got := pair.Outward(netip.MustParseAddr(text)).To; got.IsValid() {
				t.Errorf("%s has no place under %s, not %s", text, c.outside, got)
			}
		}
		for _, text := range c.found {
			if got := pair.Outward(netip.MustParseAddr(text)).To; !got.IsValid() {
				t.Errorf("%s has a place under %s", text, c.outside)
			}
		}
	}
	pair, _ := NewPrefixPair(netip.MustParsePrefix("fd01:203:405::/48"), netip.MustParsePrefix("2001:db8:1::/48"))
	if got := pair.Outward(netip.MustParseAddr("fd01:203:405:1::1234")).To.String(); got != "2001:db8:1:d550::1234" {
		t.Errorf("the example of RFC 6296, appendix B, gives %s", got)
	}
}

func TestParseService(t *testing.T) {
	for text, want := range map[string]string{
		"tcp/443": "tcp/443", "udp/6970-6999": "udp/6970-6999", "icmp": "icmp", "any": "any", "tcp": "tcp",
		"tcp+udp/37020": "tcp/37020, udp/37020", "tcp/80,443,8000-8010": "tcp/80, tcp/443, tcp/8000-8010",
		"https": "tcp/443", "domain": "tcp/53, udp/53", "gre": "gre",
	} {
		got, err := ParseService(text, lookup)
		if err != nil || got.String() != want {
			t.Errorf("%s: %s, %v; want %s", text, got, err, want)
		}
	}
	for text, want := range map[string]string{
		"tcp/0": "from 1 to 65535", "tcp/65536": "from 1 to 65535", "tcp/90-80": "backwards; write 80-90", "tcp/": "not a port",
		"tcq/80": "no such protocol", "icmp/8": "has no ports", "80": "a port needs its protocol", "tcp/080": "not a port",
		"tcp/+80": "not a port", "nothing": "unknown", "": "unknown", "sql-net": "several ports",
	} {
		if _, err := ParseService(text, lookup); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v; want %q", text, err, want)
		}
	}
}

func lookup(name string) (Services, error) {
	services, found, err := NamedService(name)
	if !found {
		return nil, errUnknown
	}
	return services, err
}

var errUnknown = errorString("unknown")

type errorString string

func (e errorString) Error() string { return string(e) }

func TestNamesOfServicesGoBothWays(t *testing.T) {
	for _, name := range ServiceNames() {
		services, _, err := NamedService(name)
		if err != nil {
			continue
		}
		for _, s := range services {
			if s.Ports.Count() != 1 || NameOf(s.Protocol, s.Ports.First) == "" {
				t.Errorf("%s is %s, which has no name", name, s)
			}
		}
	}
	if NameOf(TCP, 443) != "https" || NameOf(UDP, 53) != "domain" || NameOf(TCP, 64999) != "" {
		t.Error("names of ports are wrong")
	}
}

func TestParseRangeRefusesWhatIsUnclear(t *testing.T) {
	for text, want := range map[string]string{
		"10.0.0.1": "", "10.0.0.0/8": "", "10.0.0.1-10.0.0.9": "", "::ffff:10.0.0.1": "no packet has; write 10.0.0.1", "::ffff:0:0/96": "no packet has", "2001:db8::/32": "",
		"10.0.0.9-10.0.0.1": "backwards", "10.0.0.1/8": "bits behind the prefix; the network is 10.0.0.0/8", "10.0.0.0/33": "0 to 32",
		"10.0.0.1-fd00::1": "both IPv4 or both IPv6", "fe80::1%eth0": "may not name an interface", "10.0.0": "not an address",
		"10.0.0.0/08": "0 to 32", "010.0.0.1": "not an address", "": "not an address",
	} {
		_, err := ParseRange(text)
		if (want == "") != (err == nil) || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v; want %q", text, err, want)
		}
	}
}

// What services say of a protocol's ports is what each of them matches.
func TestServicesOfAProtocolPortByPort(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 1))
	for range 2000 {
		var services Services
		for range random.IntN(5) {
			s := Service{Protocol: Protocols()[random.IntN(len(Protocols()))]}
			if first := uint16(1 + random.IntN(40)); s.Protocol.HasPorts() {
				s.Ports = Ports{first, first + uint16(random.IntN(8))}
			}
			if services = append(services, s); random.IntN(20) == 0 {
				services[0] = Service{}
			}
		}
		for _, protocol := range Protocols() {
			ports, any := services.Of(protocol)
			for port := range uint16(60) {
				want := len(services) == 0 || services.Matches(protocol, port)
				if got := any || slices.ContainsFunc(ports, func(p Ports) bool { return p.Contains(port) }); got != want {
					t.Fatalf("%s, %s %d: %v, want %v", services, protocol, port, got, want)
				}
			}
			for i := 1; i < len(ports); i++ {
				if int(ports[i-1].Last)+1 >= int(ports[i].First) {
					t.Fatalf("%s, %s: %v has no gap", services, protocol, ports)
				}
			}
		}
	}
}

func FuzzParseService(f *testing.F) {
	for _, text := range []string{"tcp/443", "tcp+udp/1-2,5", "https", "icmp", "any", "udp/", "+/-,"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		services, err := ParseService(text, lookup)
		if err != nil {
			return
		}
		again, err := ParseService(strings.ReplaceAll(services[0].String(), " ", ""), lookup)
		if err != nil || again[0] != services[0] {
			t.Errorf("%q is %s, which reads as %s, %v", text, services, again, err)
		}
	})
}

func FuzzParseRange(f *testing.F) {
	for _, text := range []string{"10.0.0.1", "10.0.0.0/8", "10.0.0.1-10.0.0.9", "fd00::/8", "::-::ffff", "1.2.3.4-"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		r, err := ParseRange(text)
		if err != nil {
			return
		}
		if again, err := ParseRange(r.String()); err != nil || again != r {
			t.Errorf("%q is %s, which reads as %v, %v", text, r, again, err)
		}
	})
}

// What is left of a long set as it was takes no memory of its own.
func TestWhatStaysIsShared(t *testing.T) {
	var ranges []Range
	for i := range 200 {
		a := netip.AddrFrom4([4]byte{10, 0, byte(i), 7})
		ranges = append(ranges, Range{First: a, Last: a})
	}
	set := AddressesOf(ranges...)
	ten := AddressesOfPrefixes(netip.MustParsePrefix("10.0.0.0/8"))
	middle := AddressesOfPrefixes(netip.MustParsePrefix("10.0.64.0/18"))
	elsewhere := Single(netip.MustParseAddr("10.0.3.9"))
	for name, cut := range map[string]func() Addresses{
		"within":  func() Addresses { return set.Intersect(ten) },
		"around":  func() Addresses { return ten.Intersect(set) },
		"middle":  func() Addresses { return set.Intersect(middle) },
		"without": func() Addresses { return set.Minus(elsewhere) },
	} {
		if taken := testing.AllocsPerRun(10, func() { cut() }); taken > 0 {
			t.Errorf("%s: %v times memory was taken", name, taken)
		}
	}
	part := set.Intersect(middle)
	if _ = append(part.Ranges(), ranges[0]); set.Ranges()[128] != ranges[128] {
		t.Error("who adds to a part changes the whole")
	}
}

func TestWordsThatPeopleUseLeadToRegisteredNames(t *testing.T) {
	for _, word := range CalledServices() {
		if _, found, _ := NamedService(word); found {
			t.Errorf("%s is registered itself", word)
		}
		if _, found, err := NamedService(RegisteredName(strings.ToUpper(word))); !found || err != nil {
			t.Errorf("%s leads to %q: %v", word, RegisteredName(word), err)
		}
	}
	if RegisteredName("https") != "" || RegisteredName("nothing") != "" {
		t.Error("other words lead somewhere")
	}
}
