// Package gen writes network files from a seed: small ones that use everything
// the file can say, for comparing implementations, and large ones for measuring.
package gen

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
)

// Small returns a network file of one to four gateways. The same seed gives the
// same file. Addresses are drawn from a few small prefixes, so that rules overlap
// and connections meet them.
func Small(seed uint64) string {
	g := newSmall(seed)
	g.layout()
	g.write()
	return g.text.String()
}

func newSmall(seed uint64) *small {
	return &small{shared: map[int][]string{}, prefixes: map[int]int{}, twice: map[int]bool{}, random: random{rand.New(rand.NewPCG(seed, 0x6a09e667f3bcc909))}, aside: random{rand.New(rand.NewPCG(seed, 0xbb67ae8584caa73b))}}
}

type random struct{ *rand.Rand }

// chance reports true once in n times.
func (r random) chance(n int) bool { return r.IntN(n) == 0 }

func pick[T any](r random, list []T) T { return list[r.IntN(len(list))] }

// some returns one to most of the list, in order, without repeats.
func some[T any](r random, list []T, most int) []T {
	want := 1 + r.IntN(min(most, len(list)))
	var found []T
	for i, item := range list {
		if r.IntN(len(list)-i) < want-len(found) {
			found = append(found, item)
		}
	}
	return found
}

type small struct {
	aside random // for what came later, so that networks stay what they were but for that
	random
	text     strings.Builder
	gateways []*smallGateway
	segments int
	behind   []smallRouter
	hosts    []smallHost
	groups   []string
	zones    []string
	shared   map[int][]string // further gateways on inside segments
	prefixes map[int]int      // of inside segments, the number in their prefixes, where that is another's
	twice    map[int]bool     // inside segments with a second prefix
	atoms    []string         // what address expressions are made of
}

// A smallRouter is an inside router without a name, and a gateway that leads there.
type smallRouter struct {
	gateway, address string
	linked           bool // a part of what it is for is on its segment itself
}

type smallGateway struct {
	name       string
	interfaces []smallInterface
	routes     []string
}

type smallInterface struct {
	name, zone string
	addresses  []string
	wire       string // the name of its segment, where that has one
	uplink     bool
	sent       string // an outside address that the provider sends here, which a rule uses, or ""
	trunk      string // the interface that carries it, for a VLAN
	segment    int    // number of an inside segment, or -1
}

type smallHost struct {
	name      string
	addresses []string
	segment   int
}

var (
	smallServices = []string{"http", "https", "tcp/22", "udp/53", "tcp/8080-8089", "udp/5000-5009", "icmp", "tcp+udp/37020", "both", "gre"}
	zoneNames     = []string{"outside", "yard", "staff", "domes", "visitors"}
)

// layout decides who is where: the first gateway has the uplinks, every other
// hangs below an earlier one by a link of its own.
func (g *small) layout() {
	g.zones = zoneNames
	edge := &smallGateway{name: "rim"}
	fibre := smallInterface{name: "fibre", zone: "outside", addresses: []string{"198.51.100.2/29", "2001:db8:1::2/64"}, uplink: true, segment: -1}
	if g.chance(4) {
		fibre.addresses = append(fibre.addresses, "198.51.100.3/29")
	}
	edge.interfaces = append(edge.interfaces, fibre)
	edge.routes = append(edge.routes, pick(g.random, []string{"{to: default, via: 198.51.100.1}", "{to: default, via: 198.51.100.1}", "{to: default, via: fibre}"}),
		pick(g.random, []string{"{to: default, via: 2001:db8:1::1}", "{to: default, via: 'fe80::1%fibre'}"}))
	if g.chance(3) {
		radio := smallInterface{name: "radio", zone: pick(g.random, []string{"outside", "visitors"}), addresses: []string{pick(g.random, []string{"100.64.7.2/29", "203.0.113.66/29", "192.168.7.2/29"})}, uplink: true, segment: -1}
		edge.interfaces = append(edge.interfaces, radio)
		via := map[string]string{"100.64.7.2/29": "100.64.7.1", "203.0.113.66/29": "203.0.113.65", "192.168.7.2/29": "192.168.7.1"}[radio.addresses[0]]
		edge.routes = append(edge.routes, fmt.Sprintf("{to: default, via: %s, distance: %d}", via, pick(g.random, []int{1, 10})))
	}
	g.gateways = append(g.gateways, edge)
	g.addInside(edge)
	for i := 1; i < 1+g.IntN(4); i++ {
		parent := pick(g.random, g.gateways)
		child := &smallGateway{name: []string{"", "keep", "mill", "barn"}[i]}
		up, down := fmt.Sprintf("10.2.%d.1", i), fmt.Sprintf("10.2.%d.2", i)
		parent.interfaces = append(parent.interfaces, smallInterface{name: fmt.Sprintf("link%d", i), zone: g.insideZone(), addresses: []string{up + "/29", fmt.Sprintf("fd00:2:%d::1/64", i)}, segment: -1})
		child.interfaces = append(child.interfaces, smallInterface{name: "up", zone: g.insideZone(), addresses: []string{down + "/29", fmt.Sprintf("fd00:2:%d::2/64", i)}, segment: -1})
		g.gateways = append(g.gateways, child)
		if g.chance(3) { // a second gateway on a segment: its hosts must name theirs
			n := g.IntN(g.segments)
			child.interfaces = append(child.interfaces, smallInterface{name: "also", zone: g.insideZone(), segment: n, wire: g.wire(n), addresses: []string{fmt.Sprintf("10.1.%d.%d/28", g.prefix(n), []int{0, 2, 3, 9}[i])}})
			g.shared[n] = append(g.shared[n], child.name)
		}
		before := g.segments
		g.addInside(child)
		if !g.chance(6) {
			child.routes = append(child.routes, fmt.Sprintf("{to: default, via: %s}", up), fmt.Sprintf("{to: default, via: 'fd00:2:%d::1'}", i))
		}
		for s := before; s < g.segments; s++ {
			if g.chance(6) {
				continue
			}
			parent.routes = append(parent.routes, fmt.Sprintf("{to: 10.1.%d.0/28, via: %s}", g.prefix(s), down), fmt.Sprintf("{to: 'fd00:1:%d::/64', via: 'fd00:2:%d::2'}", g.prefix(s), i))
			if parent != edge && g.chance(2) {
				edge.routes = append(edge.routes, fmt.Sprintf("{to: 10.1.%d.0/28, via: %s}", g.prefix(s), g.viaFor(edge, parent)))
			}
		}
	}
	for _, gw := range g.gateways {
		g.strangeRoutes(gw)
	}
	g.addRouters()
	g.addHosts()
	if h := g.hosts[0]; g.chance(4) && strings.HasPrefix(h.addresses[0], "10.1.") { // a next hop that is a host
		gw := g.owner(h.segment)
		gw.routes = append(gw.routes, fmt.Sprintf("{to: %s/30, via: %s}", h.addresses[0], h.addresses[0]))
	}
}

// addRouters adds routes to inside routers that have no name: to prefixes of their own, and to a part of the segment they are on.
func (g *small) addRouters() {
	for _, gw := range g.gateways {
		i := pick(g.random, gw.interfaces)
		if !g.chance(3) || i.uplink || i.name == "also" || len(i.addresses) == 0 {
			continue
		}
		first, _, _ := strings.Cut(i.addresses[0], "/")
		net, hop := first[:strings.LastIndexByte(first, '.')], 6
		if i.segment >= 0 {
			hop = 13
		}
		n := len(g.behind)
		g.behind = append(g.behind, smallRouter{gw.name, fmt.Sprintf("%s.%d", net, hop), g.chance(3)})
		gw.routes = append(gw.routes, fmt.Sprintf("{to: 10.5.%d.0/24, via: %s.%d}", n, net, hop))
		if hop == 13 && len(g.shared[i.segment])+len(g.prefixes) == 0 && g.chance(3) {
			gw.routes = append(gw.routes, fmt.Sprintf("{to: %s.8/29, via: %s.%d}", net, net, hop))
		}
		if g.behind[n].linked { // on the segment, which no prefix says
			gw.routes = append(gw.routes, fmt.Sprintf("{to: 10.5.%d.128/25, via: %s}", n, i.name))
		}
		if len(i.addresses) > 1 && strings.HasPrefix(i.addresses[1], "fd") && g.chance(2) {
			gw.routes = append(gw.routes, fmt.Sprintf("{to: 'fd00:5:%d::/64', via: '%sd'}", n, strings.TrimRight(strings.TrimSuffix(i.addresses[1], "/64"), "0123456789")))
		}
		if gw != g.gateways[0] && g.chance(2) {
			g.gateways[0].routes = append(g.gateways[0].routes, fmt.Sprintf("{to: 10.5.%d.0/24, via: %s}", n, g.viaFor(g.gateways[0], gw)))
		}
	}
}

// viaFor returns the address of a child's link, or an address nobody has.
func (g *small) viaFor(from, to *smallGateway) string {
	for i, gw := range g.gateways {
		if gw == to && i > 0 {
			for _, l := range from.interfaces {
				if l.name == fmt.Sprintf("link%d", i) {
					return fmt.Sprintf("10.2.%d.2", i)
				}
			}
		}
	}
	return "198.51.100.6"
}

func (g *small) insideZone() string { return pick(g.random, zoneNames[1:]) }

func (g *small) addInside(gw *smallGateway) {
	for range 1 + g.IntN(2) {
		n := g.segments
		g.segments++
		if len(g.gateways) > 1 && g.chance(4) && len(gw.interfaces) < 3 { // the prefix of a segment elsewhere
			g.prefixes[n] = 0
		}
		i := smallInterface{name: fmt.Sprintf("in%d", n), zone: g.insideZone(), segment: n, wire: g.wire(n), addresses: []string{fmt.Sprintf("10.1.%d.1/28", g.prefix(n))}}
		if !g.chance(3) {
			i.addresses = append(i.addresses, fmt.Sprintf("fd00:1:%d::1/64", g.prefix(n)))
		}
		if g.chance(5) {
			g.twice[n] = true
			i.addresses = append(i.addresses, fmt.Sprintf("10.3.%d.1/28", n))
		}
		if g.chance(8) {
			i.trunk = fmt.Sprintf("trunk%d", n)
			gw.interfaces = append(gw.interfaces, smallInterface{name: i.trunk, zone: i.zone, segment: -1})
		}
		gw.interfaces = append(gw.interfaces, i)
	}
}

// prefix returns the number in the prefixes of an inside segment, and wire its name,
// which it has where it shares them.
func (g *small) prefix(segment int) int {
	if n, shares := g.prefixes[segment]; shares {
		return n
	}
	return segment
}

func (g *small) wire(segment int) string {
	if _, shares := g.prefixes[segment]; shares {
		return fmt.Sprintf("wire%d", segment)
	}
	return ""
}

func (g *small) strangeRoutes(gw *smallGateway) {
	to := func() string {
		return pick(g.random, []string{"10.1.0.0/16", "10.1.1.0/28", "203.0.113.0/28", "192.0.2.0/24", "10.2.0.0/16", "10.64.0.0/25"})
	}
	if g.chance(5) {
		gw.routes = append(gw.routes, fmt.Sprintf("{to: %s, blackhole: true, distance: %d}", to(), 1+g.IntN(3)))
	}
	if g.chance(4) {
		i := pick(g.random, gw.interfaces)
		if len(i.addresses) == 0 {
			return
		}
		hop, _, _ := strings.Cut(i.addresses[0], "/")
		base := 0
		if strings.HasPrefix(hop, "203.") {
			base = 64
		}
		hop = hop[:strings.LastIndexByte(hop, '.')+1] + fmt.Sprint(base+1+g.IntN(5))
		gw.routes = append(gw.routes, fmt.Sprintf("{to: %s, via: %s, distance: %d}", to(), hop, 1+g.IntN(3)))
	}
}

func (g *small) addHosts() {
	names := []string{"archive", "notice", "weather", "desk", "box"}
	for i, name := range names[:2+g.IntN(4)] {
		n := g.IntN(g.segments)
		h := smallHost{name: name, segment: n, addresses: []string{fmt.Sprintf("10.1.%d.%d", g.prefix(n), 4+i)}}
		if g.prefix(n) != n && g.chance(2) { // the same address as a host elsewhere
			h.addresses[0] = "10.1.0.4"
			for _, other := range g.hosts {
				if other.segment == n && other.addresses[0] == h.addresses[0] {
					h.addresses[0] = fmt.Sprintf("10.1.0.%d", 4+i)
				}
			}
		}
		if g.hasV6(n) && !g.chance(3) {
			h.addresses = append(h.addresses, fmt.Sprintf("fd00:1:%d::%d", g.prefix(n), 4+i))
		}
		if g.twice[n] && g.chance(2) {
			h.addresses[0] = fmt.Sprintf("10.3.%d.%d", n, 4+i)
		}
		if m := g.IntN(g.segments); g.chance(5) && m != n && g.wire(n) == "" && g.wire(m) == "" {
			h.addresses = append(h.addresses, fmt.Sprintf("10.1.%d.%d", m, 10+i))
		}
		g.hosts = append(g.hosts, h)
	}
	if len(g.behind) > 0 {
		n := g.IntN(len(g.behind))
		h := smallHost{name: "shed", segment: -1, addresses: []string{fmt.Sprintf("10.5.%d.%d", n, pick(g.random, []int{9, 200}))}}
		if g.chance(2) {
			h.addresses = append(h.addresses, fmt.Sprintf("fd00:5:%d::9", n))
		}
		g.hosts = append(g.hosts, h)
	}
	if g.chance(4) {
		g.hosts = append(g.hosts, smallHost{name: "roamer", segment: -1, addresses: []string{"10.64.0.9"}})
	}
	g.hosts = append(g.hosts, smallHost{name: "institute", segment: -1, addresses: []string{"203.0.113.4", "2001:db8:f::4"}})
	if g.chance(3) {
		g.hosts = append(g.hosts, smallHost{name: "neighbour", segment: -1, addresses: []string{"198.51.100.5"}})
	}
}

func (g *small) owner(segment int) *smallGateway {
	for _, gw := range g.gateways {
		for _, i := range gw.interfaces {
			if i.segment == segment {
				return gw
			}
		}
	}
	return nil
}

// gatewaysOf returns the gateways on the segments of a host.
func (g *small) gatewaysOf(h smallHost) []string {
	var names []string
	for n := range g.segments {
		for _, a := range h.addresses {
			on := n == h.segment || g.wire(n) == "" && g.wire(h.segment) == "" && strings.HasPrefix(a, fmt.Sprintf("10.1.%d.", n))
			if on {
				names = append(names, g.owner(n).name)
				names = append(names, g.shared[n]...)
			}
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

func (g *small) hasV6(segment int) bool {
	for _, gw := range g.gateways {
		for _, i := range gw.interfaces {
			if i.segment == segment {
				return slices.ContainsFunc(i.addresses, func(a string) bool { return strings.HasPrefix(a, "fd") })
			}
		}
	}
	return false
}

func (g *small) line(format string, args ...any) { fmt.Fprintf(&g.text, format+"\n", args...) }

func (g *small) write() {
	g.line("network: random")
	if g.chance(4) {
		g.line("timezone: UTC")
	}
	g.line("services:\n  both: [tcp/80, udp/53, icmp]")
	used := map[string]bool{}
	for _, gw := range g.gateways {
		for _, i := range gw.interfaces {
			used[i.zone] = true
		}
	}
	g.zones = nil
	for _, z := range zoneNames {
		if used[z] {
			g.zones = append(g.zones, z)
		}
	}
	g.writeGroups()
	g.atoms = append(g.atoms, g.zones...)
	g.atoms = append(g.atoms, "any", "internet", "10.1.0.0/16", "203.0.113.0/28", "192.0.2.0/25", "10.1.1.0/28", "10.1.0.3-10.1.0.9", "198.51.100.2", "'fd00:1::/32'", "'2001:db8:f::/48'", "rim:fibre", "10.64.0.0/24", "10.5.0.0/24")
	g.writeHosts()
	g.line("gateways:")
	for _, gw := range g.gateways {
		g.writeGateway(gw)
	}
}

func (g *small) writeGroups() {
	g.line("groups:")
	members := []string{"203.0.113.0/29", "203.0.113.4", "192.0.2.7", "10.1.0.0/28", "10.1.1.4-10.1.2.6", "'fd00:1:1::/64'", "'2001:db8:f::4'"}
	for _, name := range []string{"fronts", "passes"} {
		g.line("  %s: [%s]", name, strings.Join(some(g.random, members, 4), ", "))
		g.groups = append(g.groups, name)
		members = append(members, name)
	}
	g.atoms = append(g.atoms, g.groups...)
	for _, h := range g.hosts {
		g.atoms = append(g.atoms, h.name)
	}
}

func (g *small) writeHosts() {
	g.line("hosts:")
	for _, h := range g.hosts {
		g.line("  %s:", h.name)
		g.line("    address: ['%s']", strings.Join(h.addresses, "', '"))
		if h.segment >= 0 && g.wire(h.segment) != "" {
			g.line("    segment: %s", g.wire(h.segment))
		}
		g.writeGatewayOf(&h)
		serves := some(g.random, smallServices, 5)
		if g.chance(4) {
			at := h.addresses[0]
			if g.chance(2) {
				at = "127.0.0.1"
			}
			g.line("    serves: [%s, {service: tcp/22, at: '%s'}]", strings.Join(serves[:1], ", "), at)
		} else {
			g.line("    serves: [%s]", strings.Join(serves, ", "))
		}
		if g.chance(6) {
			g.line("    answers-ping: false")
		}
		if g.chance(5) {
			g.line("    firewall:")
			for range 1 + g.IntN(2) {
				g.line("      - {%s: %s, from: %s}", pick(g.random, []string{"allow", "allow", "drop", "reject"}), pick(g.random, append(smallServices, "any")), g.flowExpression())
			}
		}
		if g.chance(5) {
			g.line("    relays:")
			for range 1 + g.IntN(2) {
				to := pick(g.random, g.hosts)
				where := to.name
				if g.chance(2) {
					where = "127.0.0.1"
				}
				g.line("      - {listen: %s, to: '%s:%s'}", pick(g.random, []string{"tcp/22", "tcp/8080-8089", "http", "tcp+udp/37020"}), where, pick(g.random, []string{"22", "80", "443", "37020"}))
			}
		}
	}
}

// writeGatewayOf writes whom a host sends to, where that is not clear, or by chance.
func (g *small) writeGatewayOf(h *smallHost) {
	if names := g.gatewaysOf(*h); len(names) > 1 || len(names) > 0 && g.chance(8) {
		name := pick(g.random, names)
		if first := g.addressOn(name, h.segment); first != "" && g.chance(2) {
			name = first
		}
		if g.chance(6) && strings.HasPrefix(h.addresses[0], "10.1.") {
			name = h.addresses[0][:strings.LastIndexByte(h.addresses[0], '.')] + ".14" // often nobody's
		}
		g.line("    gateway: %s", name)
	}
	if h.name == "neighbour" && g.chance(2) && slices.Contains(g.gateways[0].routes, "{to: default, via: 198.51.100.1}") {
		g.line("    gateway: %s", pick(g.random, []string{"rim", "198.51.100.2", "198.51.100.1"}))
	}
	if h.name == "shed" {
		r := g.behind[int(h.addresses[0][len("10.5.")]-'0')]
		has := func(other smallHost) bool { return slices.Contains(other.addresses, r.address) } // then it is no router
		if r.linked && strings.HasSuffix(h.addresses[0], ".200") || g.chance(4) && !slices.ContainsFunc(g.hosts, has) {
			g.line("    gateway: %s", r.gateway)
		}
	}
}

// addressOn returns a gateway's address on a segment.
func (g *small) addressOn(gateway string, segment int) string {
	for _, gw := range g.gateways {
		for _, i := range gw.interfaces {
			if gw.name == gateway && i.segment == segment {
				a, _, _ := strings.Cut(i.addresses[0], "/")
				return a
			}
		}
	}
	return ""
}

// expression returns an address expression for a block of the file.
func (g *small) expression() string {
	switch g.IntN(8) {
	case 0:
		return fmt.Sprintf("\"%s except %s\"", g.bare(), g.bare())
	case 1:
		return "[" + strings.Join(some(g.random, g.atoms, 3), ", ") + "]"
	case 2:
		return fmt.Sprintf("\"%s except [%s]\"", g.bare(), strings.ReplaceAll(strings.Join(some(g.random, g.atoms, 3), ", "), "'", ""))
	}
	return pick(g.random, g.atoms)
}

func (g *small) bare() string { return strings.Trim(pick(g.random, g.atoms), "'") }

// flowExpression returns one that may stand between braces.
func (g *small) flowExpression() string {
	if g.chance(4) {
		return fmt.Sprintf("'%s except %s'", g.bare(), g.bare())
	}
	return pick(g.random, g.atoms)
}

func (g *small) writeGateway(gw *smallGateway) {
	g.line("  %s:", gw.name)
	g.line("    interfaces:")
	for _, i := range gw.interfaces {
		g.line("      %s:", i.name)
		if len(i.addresses) > 0 {
			g.line("        address: ['%s']", strings.Join(i.addresses, "', '"))
		}
		if i.trunk != "" {
			g.line("        vlan: {on: %s, id: %d}", i.trunk, 1+g.IntN(4094))
		}
		g.line("        zone: %s", i.zone)
		if i.wire != "" {
			g.line("        segment: %s", i.wire)
		}
		if g.chance(25) {
			g.line("        state: down")
		}
		if i.uplink {
			g.writeUpstream(i)
		}
		if i.uplink && i.name == "fibre" && g.chance(3) {
			g.line("        clients: [10.64.0.0/24]")
		}
	}
	if len(gw.routes) > 0 {
		g.line("    routes:")
		for _, r := range gw.routes {
			g.line("      - %s", r)
		}
	}
	g.line("    serves: {ssh: [%s], icmp: [%s]}", pick(g.random, gw.interfaces).name, pick(g.random, gw.interfaces).zone)
	g.writeHandling(gw)
	if g.chance(6) {
		g.line("    limits: {sessions: %d}", 1+g.IntN(4))
	}
	if g.aside.chance(3) {
		g.line("    mappings: {protocols: [%s], on: [%s], external: %s, rules: [{allow: any, lifetime: 1h}]}",
			strings.Join(some(g.aside, []string{"pcp", "nat-pmp", "upnp-igd"}, 3), ", "), pick(g.aside, gw.interfaces).name, pick(g.aside, gw.interfaces).name)
	}
	g.line("    nat:")
	g.writeSent(gw)
	for n := range 2 + g.IntN(6) {
		g.writeNAT(gw, n)
	}
	g.line("    filter:")
	if sent := gw.interfaces[0].sent; sent != "" {
		g.line("      - {allow: sent, from: any}")
	}
	if g.chance(2) {
		g.line("      - allow: most\n        service: [tcp, udp, %s]", pick(g.random, []string{"icmp", "gre"}))
	}
	for n := range 2 + g.IntN(7) {
		g.writeFilter(n)
	}
}

// sentHere are prefixes that rules use as outside addresses.
var sentHere = []string{"192.0.2.96/28", "192.0.2.99", "'2001:db8:a0::/44'", "'2001:db8:a0::/45'", "203.0.113.8/30"}

func (g *small) writeUpstream(i smallInterface) {
	var set []string
	if g.chance(4) {
		set = append(set, fmt.Sprintf("blocks: [%s]", strings.Join(some(g.random, smallServices, 2), ", ")))
	}
	if g.chance(6) {
		set = append(set, "carrier-nat: true")
	}
	if g.chance(5) {
		set = append(set, "beside: none")
	}
	var routes []string
	if !g.chance(3) {
		routes = some(g.random, sentHere, 4)
	}
	if i.sent != "" {
		routes = append(routes, i.sent)
	}
	if len(routes) > 0 {
		set = append(set, fmt.Sprintf("routes: [%s]", strings.Join(routes, ", ")))
	}
	if len(set) > 0 {
		g.line("        upstream: {%s}", strings.Join(set, ", "))
	}
}

// writeSent writes a rule for an outside address that the provider sends here, to a host of the gateway's own where it has one.
func (g *small) writeSent(gw *smallGateway) {
	sent := gw.interfaces[0].sent
	if sent == "" {
		return
	}
	to := g.hosts[0]
	for _, h := range g.hosts {
		if h.segment >= 0 && g.owner(h.segment) == gw {
			to = h
		}
	}
	g.line("      - {port-forward: sent, on: fibre, at: %s, service: %s, to: %s}", sent, pick(g.random, []string{"tcp", "udp", "icmp"}), to.name)
}

func (g *small) writeHandling(gw *smallGateway) {
	var set []string
	for _, option := range []string{
		"filter-sees: original", "forwards: carry-permission", "turn-back: allow", "icmp: untracked", "nat-order: specific-first",
		"tcp-state: loose", "unreachable: silent", "mapping: address-dependent", "port-assignment: sequential",
	} {
		if !g.chance(4) {
			continue
		}
		switch option {
		case "mapping: address-dependent":
			option = pick(g.random, []string{option, "mapping: address-and-port-dependent"})
		case "port-assignment: sequential":
			option = pick(g.random, []string{option, "port-assignment: random"})
		}
		set = append(set, option)
	}
	if g.chance(4) {
		set = append(set, "unmatched: by-trust", "trust: ["+strings.Join(g.trust(gw), ", ")+"]")
	}
	if len(set) > 0 {
		g.line("    handling: {%s}", strings.Join(set, ", "))
	}
}

// trust returns the zones of a gateway in some order, some of them alike.
func (g *small) trust(gw *smallGateway) []string {
	var zones, places []string
	for _, i := range gw.interfaces {
		if !slices.Contains(zones, i.zone) {
			zones = append(zones, i.zone)
		}
	}
	g.Shuffle(len(zones), func(i, k int) { zones[i], zones[k] = zones[k], zones[i] })
	for len(zones) > 0 {
		if len(zones) > 1 && g.chance(3) {
			places, zones = append(places, "["+zones[0]+", "+zones[1]+"]"), zones[2:]
		} else {
			places, zones = append(places, zones[0]), zones[1:]
		}
	}
	return places
}

func (g *small) on(gw *smallGateway) string {
	i := pick(g.random, gw.interfaces)
	if g.chance(2) || len(i.addresses) == 0 {
		i = gw.interfaces[0]
	}
	if g.chance(5) {
		return i.zone
	}
	return i.name
}

func (g *small) writeCommon() {
	if g.chance(12) {
		g.line("        disabled: true")
	}
	if g.chance(12) {
		g.line("        until: %s", pick(g.random, []string{"2020-02-29", "2027-01-13 15:00", "2027-01-14", "2027-02-28", "2999-12-31"}))
	}
	if g.chance(8) {
		g.line("        when: {%s}", pick(g.random, []string{"days: mon-fri", "hours: 08:00-18:00", "days: 'sat,sun', hours: 22:00-06:00"}))
	}
}

func (g *small) writeNAT(gw *smallGateway, n int) {
	target := pick(g.random, g.hosts)
	switch g.IntN(9) {
	case 0, 1, 2:
		g.line("      - port-forward: f%d\n        on: %s", n, g.on(gw))
		service, port := pick(g.random, []string{"https", "tcp/22", "[tcp/80, udp/53]", "both", "icmp", "tcp+udp/37020", "gre"}), ""
		if g.chance(3) {
			service, port = pick(g.random, []string{"tcp/8080-8089", "udp/5000-5009"}), pick(g.random, []string{"", ":8080-8089", ":5000-5009"})
		} else if service == "https" || service == "tcp/22" {
			port = pick(g.random, []string{"", ":22", ":80", ":8081"})
		}
		g.line("        service: %s\n        to: '%s%s'", service, target.name, port)
		if g.chance(3) {
			g.line("        from: %s", g.expression())
		}
		if g.chance(5) {
			g.line("        at: %s", pick(g.random, []string{"any", "198.51.100.2", "198.51.100.4", "10.1.0.0/16"}))
		}
		if g.chance(3) {
			g.line("        hairpin: true")
		}
	case 3:
		g.line("      - destination-nat: d%d\n        on: %s\n        to: %s", n, g.on(gw), target.name)
		if g.chance(2) {
			g.line("        from: %s", g.expression())
		}
		if g.chance(2) {
			g.line("        service: %s", pick(g.random, smallServices))
		}
		if g.chance(2) {
			g.line("        at: %s", pick(g.random, []string{"any", "192.0.2.0/24", "198.51.100.2", "internet"}))
		}
	case 4:
		inside := "10.1.0.4"
		outside := pick(g.random, []string{"198.51.100.4", "198.51.100.5", "192.0.2.99"})
		if g.chance(3) {
			outside, inside = "198.51.100.4/30", "10.1.0.4/30"
		}
		g.line("      - one-to-one: o%d\n        on: %s\n        outside: %s\n        inside: %s", n, g.on(gw), outside, inside)
		if g.chance(3) {
			g.line("        hairpin: true")
		}
	case 5:
		bits := pick(g.random, []int{48, 48, 60, 64, 72, 80, 112})
		g.line("      - prefix-nat: p%d\n        on: %s\n        outside: '2001:db8:%x::/%d'\n        inside: 'fd00:1:%d::/%d'", n, g.on(gw), 0xa0+n, bits, g.IntN(3), bits)
	case 6:
		g.line("      - no-nat: n%d\n        from: %s\n        to: %s", n, g.expression(), g.expression())
		g.someServices()
		if g.chance(2) {
			g.line("        on: %s", g.on(gw))
		}
	default:
		g.line("      - source-nat: s%d\n        on: %s", n, g.on(gw))
		if !g.chance(3) {
			g.line("        from: %s", g.expression())
		}
		if g.chance(3) {
			g.line("        to: %s", g.expression())
		}
		g.line("        as: %s", pick(g.random, []string{"interface", "interface", "198.51.100.4", "198.51.100.4-198.51.100.5", "['10.2.1.3', 'fd00:2:1::9']"}))
		if g.chance(2) {
			g.line("        ports: %s", pick(g.random, []string{"40000-40001", "1024-65535", "40001"}))
		}
		g.someServices()
		if g.chance(5) {
			g.line("        destination: %s", pick(g.random, []string{"archive:22", "203.0.113.4:443", "192.0.2.7"}))
		}
	}
	g.writeCommon()
}

// someServices makes a source rule be for some services alone, now and then.
func (g *small) someServices() {
	if g.chance(3) {
		g.line("        service: [%s]", strings.Join(some(g.random, smallServices, 4), ", "))
	}
}

func (g *small) writeFilter(n int) {
	g.line("      - %s: r%d", pick(g.random, []string{"allow", "allow", "allow", "allow", "drop", "reject"}), n)
	if !g.chance(4) {
		g.line("        from: %s", g.expression())
	}
	if !g.chance(3) {
		g.line("        to: %s", g.expression())
	}
	if !g.chance(3) {
		g.line("        service: [%s]", strings.Join(some(g.random, smallServices, 4), ", "))
	} else if g.chance(6) {
		g.line("        source-ports: %s", pick(g.random, []string{"40000", "1-1023", "[40000-50000, '22,80']"}))
	} else if g.chance(4) {
		g.line("        service: any")
	}
	if g.chance(5) {
		g.line("        redirected: true")
	}
	g.writeCommon()
}

// Large returns a network file of one gateway with as many forwards, as many
// filter rules and as many hosts. Every forward has a port of its own on one of many
// outside addresses and leads to a host of its own; the filter rules let groups of sources reach their targets, with some
// wide ones between.
func Large(seed uint64, rules int) string {
	r := random{rand.New(rand.NewPCG(seed, 0xbb67ae8584caa73b))}
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("network: large\ngroups:")
	const groups = 40
	for i := range groups {
		var members []string
		for range 1 + r.IntN(6) {
			members = append(members, fmt.Sprintf("203.%d.%d.0/24", r.IntN(100), r.IntN(256)))
		}
		line("  partners%d: [%s]", i, strings.Join(members, ", "))
	}
	target := func(i int) string { return fmt.Sprintf("10.%d.%d.%d", 1+i>>16&0xff, i>>8&0xff, i&0xff) }
	line("hosts:")
	for i := range rules {
		line("  h%d: {address: %s, serves: [tcp/%d]}", i, target(i), 1000+i%60000)
	}
	line("gateways:\n  rim:\n    interfaces:\n      fibre: {address: 198.18.0.2/15, zone: outside}\n      yard: {address: 10.0.0.1/8, zone: yard}")
	line("    routes:\n      - {to: default, via: 198.18.0.1}\n    nat:")
	for i := range rules {
		line("      - port-forward: f%d\n        on: fibre\n        at: %s\n        service: tcp/%d\n        to: %s:%d", i, LargeOutside(i), LargePort(i), target(i), 1000+i%60000)
	}
	line("      - source-nat: out\n        on: fibre\n        as: interface\n    filter:")
	for i := range rules {
		from := fmt.Sprintf("partners%d", r.IntN(groups))
		switch r.IntN(8) {
		case 0:
			from = "any"
		case 1:
			from = "outside"
		case 2:
			from = fmt.Sprintf("203.%d.0.0/16", r.IntN(100))
		}
		to, service := target(i), fmt.Sprintf("tcp/%d", 1000+i%60000)
		if r.chance(50) {
			to = fmt.Sprintf("10.%d.%d.0/24", 1+i>>16&0xff, i>>8&0xff)
		}
		if r.chance(50) {
			service = "tcp/1-1023"
		}
		line("      - %s: r%d\n        from: %s\n        to: %s\n        service: %s", pick(r, []string{"allow", "allow", "allow", "drop"}), i, from, to, service)
	}
	return b.String()
}

// LargeOutside returns the outside address of forward i of a large network.
func LargeOutside(i int) string {
	i /= 8
	return fmt.Sprintf("198.%d.%d.%d", 18+i>>16&1, i>>8&0xff, 3+i%250)
}

// LargePort returns the outside port of forward i of a large network.
func LargePort(i int) int { return 2000 + i%8*37 }

// Tangled returns a network file of one gateway with filter rules that have random
// ranges in all fields, so that nearly all of them overlap: the worst for exact sets.
func Tangled(seed uint64, rules int) string {
	r := random{rand.New(rand.NewPCG(seed, 0x3c6ef372fe94f82b))}
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("network: tangled\nhosts:\n  archive: {address: 10.0.0.5, serves: [tcp, udp]}\ngateways:\n  rim:\n    interfaces:")
	line("      fibre: {address: 198.51.100.2/29, zone: outside}\n      yard: {address: 10.0.0.1/8, zone: yard}\n    routes:\n      - {to: default, via: 198.51.100.1}")
	line("    nat:\n      - {one-to-one: all, on: fibre, outside: 192.0.2.0/24, inside: 10.0.0.0/24}\n    filter:")
	span := func(most int) (int, int) {
		x, y := r.IntN(most), r.IntN(most)
		return min(x, y), max(x, y)
	}
	for i := range rules {
		s1, s2 := span(1 << 16)
		d1, d2 := span(256)
		p1, p2 := span(65535)
		q1, q2 := span(65535)
		line("      - %s: r%d\n        from: 203.0.%d.%d-203.0.%d.%d\n        to: 10.0.0.%d-10.0.0.%d\n        service: %s/%d-%d\n        source-ports: %d-%d",
			pick(r, []string{"allow", "drop"}), i, s1>>8, s1&255, s2>>8, s2&255, d1, d2, pick(r, []string{"tcp", "udp"}), p1+1, p2+1, q1+1, q2+1)
	}
	return b.String()
}
