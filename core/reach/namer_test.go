package reach_test

import (
	"math/rand/v2"
	"net/netip"
	"os"
	"strings"
	"testing"

	"hollowbridge/core/header"
	"hollowbridge/core/reach"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/netfile/netfiletest"
)

// meanings returns the sets that a text of Who can stand for, as a reader takes it. A
// name may be a zone's and that of the one segment there is of it.
func meanings(t *testing.T, m *reach.Namer, text string, families header.Addresses) []header.Addresses {
	t.Helper()
	rest, everybody := strings.CutPrefix(text, "everybody")
	if !everybody {
		return namesListed(t, m, text, families)
	}
	found := []header.Addresses{m.Everybody().Intersect(families)}
	rest, beyond, more := strings.Cut(rest, ", and ")
	if missing, except := strings.CutPrefix(rest, " except "); except {
		found = each(found, namesListed(t, m, missing, families), header.Addresses.Minus)
	}
	if more {
		found = each(found, namesListed(t, m, beyond, families), header.Addresses.Union)
	}
	return found
}

func namesListed(t *testing.T, m *reach.Namer, text string, families header.Addresses) []header.Addresses {
	t.Helper()
	found := []header.Addresses{{}}
	for item := range strings.SplitSeq(text, ", ") {
		name, but, except := strings.Cut(item, " except ")
		sets := called(t, m, name, families)
		if except {
			for other := range strings.SplitSeq(but, " and ") {
				sets = each(sets, called(t, m, other, families), header.Addresses.Minus)
			}
		}
		found = each(found, sets, header.Addresses.Union)
	}
	return found
}

func called(t *testing.T, m *reach.Namer, name string, families header.Addresses) []header.Addresses {
	t.Helper()
	var found []header.Addresses
	for _, n := range m.Names() {
		if n.Name() == name {
			found = append(found, n.Set().Intersect(families))
		}
	}
	for _, h := range m.Hosts() {
		if h.Name() == name {
			return append(found, h.Set().Intersect(families))
		}
	}
	if len(found) > 0 {
		return found
	}
	first, last, isRange := strings.Cut(name, "-")
	if !isRange {
		last = first
		if p, err := netip.ParsePrefix(first); err == nil {
			return []header.Addresses{header.AddressesOfPrefixes(p)}
		}
	}
	a, errFirst := netip.ParseAddr(first)
	b, errLast := netip.ParseAddr(last)
	if errFirst != nil || errLast != nil {
		t.Fatalf("%q is no name and no range", name)
	}
	return []header.Addresses{header.AddressesOf(header.Range{First: a, Last: b})}
}

// each combines every set of one list with every set of another.
func each(a, b []header.Addresses, combine func(x, y header.Addresses) header.Addresses) []header.Addresses {
	var found []header.Addresses
	for _, x := range a {
		for _, y := range b {
			found = append(found, combine(x, y))
		}
	}
	return found
}

// What Who says of a set of sources is that set, read back name by name.
func TestNamesSayWhatTheSetIs(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes many networks")
	}
	texts := []string{}
	for seed := range uint64(120) {
		texts = append(texts, gen.Small(seed))
	}
	demo, err := os.ReadFile("../../examples/fernhollow/hollowbridge.yaml")
	if err != nil {
		t.Fatal(err)
	}
	texts = append(texts, strings.Replace(string(demo), "{file: fronts.txt}", "[203.0.113.16/30]", 1))
	said := map[string]int{}
	for seed, text := range texts {
		n := netfiletest.Parse(t, text)
		random := rand.New(rand.NewPCG(uint64(seed), 19))
		m := reach.NewNamer(n)
		for range 60 {
			set := randomSet(m, random).Minus(m.Unused())
			if set.Empty() {
				continue
			}
			families := reach.FamiliesOf(set)
			who := m.Name(set)
			if strings.Contains(who, "more ranges") || strings.Contains(who, "more names") {
				continue
			}
			count(said, who)
			same := false
			for _, meaning := range meanings(t, m, who, families) {
				same = same || meaning.Minus(m.Unused()).Equal(set)
			}
			if !same {
				t.Fatalf("network %d: %s is called %q", seed, set, who)
			}
		}
	}
	for _, form := range []string{"everybody", "except", "and", "-"} {
		if said[form] == 0 {
			t.Errorf("no set was called with %q: %v", form, said)
		}
	}
}

func count(said map[string]int, who string) {
	for _, form := range []string{"everybody", "except", ", and ", "-"} {
		if strings.Contains(who, form) {
			said[strings.Trim(form, ", ")]++
		}
	}
}

// randomSet puts names, ranges and the internet together, and takes some away.
func randomSet(m *reach.Namer, random *rand.Rand) header.Addresses {
	piece := func() header.Addresses {
		switch random.IntN(4) {
		case 0:
			a := netip.AddrFrom4([4]byte{10, 1, byte(random.IntN(3)), byte(random.IntN(16))})
			return header.AddressesOf(header.Range{First: a, Last: a.Next()})
		case 1:
			for _, h := range m.Hosts() {
				return h.Set()
			}
		}
		return m.Names()[random.IntN(len(m.Names()))].Set()
	}
	var set header.Addresses
	if random.IntN(3) == 0 {
		set = m.Everybody()
	}
	for range 1 + random.IntN(3) {
		set = set.Union(piece())
	}
	for range random.IntN(2) {
		set = set.Minus(piece())
	}
	if random.IntN(2) == 0 {
		set = set.Intersect(header.Families[random.IntN(3)/2].All())
	}
	return set
}

// A name stands for the same set as the word in a network file does.
func TestNamesAreThoseOfTheFile(t *testing.T) {
	for seed := range uint64(60) {
		n := netfiletest.Parse(t, gen.Small(seed))
		m := reach.NewNamer(n)
		for _, name := range m.Names() {
			if on, is := strings.CutPrefix(name.Name(), "machines on "); is {
				found := false
				for _, s := range n.Segments {
					found = found || s.Name == on && s.Addresses().Minus(m.Unused()).Equal(name.Set())
				}
				if !found {
					t.Errorf("seed %d: %s is %s", seed, name.Name(), name.Set())
				}
				continue
			}
			if of, is := strings.CutPrefix(name.Name(), "VPN clients of "); is {
				gateway, own, _ := strings.Cut(of, ":")
				if i := n.Gateway(gateway).Interface(own); !header.AddressesOfPrefixes(i.Clients...).Minus(m.Unused()).Equal(name.Set()) {
					t.Errorf("seed %d: %s is %s", seed, name.Name(), name.Set())
				}
				continue
			}
			word, err := netfile.ParseExpression(n, name.Name())
			if err != nil {
				t.Fatalf("seed %d: %v", seed, err)
			}
			if all := word.Addresses().Minus(m.Unused()); !name.Set().Minus(all).Empty() {
				t.Errorf("seed %d: %s is %s, which the word does not mean: %s", seed, name.Name(), name.Set(), all)
			}
		}
	}
}

// What stands in front of a set of sources in reach is read by people: the demo's own
// names come first, ranges last.
func TestNamesOfTheDemo(t *testing.T) {
	data, err := os.ReadFile("../../examples/fernhollow/hollowbridge.yaml")
	if err != nil {
		t.Fatal(err)
	}
	n := netfiletest.Parse(t, strings.Replace(string(data), "{file: fronts.txt}", "[203.0.113.16/30]", 1))
	m := reach.NewNamer(n)
	for text, want := range map[string]string{
		"internet":                          "everybody",
		"internet except fronts":            "everybody except fronts",
		"[internet, vpn-pool]":              "everybody, and vpn-pool",
		"[remote-observers, archive]":       "remote-observers, archive",
		"visitors except lapsed-passes":     "visitors except lapsed-passes",
		"10.61.24.5":                        "archive",
		"[10.61.24.5, 10.61.24.9]":          "archive, 10.61.24.9",
		"[10.61.9.1-10.61.9.9, night-desk]": "night-desk, 10.61.9.1-10.61.9.9",
	} {
		e, err := netfile.ParseExpression(n, text)
		if err != nil {
			t.Fatal(err)
		}
		if got := m.Name(e.Addresses().Minus(m.Unused()).Intersect(header.IPv4.All())); got != want {
			t.Errorf("%s is called %q, want %q", text, got, want)
		}
	}
}

// The share of the internet decides whether something is open at large.
func TestOpenIsMoreThanHalfOfTheInternet(t *testing.T) {
	n := netfiletest.Parse(t, gen.Small(1))
	m := reach.NewNamer(n)
	half := header.AddressesOfPrefixes(netip.MustParsePrefix("0.0.0.0/1"))
	for _, c := range []struct {
		set  header.Addresses
		want bool
	}{
		{n.Internet(), true}, {header.Addresses{}, false}, {header.Single(netip.MustParseAddr("192.0.2.1")), false},
		{n.Internet().Minus(half).Union(header.AddressesOfPrefixes(netip.MustParsePrefix("10.0.0.0/8"))).Intersect(header.IPv4.All()), false},
		{n.Internet().Minus(header.AddressesOfPrefixes(netip.MustParsePrefix("203.0.113.0/24"))), true},
	} {
		if got := m.Open(c.set); got != c.want {
			t.Errorf("%s is open: %v", c.set, got)
		}
	}
}

// A name costs no more than the names and ranges there are, however wide the ranges: widths are just below, at and above
// every power of two, from an address at the end of a block.
func TestNamingLooksAtFewAddresses(t *testing.T) {
	m := reach.NewNamer(netfiletest.Parse(t, gen.Small(3)))
	for _, start := range []string{"2001:db8:f0:ffff:ffff:ffff:ffff:fffe", "fd00::1", "9.255.255.254"} {
		first := netip.MustParseAddr(start)
		for bit := range first.BitLen() - 8 {
			bytes := first.As16()
			for i, carry := 15-bit/8, 1<<(bit%8); carry > 0 && i > 0; i, carry = i-1, carry>>8 {
				carry += int(bytes[i])
				bytes[i] = byte(carry)
			}
			last := netip.AddrFrom16(bytes)
			if first.Is4() {
				last = last.Unmap()
			}
			for _, end := range []netip.Addr{last.Prev(), last, last.Next()} {
				if end.Less(first) {
					continue
				}
				before := m.Looked()
				name := m.Name(header.AddressesOf(header.Range{First: first, Last: end}))
				if looked := m.Looked() - before; looked > 200 {
					t.Errorf("%s-%s is called %q after a look at %d addresses and names", first, end, name, looked)
				}
			}
		}
	}
}
