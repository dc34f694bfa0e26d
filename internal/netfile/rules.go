package netfile

import (
	"net/netip"
	"strings"

	"go.yaml.in/yaml/v3"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// pickObject finds which of the objects a rule is, by the key that is its kind.
func (r *reader) pickObject(n *yaml.Node, what string, objects []*object) (int, bool) {
	var kinds, keys []string
	for _, o := range objects {
		kinds = append(kinds, o.name)
	}
	if n.Kind != yaml.MappingNode {
		r.fail(n, "%s is written as KIND: NAME and its keys; kinds are %s", what, strings.Join(kinds, ", "))
		return 0, false
	}
	found := -1
	for i := 0; i+1 < len(n.Content); i += 2 {
		k := n.Content[i]
		keys = append(keys, k.Value)
		for index, kind := range kinds {
			if k.Value != kind {
				continue
			}
			if found >= 0 {
				r.fail(k, "a rule has one kind: %s or %s", kinds[found], kind)
				return 0, false
			}
			found = index
		}
	}
	if found >= 0 {
		return found, true
	}
	if len(keys) > 0 {
		if near := nearest(keys[0], kinds); near != "" {
			r.fail(n.Content[0], "%s: no such kind of rule; did you mean %s?", keys[0], near)
			return 0, false
		}
	}
	r.fail(n, "this rule has no kind; %s begins with one of %s and the rule's name", what, strings.Join(kinds, ", "))
	return 0, false
}

// common reads what all rules have.
func (r *reader) common(f *fields, g *network.Gateway, number int, names map[string]*yaml.Node) network.Rule {
	rule := network.Rule{
		Gateway: g, Kind: f.object.name, Number: number, Place: f.place(f.node),
		Disabled: f.flag("disabled", false), Log: f.flag("log", false), Note: f.line("note"),
		Owner: f.line("owner"), Until: f.deadline("until"),
	}
	if n, ok := f.scalar(f.object.name); ok && r.validName(n) {
		rule.Name = n.Value
		if first := names[n.Value]; first != nil {
			r.fail(n, "%s: this list has a rule of that name already (line %d)", n.Value, first.Line)
		}
		names[n.Value] = n
	}
	for _, n := range f.scalars("accept") {
		if found, ok := network.FindingOf(n.Value); ok {
			rule.Accept = append(rule.Accept, found)
		} else {
			r.fail(n, "%s: check has no finding of this name%s", n.Value, DidYouMean(n.Value, network.FindingNames()))
		}
	}
	if f.keys["accept"] != nil && rule.Note == "" {
		r.fail(f.keys["accept"], "accept needs a note that says why")
	}
	if w := f.child("when"); w != nil {
		rule.When = r.schedule(w)
	}
	return rule
}

func (r *reader) schedule(f *fields) *network.Schedule {
	s := &network.Schedule{Days: [7]bool{true, true, true, true, true, true, true}, Last: 24 * 60}
	var texts []string
	if n, ok := f.scalar("days"); ok {
		days, err := network.ParseDays(n.Value)
		if err != nil {
			r.fail(n, "%s", err)
		}
		s.Days = days
		texts = append(texts, n.Value)
	}
	if n, ok := f.scalar("hours"); ok {
		first, last, err := network.ParseHours(n.Value)
		if err != nil {
			r.fail(n, "%s", err)
		}
		s.First, s.Last = first, last
		texts = append(texts, n.Value)
	}
	s.Text = strings.Join(texts, " ")
	return s
}

func (r *reader) natRule(g *network.Gateway, n *yaml.Node, names map[string]*yaml.Node) {
	kind, ok := r.pickObject(n, "a nat rule", natObjects)
	if !ok {
		return
	}
	f := r.fields(n, natObjects[kind])
	rule := &network.NATRule{Does: network.NATKind(kind)}
	rule.Rule = r.common(f, g, len(g.NAT)+1, names)
	if on := f.values["on"]; on != nil {
		rule.On = r.interfaces(g, on)
	}
	rule.From = f.expression("from")
	before := len(r.errors)
	switch rule.Does {
	case network.PortForward, network.DestinationNAT:
		r.forward(f, rule)
	case network.OneToOne, network.PrefixNAT:
		r.bothWays(f, rule)
	case network.SourceNAT:
		rule.To = f.expression("to")
		rule.Services, rule.Service = f.services("service")
		r.sourceNAT(g, f, rule)
	case network.NoNAT:
		rule.To = f.expression("to")
		rule.Services, rule.Service = f.services("service")
	}
	if len(r.errors) > before {
		return
	}
	g.NAT = append(g.NAT, rule)
}

// A target is where a rule leads, as written.
type target struct {
	name    string // the host or address alone
	address network.Target
	ports   []header.Ports
}

// target reads a host or address, with ports behind it.
func (r *reader) target(n *yaml.Node) (target, bool) {
	text := n.Value
	if strings.HasPrefix(text, "[") && strings.HasSuffix(text, "]") { // as before a port
		text = text[1 : len(text)-1]
	}
	if t, ok := r.targetAddress(n, text); ok {
		return target{name: text, address: t}, true
	}
	name, ports, found := text, "", false
	if i := strings.LastIndexByte(text, ':'); i >= 0 {
		name, ports, found = text[:i], text[i+1:], true
	}
	name = strings.TrimSuffix(strings.TrimPrefix(name, "["), "]")
	t, ok := r.targetAddress(n, name)
	switch {
	case !ok && header.LooksLikeAddress(name):
		_, err := header.ParseAddress(name)
		r.fail(n, "%s", orErr(err, "%s: not one address", name))
		return target{}, false
	case !ok && r.groups[name] != nil:
		r.fail(n, "%s: this is a group; a rule leads to one host or address", name)
		return target{}, false
	case !ok:
		r.fail(n, "%s: no such host%s", name, oneOf(name, hostNames(r.net)))
		return target{}, false
	case !found:
		return target{name: name, address: t}, true
	}
	list, err := header.ParsePortList(ports)
	if err != nil {
		r.fail(n, "%s", err)
		return target{}, false
	}
	return target{name, t, list}, true
}

func orErr(err error, format string, args ...any) error {
	if err != nil {
		return err
	}
	return errorf(format, args...)
}

func (r *reader) targetAddress(n *yaml.Node, text string) (network.Target, bool) {
	if h := r.net.Host(text); h != nil {
		r.refers(n, strings.Index(n.Value, text), "host", text)
		var t network.Target
		t.V4, _ = h.AddressOf(header.IPv4)
		t.V6, _ = h.AddressOf(header.IPv6)
		return t, true
	}
	a, err := header.ParseAddress(text)
	if err != nil {
		return network.Target{}, false
	}
	if a.Is4() {
		return network.Target{V4: a}, true
	}
	return network.Target{V6: a}, true
}

// forward reads what a port-forward and a destination-nat have.
func (r *reader) forward(f *fields, rule *network.NATRule) {
	at := f.expression("at")
	rule.AtText, rule.At = at.Text, at.Addresses()
	rule.AtOwn = rule.Does == network.PortForward && f.values["at"] == nil
	if rule.AtOwn {
		rule.At = header.Addresses{}
	}
	rule.Hairpin = f.flag("hairpin", false)
	services, text := f.services("service")
	n, ok := f.scalar("to")
	if !ok {
		return
	}
	t, ok := r.target(n)
	if !ok {
		return
	}
	rule.Service = text
	rule.Target, rule.TargetAs, rule.TargetIs = t.address, n.Value, t.name
	rule.Ports = r.portMaps(n, services, t.ports)
	if families := rule.Target.Families(); !rule.AtOwn && !families.Empty() && rule.At.Intersect(families).Empty() {
		r.fail(f.values["at"], "%s holds no address of the family that %s has", rule.AtText, n.Value)
	}
}

// portMaps pairs the ports a forward listens on with those it leads to: none
// keeps them, one range serves each service, else range by range.
func (r *reader) portMaps(n *yaml.Node, services header.Services, to []header.Ports) []network.PortMap {
	var maps []network.PortMap
	position := map[header.Protocol]int{}
	for _, s := range services {
		if s.Protocol == header.AnyProtocol {
			if len(to) > 0 {
				r.fail(n, "%s: any service keeps its ports; name the services to change them", n.Value)
			}
			return nil
		}
		m := network.PortMap{Protocol: s.Protocol, Ports: s.Ports, ToFirst: s.Ports.First}
		if len(to) > 0 && s.Protocol.HasPorts() {
			i := position[s.Protocol]
			position[s.Protocol]++
			if len(to) == 1 {
				i = 0
			}
			if i >= len(to) {
				r.fail(n, "%s: more ranges of ports on the left than on the right; give as many, or one", n.Value)
				return nil
			}
			if s.Ports.Count() != to[i].Count() {
				r.fail(n, "%s: %s are %d ports and %s are %d; ranges map one to one, so they must be of one length", n.Value, s.Ports, s.Ports.Count(), to[i], to[i].Count())
				return nil
			}
			m.ToFirst = to[i].First
		}
		maps = append(maps, m)
	}
	if len(to) > 0 && len(services) == 0 {
		r.fail(n, "%s: a port needs a service to change it from", n.Value)
	}
	if len(to) > 1 {
		for protocol, count := range position {
			if count != len(to) {
				r.fail(n, "%s: %d ranges of ports on the right, but %d for %s on the left", n.Value, len(to), count, protocol)
				return nil
			}
		}
	}
	return maps
}

// bothWays reads what a one-to-one and a prefix-nat have.
func (r *reader) bothWays(f *fields, rule *network.NATRule) {
	rule.Hairpin = f.flag("hairpin", false)
	outside, okOutside := f.scalar("outside")
	inside, okInside := f.scalar("inside")
	if !okOutside || !okInside {
		return
	}
	var err error
	if rule.Outside, err = header.ParseRange(outside.Value); err != nil {
		r.fail(outside, "%s", err)
		return
	}
	if h := r.net.Host(inside.Value); h != nil && rule.Does == network.OneToOne {
		a, has := h.AddressOf(header.FamilyOf(rule.Outside.First))
		if !has {
			r.fail(inside, "%s has no address of the family of %s", h.Name, outside.Value)
			return
		}
		rule.Inside = header.Range{First: a, Last: a}
		r.refers(inside, 0, "host", h.Name)
	} else if rule.Inside, err = header.ParseRange(inside.Value); err != nil {
		if header.LooksLikeAddress(inside.Value) {
			r.fail(inside, "%s", err)
		} else {
			r.fail(inside, "%s: no such host%s", inside.Value, oneOf(inside.Value, hostNames(r.net)))
		}
		return
	}
	rule.AtText, rule.TargetAs = outside.Value, inside.Value
	o, i := header.AddressesOf(rule.Outside), header.AddressesOf(rule.Inside)
	if rule.Outside.First.Is6() != rule.Inside.First.Is6() || o.Size() != i.Size() {
		r.fail(inside, "%s and %s do not hold equally many addresses, so they can't be mapped one to one", outside.Value, inside.Value)
		return
	}
	if rule.Does == network.PrefixNAT {
		in, errIn := header.ParsePrefix(inside.Value)
		out, errOut := header.ParsePrefix(outside.Value)
		pair, ok := header.NewPrefixPair(in, out)
		if errIn != nil || errOut != nil || !ok {
			r.fail(inside, "a prefix-nat maps an IPv6 prefix to one of the same length, of at most 112 bits (RFC 6296)")
			return
		}
		rule.Prefixes = pair
	}
}

func (r *reader) sourceNAT(g *network.Gateway, f *fields, rule *network.NATRule) {
	var texts []string
	var ranges []header.Range
	for _, n := range f.scalars("as") {
		texts = append(texts, n.Value)
		if n.Value == "interface" {
			rule.As.Interface = true
			continue
		}
		if i, ok := r.interfaceAddress(n); ok {
			ranges = append(ranges, i.Ranges()...)
			continue
		}
		rng, err := header.ParseRange(n.Value)
		if err != nil {
			r.fail(n, "%s; as is interface, an address, or a range", err)
			continue
		}
		ranges = append(ranges, rng)
	}
	if rule.As.Interface && len(ranges) > 0 {
		r.fail(f.values["as"], "as is either interface or addresses, not both")
	}
	rule.As.Text, rule.As.Set = strings.Join(texts, ", "), header.AddressesOf(ranges...)
	if n, ok := f.scalar("ports"); ok {
		ports, err := header.ParsePorts(n.Value)
		if err != nil {
			r.fail(n, "%s", err)
		}
		rule.SourcePorts = ports
	}
	n, ok := f.scalar("destination")
	if !ok {
		return
	}
	t, ok := r.target(n)
	if !ok {
		return
	}
	if rule.DestPort, ok = r.onePort(n, t); !ok {
		return
	}
	rule.DestinationAs = n.Value
	rule.Destination = firstValid(t.address.V4, t.address.V6)
}

// onePort returns the port of a target that may have one at most, 0 where it has none.
func (r *reader) onePort(n *yaml.Node, t target) (uint16, bool) {
	if len(t.ports) > 1 || len(t.ports) == 1 && t.ports[0].Count() > 1 {
		r.fail(n, "%s: this leads to one address and at most one port", n.Value)
		return 0, false
	}
	if len(t.ports) == 0 {
		return 0, true
	}
	return t.ports[0].First, true
}

func firstValid(a, b netip.Addr) netip.Addr {
	if a.IsValid() {
		return a
	}
	return b
}

// interfaceAddress reads GATEWAY:INTERFACE.
func (r *reader) interfaceAddress(n *yaml.Node) (header.Addresses, bool) {
	name, i, found := strings.Cut(n.Value, ":")
	if g := r.net.Gateway(name); found && g != nil && g.Interface(i) != nil {
		r.refersTo(n, 0, g.Interface(i), true)
		return g.Interface(i).Own(), true
	}
	return header.Addresses{}, false
}

// namesInterfaces reports the names of interfaces that stand where a filter rule takes the zones that
// connections come from: an interface alone would be its own address, and that sends nothing.
func (r *reader) namesInterfaces(g *network.Gateway, nodes ...*yaml.Node) (found bool) {
	for _, n := range nodes {
		switch {
		case n == nil:
		case n.Kind == yaml.SequenceNode:
			found = r.namesInterfaces(g, n.Content...) || found
		case n.Kind == yaml.ScalarNode && g.Interface(n.Value) != nil && r.groups[n.Value] == nil && r.net.Host(n.Value) == nil && r.net.Zone(n.Value) == nil:
			i := g.Interface(n.Value)
			r.fail(n, "%s: this is an interface, and from takes zones; did you mean its zone, %s? Its own address is %s", n.Value, i.Zone, i)
			found = true
		}
	}
	return found
}

func (r *reader) filterRule(g *network.Gateway, n *yaml.Node, names map[string]*yaml.Node) {
	verb, ok := r.pickObject(n, "a filter rule", filterObjects)
	if !ok {
		return
	}
	f := r.fields(n, filterObjects[verb])
	rule := &network.FilterRule{Verb: network.Verbs[verb]}
	rule.Rule = r.common(f, g, len(g.Filter)+1, names)
	if !r.namesInterfaces(g, f.values["from"]) {
		rule.From = f.expression("from")
	}
	rule.To = f.expression("to")
	rule.Services, rule.ServiceText = f.services("service")
	rule.Redirected = f.flag("redirected", false)
	for _, p := range f.scalars("source-ports") {
		list, err := header.ParsePortList(p.Value)
		if err != nil {
			r.fail(p, "%s", err)
		}
		rule.SourcePorts = append(rule.SourcePorts, list...)
	}
	if f.values["source-ports"] != nil {
		for _, s := range rule.Services {
			if s.Protocol != header.AnyProtocol && !s.Protocol.HasPorts() {
				r.fail(f.values["source-ports"], "%s has no ports to compare", s.Protocol)
			}
		}
	}
	g.Filter = append(g.Filter, rule)
}
