package netfile

import (
	"net/netip"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// readGateways reads what of gateways has addresses: interfaces and routes.
func (r *reader) readGateways(f *fields) []gatewayNode {
	var nodes []gatewayNode
	for _, e := range f.namedChildren("gateways", "gateway") {
		if !r.claim(e.name, "gateway") {
			continue
		}
		body := r.fields(e.body, gatewayObject)
		if body == nil {
			continue
		}
		g := &network.Gateway{Name: e.name.Value, Formerly: r.former(body), Index: len(r.draft.Gateways), Owner: body.line("owner"), Until: body.deadline("until"), Place: r.place(e.name)}
		r.draft.Gateways = append(r.draft.Gateways, g)
		before := len(r.errors)
		r.readInterfaces(g, body)
		r.unsure = len(r.errors) > before
		for _, route := range body.children("routes") {
			r.readRoute(g, route)
		}
		nodes = append(nodes, gatewayNode{g, body})
	}
	if n := f.values["gateways"]; n != nil && len(r.draft.Gateways) == 0 && len(r.errors) == 0 {
		r.fail(n, "a network needs at least one gateway")
	}
	return nodes
}

// former reads the name that a gateway has on its machine.
func (r *reader) former(body *fields) string {
	n, ok := body.scalar(formerlyKey)
	if !ok || !r.validName(n) {
		return ""
	}
	for _, g := range r.draft.Gateways {
		if g.Formerly == n.Value {
			r.fail(n, "%s: %s was called so already (line %d)", n.Value, g.Name, g.Place.Line)
		}
	}
	return n.Value
}

// A vlan is an interface that is one, and where the file names what carries it.
type vlan struct {
	on *yaml.Node
	of *network.Interface
}

func (r *reader) readInterfaces(g *network.Gateway, body *fields) {
	var vlans []vlan
	for _, e := range body.namedChildren("interfaces", "interface") {
		f := r.fields(e.body, interfaceObject)
		if f == nil {
			continue
		}
		i := &network.Interface{
			Gateway: g, Name: e.name.Value, Index: len(g.Interfaces), Place: r.place(e.name),
			Device: f.line("device"), SegmentName: f.line("segment"), Down: f.word("state") == "down",
		}
		if n, ok := f.scalar("zone"); ok && r.validName(n) {
			i.Zone = n.Value
			r.refers(n, 0, zoneKind, n.Value)
			if first, taken := r.names[n.Value]; taken && first.what != "zone" {
				r.fail(n, "%s: this is already the name of a %s (line %d); zones, groups, hosts and gateways share their names", n.Value, first.what, first.place.Line)
			} else if !taken {
				r.names[n.Value] = nameUse{"zone", r.place(n)}
			}
		}
		for _, n := range f.scalars("address") {
			if n.Value == dynamicWord {
				r.readDynamic(i, n)
				continue
			}
			r.readInterfaceAddress(g, i, n)
		}
		for _, n := range f.scalars("clients") {
			if p, ok := r.prefix(n); ok {
				i.Clients = append(i.Clients, p)
			}
		}
		if up := f.child("upstream"); up != nil {
			r.readUpstream(i, up)
		}
		if v := f.child("vlan"); v != nil {
			i.VLAN = v.number("id", 1, 4094, 0)
			if n, ok := v.scalar("on"); ok {
				vlans = append(vlans, vlan{n, i})
			}
		}
		g.Interfaces = append(g.Interfaces, i)
	}
	r.readVLANs(g, vlans)
	for _, i := range g.Interfaces {
		carries := slices.ContainsFunc(g.Interfaces, func(j *network.Interface) bool { return j.Trunk == i })
		if len(i.Addresses) == 0 && !carries && len(r.errors) == 0 {
			r.failAt(i.Place, len(i.Name), "%s has no address; only an interface that carries VLANs does without", i)
		}
	}
}

func (r *reader) readUpstream(i *network.Interface, up *fields) {
	i.Upstream.Blocks, i.Upstream.BlocksText = up.services("blocks")
	i.Upstream.CarrierNAT = up.flag("carrier-nat", false)
	i.Upstream.NoBeside = up.word("beside") == besideNone
	for _, n := range up.scalars("routes") {
		if p, ok := r.prefix(n); ok && network.Carried(p.Addr()) {
			i.Upstream.Routes = append(i.Upstream.Routes, p)
		} else if ok {
			r.fail(n, "%s: the internet carries no private or shared addresses, so no provider sends these here", n.Value)
		}
	}
}

func (r *reader) readVLANs(g *network.Gateway, vlans []vlan) {
	for _, v := range vlans {
		trunk := g.Interface(v.on.Value)
		switch {
		case trunk == nil:
			r.fail(v.on, "%s: %s has no such interface%s", v.on.Value, g.Name, oneOf(v.on.Value, network.InterfaceNames(g.Interfaces)))
			continue
		case trunk == v.of || trunk.VLAN != 0:
			r.fail(v.on, "%s: a VLAN stands on an interface that is no VLAN itself", v.on.Value)
			continue
		}
		for _, other := range g.Interfaces {
			if other.Trunk == trunk && other.VLAN == v.of.VLAN {
				r.fail(v.on, "%s carries VLAN %d already, for %s", trunk.Name, v.of.VLAN, other.Name)
			}
		}
		v.of.Trunk = trunk
		r.refersTo(v.on, 0, trunk, false)
	}
}

// dynamicWord stands for an IPv4 address that the provider gives.
const dynamicWord = "dynamic"

func (r *reader) readDynamic(i *network.Interface, n *yaml.Node) {
	a, ok := network.StandIn(r.dynamics)
	switch {
	case !ok:
		r.fail(n, "%s: so many interfaces can't have an address that the provider gives; this is one too many", n.Value)
	case i.Dynamic:
		r.fail(n, "%s: given twice", n.Value)
	default:
		r.dynamics++
		i.Dynamic, i.Addresses = true, append(i.Addresses, netip.PrefixFrom(a, a.BitLen()))
	}
}

func (r *reader) readInterfaceAddress(g *network.Gateway, i *network.Interface, n *yaml.Node) {
	if !strings.Contains(n.Value, "/") {
		r.fail(n, "%s: an interface's address needs the length of its prefix, as %s/24", n.Value, n.Value)
		return
	}
	p, err := header.ParsePrefix(n.Value)
	if err != nil {
		r.fail(n, "%s", err)
		return
	}
	if network.CannotSend().Contains(p.Addr()) || p.Bits() == 0 {
		r.fail(n, "%s: no interface can have this address", n.Value)
		return
	}
	if all := header.RangeOf(p); p.Bits() < p.Addr().BitLen()-1 { // of two addresses each can be had, RFC 3021 and RFC 6164
		for a, what := range map[netip.Addr]string{all.First: "address of the network itself", all.Last: "broadcast address"} {
			if a == p.Addr() && (a == all.First || a.Is4()) {
				r.fail(n, "%s: this is the %s; an interface has one between, as %s/%d", n.Value, what, all.First.Next(), p.Bits())
				return
			}
		}
	}
	for _, other := range r.draft.Gateways {
		for _, j := range append(slices.Clone(other.Interfaces), i) {
			for _, q := range j.Addresses {
				switch {
				case j.SegmentName != i.SegmentName:
				case q.Addr() == p.Addr():
					r.fail(n, "%s: %s has this address already", p.Addr(), j)
					return
				case j.Gateway == g && j != i && q.Overlaps(p):
					r.fail(n, "%s overlaps %s on %s; an address would be on both sides: give them different prefixes, or segments of their own", n.Value, q, j.Name)
					return
				}
			}
		}
	}
	i.Addresses = append(i.Addresses, p)
}

// prefix reads a prefix or an address.
func (r *reader) prefix(n *yaml.Node) (netip.Prefix, bool) {
	if !strings.Contains(n.Value, "/") {
		a, err := header.ParseAddress(n.Value)
		if err != nil {
			r.fail(n, "%s; write a prefix as ADDRESS/BITS", err)
			return netip.Prefix{}, false
		}
		return netip.PrefixFrom(a, a.BitLen()), true
	}
	p, err := header.ParsePrefix(n.Value)
	if err == nil && p.Masked() != p {
		err = errorf("%s: the address has bits behind the prefix; the network is %s", n.Value, p.Masked())
	}
	if err != nil {
		r.fail(n, "%s", err)
		return netip.Prefix{}, false
	}
	return p, true
}

func (r *reader) readRoute(g *network.Gateway, f *fields) {
	route := network.Route{Distance: f.number("distance", 1, 255, 1), Blackhole: f.flag("blackhole", false), Place: f.place(f.node)}
	to, hasTo := f.scalar("to")
	via, hasVia := f.scalar("via")
	switch {
	case !hasTo:
		return
	case hasVia == route.Blackhole:
		r.fail(f.node, "a route has either a next hop (via: ADDRESS) or blackhole: true")
		return
	case hasVia && !r.nextHop(g, via, &route):
		return
	case to.Value != "default":
		p, ok := r.prefix(to)
		if !ok {
			return
		}
		route.To = p
		if route.Via.IsValid() && route.Via.Is6() != p.Addr().Is6() {
			r.fail(via, "%s: the next hop is not of the family of %s", via.Value, to.Value)
			return
		}
		g.Routes = append(g.Routes, route)
		return
	}
	for _, family := range header.Families { // default is that of the next hop's family, or of the interface's families
		if route.Via.IsValid() && header.FamilyOf(route.Via) != family {
			continue
		}
		if route.Out != nil && !route.Via.IsValid() {
			if _, has := route.Out.Address(family); !has {
				continue
			}
		}
		route.To = family.Prefix()
		g.Routes = append(g.Routes, route)
	}
}

// nextHop reads where a route leads: an address in the prefix of an interface, a
// link-local address with its interface behind %, or an interface alone.
func (r *reader) nextHop(g *network.Gateway, n *yaml.Node, route *network.Route) bool {
	if i := g.Interface(n.Value); i != nil {
		route.Out = i
		r.refersTo(n, 0, i, false)
		if len(i.Addresses) == 0 {
			r.fail(n, "%s has no address", i)
		}
		return len(i.Addresses) > 0
	}
	text, name, scoped := strings.Cut(n.Value, "%")
	hop, err := header.ParseAddress(text)
	switch {
	case err != nil && !header.LooksLikeAddress(n.Value):
		r.fail(n, "%s: not an address, and %s has no such interface%s", n.Value, g.Name, oneOf(n.Value, network.InterfaceNames(g.Interfaces)))
		return false
	case err != nil:
		r.fail(n, "%s: the next hop is one address", n.Value)
		return false
	case hop.IsLinkLocalUnicast() && !scoped:
		r.fail(n, "%s: a link-local address is on every segment; say on which, as %s%%%s", hop, hop, anInterface(g))
		return false
	}
	route.Via, route.Out = hop, g.Reaches(hop)
	if scoped {
		if route.Out = g.Interface(name); route.Out == nil || len(route.Out.Addresses) == 0 {
			r.fail(n, "%s: %s has no such interface%s", name, g.Name, oneOf(name, network.InterfaceNames(g.Interfaces)))
			return false
		}
		r.refersTo(n, len(text)+1, route.Out, false)
	}
	if route.Out == nil && !r.unsure {
		for _, i := range g.Interfaces {
			if i.Dynamic {
				r.fail(n, "%s: no interface of %s is in the same prefix; the provider gives %s its address, and the router too: write via: %s", n.Value, g.Name, i.Name, i.Name)
				return false
			}
		}
		r.fail(n, "%s: no interface of %s is in the same prefix, so this next hop can't be reached", n.Value, g.Name)
	}
	return route.Out != nil
}

// finishGateway reads what of a gateway speaks about addresses.
func (r *reader) finishGateway(n gatewayNode) {
	g, f := n.gateway, n.f
	r.readGatewayServes(g, f)
	if h := f.child("handling"); h != nil {
		for _, k := range network.HandlingKeys {
			if k.Words[1] == "true" {
				if h.flag(k.Key, false) {
					k.Set(&g.Handling, 1)
				}
			} else if word := h.word(k.Key); word != "" {
				k.Set(&g.Handling, slices.Index(k.Words, word))
			}
		}
		r.readTrust(g, h)
	}
	if l := f.child("logging"); l != nil {
		g.Logging = network.Logging{Enabled: l.flag("enabled", false), Unmatched: l.flag("unmatched", false)}
		if n, ok := l.scalar("syslog"); ok && r.validSyslog(n) {
			g.Logging.Syslog = n.Value
		}
	}
	if l := f.child("limits"); l != nil {
		g.Limits = network.Limits{PortForwards: l.most("port-forwards", 1<<20), Sessions: l.most("sessions", 1<<30)}
	}
	if c := f.child("control"); c != nil {
		g.Control = r.readControl(c)
	}
	if m := f.child("mappings"); m != nil {
		g.Mappings = r.mappings(g, m)
	}
	names := map[string]*yaml.Node{}
	for _, item := range f.listOf("nat") {
		r.natRule(g, item, names)
	}
	names = map[string]*yaml.Node{}
	for _, item := range f.listOf("filter") {
		r.filterRule(g, item, names)
	}
}

// readTrust reads the order of a gateway's zones; each stands in it once.
func (r *reader) readTrust(g *network.Gateway, f *fields) {
	n := f.values[trustKey]
	var zones []string
	for _, i := range g.Interfaces {
		if i.Zone != "" && !slices.Contains(zones, i.Zone) {
			zones = append(zones, i.Zone)
		}
	}
	switch {
	case n == nil && g.Handling.UnmatchedByTrust:
		r.fail(f.keys["unmatched"], "by-trust needs the order of the zones: trust: [%s], most trusted first", strings.Join(zones, ", "))
		return
	case n == nil:
		return
	case !g.Handling.UnmatchedByTrust:
		r.fail(f.keys[trustKey], "trust is compared only with unmatched: by-trust")
		return
	case n.Kind != yaml.SequenceNode:
		r.fail(n, "trust is a list of zones, most trusted first, those alike in brackets: [%s]", strings.Join(zones, ", "))
		return
	}
	before := len(r.errors)
	for _, item := range n.Content {
		alike := []*yaml.Node{item}
		if item.Kind == yaml.SequenceNode {
			alike = item.Content
		}
		var names []string
		for _, zone := range alike {
			_, known := g.Handling.TrustRank(zone.Value)
			switch {
			case zone.Kind != yaml.ScalarNode || !slices.Contains(zones, zone.Value):
				r.fail(zone, "%s: %s has no interface in such a zone%s", zone.Value, g.Name, oneOf(zone.Value, zones))
			case known || slices.Contains(names, zone.Value):
				r.fail(zone, "%s stands in the order already", zone.Value)
			default:
				names = append(names, zone.Value)
				r.refers(zone, 0, zoneKind, zone.Value)
			}
		}
		g.Handling.Trust = append(g.Handling.Trust, names)
	}
	var missing []string
	for _, zone := range zones {
		if _, known := g.Handling.TrustRank(zone); !known {
			missing = append(missing, zone)
		}
	}
	if len(missing) > 0 && len(r.errors) == before {
		r.fail(n, "%s is missing: each zone of %s stands in the order of trust", strings.Join(missing, ", "), g.Name)
	}
}

// readControl reads where a running gateway is asked: a socket, or an address with what makes
// it safe.
func (r *reader) readControl(f *fields) network.Control {
	c := network.Control{
		Socket: f.line("socket"), Token: f.line("token"), Certificate: f.line("certificate"), Key: f.line("key"), Place: f.place(f.node),
	}
	n, listens := f.scalar("listen")
	switch {
	case listens == (c.Socket != ""):
		r.fail(f.node, "control is either a socket: PATH, or listen: ADDRESS:PORT with token, certificate and key")
	case !listens && (c.Token != "" || c.Certificate != "" || c.Key != ""):
		r.fail(f.node, "a socket needs no token and no certificate: who may open the file may use it")
	case listens:
		at, err := netip.ParseAddrPort(n.Value)
		if err != nil || at.Port() == 0 {
			r.fail(n, "%s: write ADDRESS:PORT", n.Value)
		}
		if c.Listen = at; c.Token == "" || c.Certificate == "" || c.Key == "" {
			r.fail(f.node, "what listens at an address needs token, certificate and key: three files")
		}
	}
	return c
}

func (r *reader) validSyslog(n *yaml.Node) bool {
	protocol, rest, found := strings.Cut(n.Value, "://")
	_, err := netip.ParseAddrPort(rest)
	if !found || err != nil || protocol != "udp" && protocol != "tcp" && protocol != "tls" {
		r.fail(n, "%s: write udp://ADDRESS:PORT, tcp://ADDRESS:PORT or tls://ADDRESS:PORT", n.Value)
		return false
	}
	return true
}

func (r *reader) readGatewayServes(g *network.Gateway, f *fields) {
	n := f.values["serves"]
	if n == nil || isNull(n) {
		return
	}
	if n.Kind != yaml.MappingNode {
		r.fail(n, "serves of a gateway is written as {SERVICE: [INTERFACE, ...]}")
		return
	}
	seen := map[string]bool{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, v := n.Content[i], n.Content[i+1]
		if seen[k.Value] {
			r.fail(k, "%s: given twice", k.Value)
			continue
		}
		seen[k.Value] = true
		services, text := r.serviceList(k)
		g.Serves = append(g.Serves, network.GatewayService{Name: text, Services: services, On: r.interfaces(g, v), Place: r.place(k)})
	}
}

// interfaces reads names of interfaces and zones of a gateway.
func (r *reader) interfaces(g *network.Gateway, n *yaml.Node) []*network.Interface {
	items := []*yaml.Node{n}
	if n.Kind == yaml.SequenceNode {
		items = n.Content
		if len(items) == 0 {
			r.fail(n, "the list is empty: say which interface of %s: %s", g.Name, strings.Join(network.InterfaceNames(g.Interfaces), ", "))
		}
	}
	var found []*network.Interface
	add := func(i *network.Interface) {
		if !slices.Contains(found, i) {
			found = append(found, i)
		}
	}
	for _, item := range items {
		if item.Kind != yaml.ScalarNode || isNull(item) || item.Value == "" {
			r.fail(item, "the name of an interface or zone of %s is missing here: %s", g.Name, strings.Join(network.InterfaceNames(g.Interfaces), ", "))
			continue
		}
		if i := g.Interface(item.Value); i != nil {
			add(i)
			r.refersTo(item, 0, i, false)
			continue
		}
		known := network.InterfaceNames(g.Interfaces)
		before := len(found)
		for _, i := range g.Interfaces {
			if i.Zone == item.Value {
				add(i)
			}
			if !slices.Contains(known, i.Zone) {
				known = append(known, i.Zone)
			}
		}
		if len(found) == before && !slices.ContainsFunc(g.Interfaces, func(i *network.Interface) bool { return i.Zone == item.Value }) {
			r.fail(item, "%s: %s has no such interface or zone%s", item.Value, g.Name, oneOf(item.Value, known))
		} else {
			r.refers(item, 0, zoneKind, item.Value)
		}
	}
	return found
}
