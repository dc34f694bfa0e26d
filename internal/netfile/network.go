package netfile

import (
	"iter"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// network reads the whole file: first what has addresses, then, with everything
// connected, what speaks about addresses.
func (r *reader) network(root *yaml.Node) *network.Network {
	r.names = map[string]nameUse{}
	r.groups, r.services = map[string]*pending{}, map[string]*pending{}
	f := r.fields(root, fileObject)
	if f == nil {
		return nil
	}
	if n := f.values["network"]; n != nil && n.Kind == yaml.ScalarNode && r.validName(n) {
		r.draft.Name = n.Value
	} else if n != nil && n.Kind != yaml.ScalarNode {
		r.fail(n, "network is the network's name; gateways and hosts stand beside it, not below it")
	}
	r.readServices(f)
	hosts := r.readHosts(f)
	gateways := r.readGateways(f)
	r.readZones()
	r.net = r.draft.Connect()
	r.net.Timezone = f.timezone("timezone")
	r.readGroups(f)
	for _, h := range hosts {
		r.finishHost(h)
	}
	for _, g := range gateways {
		if other := r.net.Gateway(g.gateway.Formerly); other != nil && other != g.gateway {
			r.fail(g.f.values[formerlyKey], "%s: there is a gateway of this name (line %d); only one of them can be asked by it", other.Name, other.Place.Line)
		}
		r.finishGateway(g)
	}
	for _, e := range f.children("expect") {
		r.readExpectation(e)
	}
	return r.net
}

// A hostNode and a gatewayNode wait for everything to be connected.
type hostNode struct {
	host *network.Host
	f    *fields
}

type gatewayNode struct {
	gateway *network.Gateway
	f       *fields
}

func (r *reader) readServices(f *fields) {
	entries := f.namedChildren("services", "service")
	for _, e := range entries {
		if _, isProtocol := header.ParseProtocol(e.name.Value); isProtocol {
			r.fail(e.name, "%s: this is a protocol and can't be the name of a service", e.name.Value)
			continue
		}
		s := &network.NamedService{Name: e.name.Value, Place: r.place(e.name)}
		r.services[s.Name] = &pending{name: e.name, body: e.body, service: s}
		r.draft.Services = append(r.draft.Services, s)
	}
	for _, s := range r.draft.Services {
		r.resolveService(r.services[s.Name])
	}
}

func (r *reader) resolveService(p *pending) {
	if p.done {
		return
	}
	p.underway = true
	p.service.Services, p.service.Text = r.serviceList(p.body)
	p.underway, p.done = false, true
}

// serviceList reads a service or a list of them. Services that occur twice are
// given once.
func (r *reader) serviceList(n *yaml.Node) (header.Services, string) {
	items := []*yaml.Node{n}
	if n.Kind == yaml.SequenceNode {
		items = n.Content
	}
	if n.Kind == yaml.MappingNode || isNull(n) || len(items) == 0 {
		r.fail(n, "a service is missing here; write https, tcp/443, udp/6970-6999, or a list of such")
		return nil, ""
	}
	var found header.Services
	var texts []string
	for _, item := range items {
		if item.Kind != yaml.ScalarNode || isNull(item) {
			r.fail(item, "a service is one word, as https or tcp/443")
			continue
		}
		services, err := header.ParseService(item.Value, func(name string) (header.Services, error) { return r.namedService(item, name) })
		if err != nil {
			r.fail(item, "%s", err)
			continue
		}
		for _, s := range services {
			if !slices.Contains(found, s) {
				found = append(found, s)
			}
		}
		texts = append(texts, item.Value)
	}
	return found, strings.Join(texts, ", ")
}

// namedService looks a name up in the file, then among the registered names.
func (r *reader) namedService(at *yaml.Node, name string) (header.Services, error) {
	if p := r.services[name]; p != nil {
		if p.underway {
			return nil, errorf("%s: this service contains itself", name)
		}
		r.resolveService(p)
		r.refers(at, 0, "service", name)
		return p.service.Services, nil
	}
	services, found, err := header.NamedService(name)
	if found {
		r.refers(at, 0, registeredKind, name)
	}
	if err != nil || found {
		return services, err
	}
	return nil, NoSuchService(name, maps.Keys(r.services))
}

// NoSuchService is the error where a name is neither one of some nor a registered one. It says what is: by what people call it, or by a near name.
func NoSuchService(name string, own iter.Seq[string]) error {
	if registered := header.RegisteredName(name); registered != "" {
		services, _, _ := header.NamedService(registered)
		return errorf("%s: no such service; what is called so is registered as %s (%s)", name, registered, services)
	}
	known := slices.AppendSeq(slices.Concat(header.ServiceNames(), header.CalledServices()), own)
	near := nearest(name, slices.Sorted(slices.Values(known)))
	if registered := header.RegisteredName(near); registered != "" {
		near = registered + ", which is called " + near
	}
	if near != "" {
		return errorf("%s: no such service; did you mean %s?", name, near)
	}
	return errorf("%s: no such service; write it as tcp/PORT or udp/PORT, or give it a name under services", name)
}

// services reads the services behind a key; nil where it is absent.
func (f *fields) services(key string) (header.Services, string) {
	n := f.values[key]
	if n == nil {
		return nil, ""
	}
	return f.serviceList(n)
}

// readZones lists the zones, which are there as soon as an interface names them.
func (r *reader) readZones() {
	used := map[string]bool{}
	for _, g := range r.draft.Gateways {
		for _, i := range g.Interfaces {
			if i.Zone == "" || used[i.Zone] {
				continue
			}
			used[i.Zone] = true
			r.draft.Zones = append(r.draft.Zones, &network.Zone{Name: i.Zone, Place: i.Place})
		}
	}
}

func (r *reader) readGroups(f *fields) {
	for _, e := range f.namedChildren("groups", "group") {
		if !r.claim(e.name, "group") {
			continue
		}
		g := &network.Group{Name: e.name.Value, Place: r.place(e.name)}
		r.groups[g.Name] = &pending{name: e.name, body: e.body, group: g}
		r.net.Groups = append(r.net.Groups, g)
	}
	for _, g := range r.net.Groups {
		r.resolveGroup(r.groups[g.Name])
	}
}

func (r *reader) resolveGroup(p *pending) {
	if p.done {
		return
	}
	p.underway = true
	items := []*yaml.Node{p.body}
	if p.body.Kind == yaml.SequenceNode {
		items = p.body.Content
	}
	var ranges []header.Range
	var texts []string
	for _, item := range items {
		if item.Kind == yaml.MappingNode {
			members, text := r.listFile(item)
			if len(items) == 1 {
				ranges = members // a list of millions is not copied
			} else {
				ranges = append(ranges, members...)
			}
			texts = append(texts, text)
			continue
		}
		e := r.expression(item)
		for _, zone := range e.Zones() {
			r.fail(item, "%s: this is a zone; a group holds addresses, prefixes, ranges, hosts and other groups", zone)
		}
		ranges = append(ranges, e.Addresses().Ranges()...)
		texts = append(texts, e.Text)
	}
	p.group.Members = header.AddressesIn(ranges)
	p.group.Text = strings.Join(texts, ", ")
	p.underway, p.done = false, true
}

func (r *reader) readHosts(f *fields) []hostNode {
	var nodes []hostNode
	owner := map[netip.Addr]*network.Host{}
	for _, e := range f.namedChildren("hosts", "host") {
		if !r.claim(e.name, "host") {
			continue
		}
		body := r.fields(e.body, hostObject)
		if body == nil {
			continue
		}
		h := &network.Host{
			Name: e.name.Value, Place: r.place(e.name), Assigned: network.Fixed,
			Owner: body.line("owner"), Until: body.deadline("until"),
			SegmentName: body.line("segment"), AnswersPing: body.flag("answers-ping", true),
		}
		if word := body.word("assigned"); word != "" {
			h.Assigned = network.Assignment(word)
		}
		for _, n := range body.scalars("address") {
			a, ok := r.hostAddress(n)
			if !ok {
				continue
			}
			if other := owner[a]; other != nil && other.SegmentName == h.SegmentName {
				r.fail(n, "%s: %s has this address already (line %d)", n.Value, other.Name, other.Place.Line)
				continue
			}
			owner[a] = h
			h.Addresses = append(h.Addresses, a)
		}
		r.readHostServes(h, body)
		r.draft.Hosts = append(r.draft.Hosts, h)
		nodes = append(nodes, hostNode{h, body})
	}
	return nodes
}

func (r *reader) hostAddress(n *yaml.Node) (netip.Addr, bool) {
	if strings.Contains(n.Value, "/") {
		address, _, _ := strings.Cut(n.Value, "/")
		r.fail(n, "%s: a host's address has no prefix length; write %s", n.Value, address)
		return netip.Addr{}, false
	}
	a, err := header.ParseAddress(n.Value)
	if err != nil {
		r.fail(n, "%s", err)
		return netip.Addr{}, false
	}
	if network.CannotSend().Contains(a) {
		r.fail(n, "%s: no machine can have this address", n.Value)
		return netip.Addr{}, false
	}
	return a, true
}

func (r *reader) readHostServes(h *network.Host, body *fields) {
	n := body.values["serves"]
	if n == nil || isNull(n) {
		return
	}
	items := []*yaml.Node{n}
	if n.Kind == yaml.SequenceNode {
		items = n.Content
	}
	for _, item := range items {
		if item.Kind != yaml.MappingNode {
			services, text := r.serviceList(item)
			h.Serves = append(h.Serves, network.HostService{Services: services, Text: text})
			continue
		}
		f := r.fields(item, boundServiceObject)
		services, text := f.services("service")
		s := network.HostService{Services: services}
		if n, ok := f.scalar("at"); ok {
			a, err := header.ParseAddress(n.Value)
			switch {
			case err != nil:
				r.fail(n, "%s", err)
			case !a.IsLoopback() && !h.Has(a):
				r.fail(n, "%s: %s does not have this address", n.Value, h.Name)
			}
			s.At = a
			text += " at " + a.String()
		}
		s.Text = text
		h.Serves = append(h.Serves, s)
	}
}

// finishHost reads what of a host speaks about other things.
func (r *reader) finishHost(n hostNode) {
	h, f := n.host, n.f
	if node, ok := f.scalar("gateway"); ok {
		r.defaultGateway(h, node)
	}
	if node, ok := f.scalar("segment"); ok && !slices.ContainsFunc(r.net.Segments, func(s *network.Segment) bool { return s.Name == node.Value }) {
		r.fail(node, "%s: no interface names this segment", node.Value)
	}
	r.checkOwners(h, f)
	r.checkDefaultGateway(h, f)
	if node := f.values["firewall"]; node != nil {
		h.Firewall = &network.HostFirewall{}
		for _, rule := range f.children("firewall") {
			if hr, ok := r.hostRule(rule); ok {
				h.Firewall.Rules = append(h.Firewall.Rules, hr)
			}
		}
	}
	for _, relay := range f.children("relays") {
		r.readRelay(h, relay)
	}
}

// checkOwners reports addresses that a gateway has already.
func (r *reader) checkOwners(h *network.Host, f *fields) {
	for _, n := range f.scalars("address") {
		a, err := header.ParseAddress(n.Value)
		if err != nil {
			continue
		}
		if s := h.Segment(a); s != nil && s.OwnerOn(a) != nil {
			r.fail(n, "%s: %s has this address already", n.Value, s.OwnerOn(a))
		}
	}
}

// defaultGateway reads a host's default gateway: a gateway's name, one of its addresses
// on a segment of the host, or that of the provider's router on an uplink's segment.
func (r *reader) defaultGateway(h *network.Host, n *yaml.Node) {
	if !header.LooksLikeAddress(n.Value) {
		if h.Gateway = r.net.Gateway(n.Value); h.Gateway == nil {
			r.fail(n, "%s: no such gateway%s", n.Value, oneOf(n.Value, r.gatewayNames()))
		}
		r.refers(n, 0, "gateway", n.Value)
		return
	}
	a, err := header.ParseAddress(n.Value)
	if err != nil {
		r.fail(n, "%s", err)
		return
	}
	for _, s := range segmentsOf(h) {
		if i := s.OwnerOn(a); i != nil {
			h.Gateway, h.By = i.Gateway, i
			return
		}
		if s.Behind != nil { // the inside router sends to it
			if i := s.Behind.Segment.OwnerOn(a); i != nil {
				h.Gateway = i.Gateway
				return
			}
		}
		for _, i := range s.Interfaces {
			if slices.ContainsFunc(i.Gateway.Upstreams(), func(u network.Route) bool { return u.Via == a && u.Out == i }) {
				h.Upstream = s
				return
			}
		}
	}
	own := func(s *network.Segment) bool { return s.Contains(a) && !h.Has(a) }
	switch at := slices.IndexFunc(segmentsOf(h), own); {
	case at >= 0 && segmentsOf(h)[at].Behind != nil: // the inside router's, on that side
	case at >= 0:
		h.Elsewhere = a
	default:
		r.fail(n, "%s: this is on no segment of %s, so it can't be its default gateway", n.Value, h.Name)
	}
}

// segmentsOf returns the segments that a host has addresses on.
func segmentsOf(h *network.Host) []*network.Segment {
	var list []*network.Segment
	for _, a := range h.Addresses {
		if s := h.Segment(a); s != nil && !slices.Contains(list, s) {
			list = append(list, s)
		}
	}
	return list
}

// checkDefaultGateway asks for the gateway where a host could use several.
func (r *reader) checkDefaultGateway(h *network.Host, f *fields) {
	if h.Gateway != nil {
		for _, a := range h.Addresses {
			s := h.Segment(a)
			if s != nil && s.Behind != nil {
				s = s.Behind.Segment
			}
			if s != nil && slices.ContainsFunc(s.Interfaces, func(i *network.Interface) bool { return i.Gateway == h.Gateway }) {
				return
			}
		}
		r.fail(f.values["gateway"], "%s: this gateway is on none of the segments of %s", h.Gateway.Name, h.Name)
		return
	}
	if f.values["gateway"] != nil || h.Upstream != nil {
		return
	}
	// On an uplink's segment that is the provider's router; where that and a gateway
	// are to choose from, it is named by its address.
	var names []string
	segments := segmentsOf(h)
	for _, s := range segments {
		provider := false
		for _, a := range h.Addresses {
			provider = provider || h.Segment(a) == s && s.IsUplink(header.FamilyOf(a))
		}
		if provider {
			names = append(names, routerOn(s))
			continue
		}
		for _, i := range s.Interfaces {
			names = append(names, i.Gateway.Name)
		}
	}
	slices.Sort(names)
	if names = slices.Compact(names); len(names) > 1 {
		what := "its segment has"
		if len(segments) > 1 {
			what = "its segments have"
		}
		r.failAt(h.Place, len(h.Name), "%s: %s several gateways; say which it uses with gateway: %s", h.Name, what, strings.Join(names, " or "))
	}
}

// routerOn returns the address of the provider's router on an uplink's segment.
func routerOn(s *network.Segment) string {
	for _, i := range s.Interfaces {
		for _, u := range i.Gateway.Upstreams() {
			if u.Out == i && u.Via.IsValid() {
				return u.Via.String()
			}
		}
	}
	return "the provider's router"
}

func (r *reader) hostRule(f *fields) (network.HostRule, bool) {
	rule := network.HostRule{From: header.AllAddresses()}
	for _, verb := range network.Verbs {
		if f.values[string(verb)] == nil {
			continue
		}
		if rule.Verb != "" {
			r.fail(f.keys[string(verb)], "a rule has one verb: %s or %s", rule.Verb, verb)
			return rule, false
		}
		rule.Verb = verb
		var text string
		rule.Services, text = f.services(string(verb))
		rule.Text = string(verb) + " " + text
	}
	if rule.Verb == "" {
		r.fail(f.node, "a host firewall rule begins with allow, drop or reject and the services")
		return rule, false
	}
	if n := f.values["from"]; n != nil {
		e := r.expression(n)
		rule.From = e.Addresses()
		rule.Text += " from " + e.Text
	}
	return rule, true
}

func (r *reader) readRelay(h *network.Host, f *fields) {
	relay := network.Relay{Place: f.place(f.node)}
	var text string
	relay.Listen, text = f.services("listen")
	n, ok := f.scalar("to")
	if !ok {
		return
	}
	t, ok := r.target(n)
	if !ok {
		return
	}
	relay.To = t.address.V4
	if !relay.To.IsValid() {
		relay.To = t.address.V6
	}
	if relay.ToPort, ok = r.onePort(n, t); !ok {
		return
	}
	relay.Text = text + " to " + n.Value
	h.Relays = append(h.Relays, relay)
}

func (r *reader) gatewayNames() []string {
	var names []string
	for _, g := range r.net.Gateways {
		names = append(names, g.Name)
	}
	return names
}
