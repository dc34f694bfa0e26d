package gen

import (
	"fmt"
	"net/netip"
	"slices"
)

// Sites returns a network file of two to four gateways that have an uplink or two each, written like Small from a
// seed. Uplinks share prefixes and segments, lie in each other's, or have addresses that the internet does not carry; gateways
// know ways to each other's uplinks, and machines live beside them.
func Sites(seed uint64) string {
	g := newSmall(seed + 1<<40)
	g.sites()
	g.write()
	return g.text.String()
}

// Mixed returns the network of Small for seven of eight seeds, and of Sites for the eighth.
func Mixed(seed uint64) string {
	if seed%8 == 7 {
		return Sites(seed)
	}
	return Small(seed)
}

// A siteUplink is what an uplink may be.
type siteUplink struct{ address, via, prefix, wire string }

var siteUplinks = []siteUplink{
	{"198.51.100.2/29", "198.51.100.1", "198.51.100.0/29", "exchange"},
	{"198.51.100.3/29", "198.51.100.1", "198.51.100.0/29", "exchange"},
	{"198.51.100.2/29", "198.51.100.1", "198.51.100.0/29", ""},
	{"198.51.100.10/29", "198.51.100.9", "198.51.100.8/29", ""},
	{"198.51.100.34/29", "198.51.100.33", "198.51.100.32/29", ""},
	{"198.51.100.20/25", "198.51.100.19", "198.51.100.0/25", ""},
	{"203.0.113.66/29", "203.0.113.65", "203.0.113.64/29", ""},
	{"203.0.113.130/24", "203.0.113.129", "203.0.113.0/24", ""},
	{"192.168.7.2/29", "192.168.7.1", "192.168.7.0/29", ""},
	{"100.64.7.2/29", "100.64.7.1", "100.64.7.0/29", ""},
}

// sites decides who is where.
func (g *small) sites() {
	left := slices.Clone(siteUplinks)
	if g.chance(2) { // two segments of one prefix, else one that two share
		left = append(left[:1:1], left[2:]...)
	} else {
		left = append(left[:2:2], left[3:]...)
	}
	g.zones = zoneNames
	var taken []siteUplink
	for n := range 2 + g.IntN(3) {
		gw := &smallGateway{name: []string{"rim", "keep", "mill", "barn"}[n]}
		for k, name := range []string{"fibre", "radio"}[:1+g.IntN(2)] {
			at := g.IntN(len(left))
			up := left[at]
			if k > 0 && up.overlaps(taken[len(taken)-1]) { // of one gateway they must not
				continue
			}
			left = slices.Delete(left, at, at+1)
			taken = append(taken, up)
			i := smallInterface{name: name, zone: "outside", addresses: []string{up.address}, wire: up.wire, uplink: true, segment: -1}
			if k == 0 && g.chance(2) {
				i.sent = fmt.Sprintf("192.0.2.%d", 200+n)
			}
			gw.routes = append(gw.routes, fmt.Sprintf("{to: default, via: %s, distance: %d}", up.via, 1+10*k))
			if g.chance(2) {
				number := 1 + len(taken)
				if up.wire != "" {
					number = 1
				}
				i.addresses = append(i.addresses, fmt.Sprintf("2001:db8:%d::%d/64", number, 1+len(taken)))
				gw.routes = append(gw.routes, fmt.Sprintf("{to: default, via: 'fe80::1%%%s', distance: %d}", name, 1+10*k))
			}
			gw.interfaces = append(gw.interfaces, i)
		}
		if n > 0 && g.chance(2) { // a link of their own
			other := pick(g.random, g.gateways)
			for end, at := range []*smallGateway{other, gw} {
				at.interfaces = append(at.interfaces, smallInterface{name: fmt.Sprintf("link%d", n), zone: g.insideZone(), addresses: []string{fmt.Sprintf("10.2.%d.%d/29", n, 1+end)}, segment: -1})
				for _, to := range some(g.random, append([]string{"10.1.0.0/28", "192.0.2.96/28"}, prefixesOf(taken)...), 3) {
					at.routes = append(at.routes, fmt.Sprintf("{to: %s, via: 10.2.%d.%d}", to, n, 2-end))
				}
			}
		}
		g.addInside(gw)
		g.gateways = append(g.gateways, gw)
	}
	g.addHosts()
	for i, address := range some(g.random, []string{"198.51.100.4", "198.51.100.12", "203.0.113.68", "203.0.113.133"}, 2) {
		g.hosts = append(g.hosts, smallHost{name: fmt.Sprintf("beside%d", i), segment: -1, addresses: []string{address}})
	}
}

func (u siteUplink) overlaps(other siteUplink) bool {
	return netip.MustParsePrefix(u.prefix).Overlaps(netip.MustParsePrefix(other.prefix))
}

func prefixesOf(list []siteUplink) (prefixes []string) {
	for _, up := range list {
		prefixes = append(prefixes, up.prefix)
	}
	return prefixes
}
