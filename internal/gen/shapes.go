package gen

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
)

// A Shape is large networks of one kind: with about so many NAT rules and as many filter rules, which are
// named r0, r1 and so on.
type Shape struct {
	Name string
	make func(s *shaper, rules int)
}

// Shapes returns the kinds of large networks that speed is measured on.
func Shapes() []Shape {
	return []Shape{
		{"ports of one host", portsOfOneHost},
		{"one port at many addresses", onePort},
		{"101 gateways", manyGateways},
		{"single addresses", singleAddresses},
		{"groups", groupsOfAddresses},
		{"hours and firewalls", hours},
		{"one-to-one and prefixes", prefixes},
		{"IPv6", ipv6},
		{"by source", bySource},
		{"ranges of ports", rangesOfPorts},
		{"31 zones", zones},
		{"campus", campus},
	}
}

// Network returns a network file of the shape.
func (s Shape) Network(rules int) string {
	made := shaper{random: random{rand.New(rand.NewPCG(uint64(rules), 0x9b05688c2b3e6c1f))}}
	s.make(&made, rules)
	var b strings.Builder
	b.WriteString("network: large\n")
	for _, part := range []struct {
		key  string
		text *strings.Builder
	}{{"groups", &made.groups}, {"hosts", &made.hosts}, {"gateways", &made.gateways}} {
		if part.text.Len() > 0 {
			b.WriteString(part.key + ":\n" + part.text.String())
		}
	}
	return b.String()
}

// A shaper collects what a network of a shape has.
type shaper struct {
	random
	groups, hosts, gateways strings.Builder
	filtered                int // rules of filters so far
}

func (s *shaper) group(name string, members ...string) {
	fmt.Fprintf(&s.groups, "  %s: [%s]\n", name, strings.Join(members, ", "))
}

func (s *shaper) host(name, address, more string) {
	fmt.Fprintf(&s.hosts, "  %s: {address: '%s'%s}\n", name, address, more)
}

// gateway begins a gateway with its interfaces, in the words of the file.
func (s *shaper) gateway(name string, interfaces ...string) {
	fmt.Fprintf(&s.gateways, "  %s:\n    interfaces:\n      %s\n", name, strings.Join(interfaces, "\n      "))
}

// list begins a list of the gateway: nat or filter.
func (s *shaper) list(key string) { fmt.Fprintf(&s.gateways, "    %s:\n", key) }

// rule puts a rule in the list: kind and name, and what else it says.
func (s *shaper) rule(format string, args ...any) {
	fmt.Fprintf(&s.gateways, "      - {%s}\n", fmt.Sprintf(format, args...))
}

// filter puts a rule in the filter.
func (s *shaper) filter(verdict, format string, args ...any) {
	s.rule("%s: r%d, %s", verdict, s.filtered, fmt.Sprintf(format, args...))
	s.filtered++
}

// edge begins a gateway between the internet and a yard.
func (s *shaper) edge() {
	s.gateway("rim", "fibre: {address: [198.18.0.2/15, '2001:db8::2/48'], zone: outside}", "yard: {address: [10.0.0.1/8, '2001:db8:1::1/48'], zone: yard}")
	s.gateways.WriteString("    routes: [{to: default, via: 198.18.0.1}, {to: default, via: '2001:db8::1'}]\n")
}

// somewhere returns a prefix of the internet.
func (s *shaper) somewhere(bits int) string {
	a := netip.AddrFrom4([4]byte{byte(20 + s.IntN(100)), byte(s.IntN(256)), byte(s.IntN(256)), byte(1 + s.IntN(254))})
	return netip.PrefixFrom(a, bits).Masked().String()
}

// inside and outside return one of many addresses, by number.
func inside(i int) string  { return fmt.Sprintf("10.%d.%d.%d", 1+i/50_000, i/250%200, 2+i%250) }
func outside(i int) string { return fmt.Sprintf("198.18.%d.%d", 1+i/250%250, 2+i%250) }

func verdictOf(s *shaper) string { return pick(s.random, []string{"allow", "allow", "allow", "drop"}) }

func portsOfOneHost(s *shaper, rules int) {
	s.host("archive", inside(0), ", serves: [tcp, udp]")
	s.edge()
	s.list("nat")
	for i := range rules {
		s.rule("port-forward: f%d, on: fibre, at: %s, service: tcp/%d, to: '%s:%d'", i, outside(i/50_000), 1000+i%50_000, inside(0), 1000+i%50_000)
	}
	s.list("filter")
	for i := range rules {
		s.filter(verdictOf(s), "from: %s, to: %s, service: tcp/%d", s.somewhere(16), inside(0), 1000+i%50_000)
	}
}

func onePort(s *shaper, rules int) {
	for i := range rules {
		s.host(fmt.Sprint("h", i), inside(i), ", serves: [https]")
	}
	s.edge()
	s.list("nat")
	for i := range rules {
		s.rule("port-forward: f%d, on: fibre, at: %s, service: https, to: %s", i, outside(i), inside(i))
	}
	s.list("filter")
	for i := range rules {
		s.filter(verdictOf(s), "from: %s, to: %s, service: https", s.somewhere(24), inside(i))
	}
}

func manyGateways(s *shaper, rules int) {
	const gateways = 101
	each := max(1, rules/gateways)
	for g := range gateways {
		for i := range min(each, 50) {
			s.host(fmt.Sprintf("h%d-%d", g, i), fmt.Sprintf("10.%d.1.%d", g, 2+i), ", serves: [https, ssh]")
		}
		s.gateway(fmt.Sprint("rim", g), fmt.Sprintf("fibre: {address: 198.18.%d.2/24, zone: outside}", g), fmt.Sprintf("yard: {address: 10.%d.0.1/16, zone: yard}", g))
		fmt.Fprintf(&s.gateways, "    routes: [{to: default, via: 198.18.%d.1}]\n", g)
		s.list("nat")
		for i := range each {
			s.rule("port-forward: f%d, on: fibre, service: tcp/%d, to: '10.%d.1.%d:%s'", i, 2000+i, g, 2+i%50, pick(s.random, []string{"443", "22"}))
		}
		s.list("filter")
		for range each {
			s.filter(verdictOf(s), "from: %s, to: 10.%d.1.%d, service: %s", s.somewhere(20), g, 2+s.IntN(50), pick(s.random, []string{"https", "ssh"}))
		}
	}
}

func singleAddresses(s *shaper, rules int) {
	s.host("archive", inside(0), ", serves: [tcp]")
	s.edge()
	s.list("nat")
	for i := range rules {
		s.rule("port-forward: f%d, on: fibre, at: %s, service: tcp/%d, to: '%s:443'", i, outside(i/100), 2000+i%100, inside(0))
	}
	s.list("filter")
	for range rules {
		s.filter("drop", "from: %s, to: yard", s.somewhere(32))
	}
	s.filter("allow", "from: outside, to: yard")
}

func groupsOfAddresses(s *shaper, rules int) {
	const hosts = 2000
	for g := range 200 {
		var members []string
		for range 30 {
			members = append(members, s.somewhere(32))
		}
		s.group(fmt.Sprint("g", g), members...)
	}
	for i := range hosts {
		s.host(fmt.Sprint("h", i), inside(i), ", serves: [https, ssh, smtp]")
	}
	services := []string{"https", "ssh", "smtp"}
	s.edge()
	s.list("nat")
	for i := range rules {
		s.rule("port-forward: f%d, on: fibre, at: %s, from: g%d, service: %s, to: %s", i, outside(i/3), s.IntN(200), services[i%3], inside(s.IntN(hosts)))
	}
	s.list("filter")
	for range rules {
		s.filter(verdictOf(s), "from: g%d, to: h%d, service: %s", s.IntN(200), s.IntN(hosts), pick(s.random, services))
	}
}

func hours(s *shaper, rules int) {
	for i := range rules {
		s.host(fmt.Sprint("h", i), inside(i), fmt.Sprintf(", serves: [https], firewall: [{allow: https, from: %s}, {drop: any, from: %s}, {allow: any}]", s.somewhere(8), s.somewhere(12)))
	}
	when := func() string {
		return fmt.Sprintf("when: {days: %s, hours: '%02d:00-%02d:00'}", pick(s.random, []string{"mon-fri", "'sat,sun'", "tue"}), s.IntN(12), 12+s.IntN(12))
	}
	s.edge()
	s.list("nat")
	for i := range rules {
		s.rule("port-forward: f%d, on: fibre, at: %s, service: tcp/%d, to: '%s:443', %s", i, outside(i/8), 2000+i%8, inside(i), when())
	}
	s.list("filter")
	for i := range rules {
		s.filter(verdictOf(s), "from: %s, to: %s, service: https, %s", s.somewhere(4), inside(i), when())
	}
}

func prefixes(s *shaper, rules int) {
	for i := range rules {
		s.host(fmt.Sprint("h", i), inside(i), ", serves: [tcp]")
	}
	s.edge()
	s.list("nat")
	for i := range rules {
		s.rule("one-to-one: o%d, on: fibre, outside: %s, inside: %s", i, outside(i), inside(i))
	}
	s.list("filter")
	for range rules {
		first := 1 + s.IntN(60_000)
		s.filter(verdictOf(s), "from: %s, to: 10.1.%d.%d/%d, service: tcp/%d-%d", s.somewhere(12+s.IntN(13)), s.IntN(200), s.IntN(8)*32, 27, first, first+s.IntN(2000))
	}
}

func ipv6(s *shaper, rules int) {
	at := func(i int) string { return fmt.Sprintf("2001:db8:1::%x:%x", 1+i>>12, 1+i&0xfff) }
	for i := range rules {
		s.host(fmt.Sprint("h", i), at(i), ", serves: [https, ssh]")
	}
	s.edge()
	s.list("nat")
	for i := range rules {
		s.rule("destination-nat: d%d, on: fibre, at: '2001:db8::%x:%x', service: https, to: '%s'", i, 16+i>>12, i&0xfff, at(i))
	}
	s.list("filter")
	for i := range rules {
		s.filter(verdictOf(s), "from: '2a%02x:%x::/32', to: '%s', service: %s", s.IntN(256), s.IntN(0xffff), at(i), pick(s.random, []string{"https", "ssh"}))
	}
}

func bySource(s *shaper, rules int) {
	for i := range 300 {
		s.host(fmt.Sprint("h", i), inside(i), ", serves: [https]")
	}
	s.edge()
	s.list("nat")
	for i := range rules / 2 {
		s.rule("destination-nat: d%d, on: fibre, from: %s, at: %s, service: https, to: %s", i, s.somewhere(20), outside(s.IntN(100)), inside(s.IntN(300)))
	}
	for i := range rules / 2 {
		s.rule("source-nat: s%d, on: fibre, from: 10.%d.%d.%d/29, as: %s", i, 1+s.IntN(4), s.IntN(250), s.IntN(32)*8, outside(i))
	}
	s.list("filter")
	for range rules {
		s.filter(verdictOf(s), "from: %s, to: %s, service: https", s.somewhere(18), inside(s.IntN(300)))
	}
}

func rangesOfPorts(s *shaper, rules int) {
	for i := range 300 {
		s.host(fmt.Sprint("h", i), inside(i), ", serves: [tcp]")
	}
	s.edge()
	s.list("nat")
	for i := range rules {
		first := 1000 + i%50*1000
		s.rule("port-forward: f%d, on: fibre, at: %s, service: tcp/%d-%d, to: '%s:%d-%d'", i, outside(i/50), first, first+999, inside(i%300), first, first+999)
	}
	s.list("filter")
	for i := range rules {
		first := 1 + s.IntN(50_000)
		s.filter(verdictOf(s), "from: %s, to: %s, service: tcp/%d-%d", s.somewhere(8+s.IntN(9)), inside(i%300), first, first+s.IntN(10_000))
	}
}

func zones(s *shaper, rules int) {
	const zones = 30
	at := func(zone, i int) string { return fmt.Sprintf("10.%d.%d.%d", zone, i/250, 2+i%250) }
	each := max(1, rules/zones)
	interfaces := []string{"fibre: {address: 198.18.0.2/15, zone: outside}"}
	for zone := range zones {
		for i := range each {
			s.host(fmt.Sprintf("h%d-%d", zone, i), at(zone, i), ", serves: [https, ssh]")
		}
		interfaces = append(interfaces, fmt.Sprintf("z%d: {address: 10.%d.255.1/16, zone: z%d}", zone, zone, zone))
	}
	s.gateway("rim", interfaces...)
	s.gateways.WriteString("    routes: [{to: default, via: 198.18.0.1}]\n")
	s.list("nat")
	for i := range rules {
		zone := s.IntN(zones)
		s.rule("port-forward: f%d, on: fibre, at: %s, service: tcp/%d, to: '%s:%s'", i, outside(i/8), 2000+i%8, at(zone, s.IntN(each)), pick(s.random, []string{"443", "22"}))
	}
	s.list("filter")
	for range rules {
		from, to := s.IntN(zones+1), s.IntN(zones)
		source := s.somewhere(16)
		if from < zones {
			source = fmt.Sprintf("10.%d.%d.0/24", from, s.IntN(each/250+1))
		}
		s.filter(verdictOf(s), "from: %s, to: %s, service: %s", source, at(to, s.IntN(each)), pick(s.random, []string{"https", "ssh", "any"}))
	}
}

// campus has groups of machines from all over its zones, and groups of groups.
func campus(s *shaper, rules int) {
	const zones = 60
	at := func(zone, i int) string { return fmt.Sprintf("10.%d.%d.%d", zone, i/250, 2+i%250) }
	each := max(1, rules/5/zones)
	interfaces := []string{"fibre: {address: 198.18.0.2/15, zone: outside}"}
	for zone := range zones {
		for i := range each {
			s.host(fmt.Sprintf("h%d-%d", zone, i), at(zone, i), ", serves: [https, ssh, smtp]")
		}
		interfaces = append(interfaces, fmt.Sprintf("z%d: {address: 10.%d.255.1/16, zone: z%d}", zone, zone, zone))
	}
	const groups, nested = 200, 60
	for g := range groups {
		var members []string
		for range 5 + s.IntN(30) {
			members = append(members, at(s.IntN(zones), s.IntN(each)))
		}
		s.group(fmt.Sprint("g", g), members...)
	}
	for n := range nested {
		var members []string
		for range 2 + s.IntN(6) {
			members = append(members, fmt.Sprint("g", s.IntN(groups)))
		}
		s.group(fmt.Sprint("n", n), members...)
	}
	some := func() string {
		switch s.IntN(5) {
		case 0:
			return fmt.Sprint("z", s.IntN(zones))
		case 1:
			return fmt.Sprint("n", s.IntN(nested))
		case 2:
			return at(s.IntN(zones), s.IntN(each))
		}
		return fmt.Sprint("g", s.IntN(groups))
	}
	s.gateway("rim", interfaces...)
	s.gateways.WriteString("    routes: [{to: default, via: 198.18.0.1}]\n")
	s.list("nat")
	for i := range rules / 10 {
		s.rule("port-forward: f%d, on: fibre, at: %s, service: tcp/%d, to: '%s:%s'", i, outside(i/8), 2000+i%8, at(s.IntN(zones), s.IntN(each)), pick(s.random, []string{"443", "22"}))
	}
	s.list("filter")
	for range rules {
		from := some()
		if s.chance(5) {
			from = "outside"
		}
		s.filter(verdictOf(s), "from: %s, to: %s, service: %s", from, some(), pick(s.random, []string{"https", "ssh", "smtp", "any"}))
	}
}
