package kernel

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"

	"golang.org/x/sys/unix"
)

// translateDestination is the third step, and, on the kernel, the half of the eighth that
// rewrites destinations.
func (c *compiler) translateDestination() {
	in := c.base("destination", "step 3: destinations are translated", "nat", unix.NF_INET_PRE_ROUTING, nextToNAT, accepts)
	var elements []element
	for _, i := range c.own {
		ch := c.chain("destination-"+i.Name, "what arrives by "+i.Name)
		c.list(ch, c.active(c.g.Destinations(i)), destination, c.redirect)
		c.byMapping(ch, i)
		if len(c.rewrites) > 0 {
			c.bothEnds(ch, i)
		}
		elements = append(elements, element{key: deviceKey(c.Device(i)), goes: goesTo(ch.name), words: i.Name})
	}
	c.byInterface(in, elements)
}

// byInterface sends packets to a chain for the interface they came by.
func (c *compiler) byInterface(to *chain, elements []element) {
	if len(elements) == 0 {
		return
	}
	s := c.set(set{keyLen: unix.IFNAMSIZ, verdicts: true, elements: elements, words: "by the interface"})
	to.add(one("by the interface "+s.name, meta(unix.NFT_META_IIFNAME, register0), lookupInto(s.name, register0, unix.NFT_REG_VERDICT)))
}

// redirect makes the chain for what a rule does to destinations, and returns its name.
func (c *compiler) redirect(m engine.Match) string {
	r, name := m.NAT, counterOf(m.Rule)
	if c.named[name] != nil {
		return name
	}
	ch := c.chain(name, r.Text())
	c.refuseMiddle(ch)
	begins := c.begins(m.Rule)
	if c.asksRedirected {
		begins = slices.Concat(begins, marks("mark that it is led elsewhere", ledMark, ledMark))
	}
	if c.g.Handling.ForwardsPermit && r.Does.Permits() {
		begins = slices.Concat(begins, marks("permit it", permitMark, permitMark))
	}
	if r.Hairpin {
		begins = slices.Concat(begins, marks("mark its hairpin", hairpinMark, hairpinMark))
	}
	if r.Does == network.OneToOne {
		ch.add(begins, c.shift(unix.NFT_NAT_DNAT, r.Outside, r.Inside))
		return name
	}
	if single := len(r.Ports) == 1 && r.Target.V4.IsValid() != r.Target.V6.IsValid(); single { // the list has asked for all that
		if to, f := cmp.Or(r.Target.V4, r.Target.V6), r.Ports[0]; f.Ports.First == f.Ports.Last || f.ToFirst == f.Ports.First {
			ch.add(begins, c.sendPort(header.FamilyOf(to), to, f))
			return name
		}
	}
	ch.add(begins)
	for _, f := range header.Families {
		to, has := r.Target.V4, r.Target.V4.IsValid()
		if f == header.IPv6 {
			to, has = r.Target.V6, r.Target.V6.IsValid()
		}
		if !has {
			continue
		}
		if len(r.Ports) == 0 {
			ch.add(ofFamily(f), c.sendTo(f, to, nil, ""))
		}
		for _, pm := range r.Ports {
			c.redirectPorts(ch, f, to, pm)
		}
	}
	return name
}

// redirectPorts adds what a forward does to one range of ports.
func (c *compiler) redirectPorts(ch *chain, f header.Family, to netip.Addr, pm network.PortMap) {
	match := ofFamily(f)
	if pm.Protocol != header.AnyProtocol {
		match = slices.Concat(match, ofProtocol(pm.Protocol, f))
	}
	switch {
	case !pm.Protocol.HasPorts():
		ch.add(match, c.sendTo(f, to, nil, ""))
		return
	default:
		match = slices.Concat(match, c.ports(destination, []header.Ports{pm.Ports}))
	}
	switch {
	case pm.ToFirst == pm.Ports.First, pm.Ports.First == pm.Ports.Last:
		ch.add(match, c.sendPort(f, to, pm))
	default:
		var elements []element
		for n := int(pm.Ports.First); n <= int(pm.Ports.Last); n++ {
			become := pm.Apply(uint16(n))
			elements = append(elements, element{key: port(uint16(n)), data: port(become), words: fmt.Sprintf("%d becomes %d", n, become)})
		}
		s := c.set(set{keyLen: 2, dataLen: 2, elements: elements, words: "ports that become others"})
		last := pm.Apply(pm.Ports.Last)
		ch.add(match, c.sendTo(f, to, []expression{destination.port(register0), lookupInto(s.name, register0, register0+8)}, fmt.Sprintf(":%d-%d", pm.ToFirst, last)))
	}
}

// sendPort gives the packet another destination, and the port that all of a map become.
func (c *compiler) sendPort(f header.Family, to netip.Addr, pm network.PortMap) []statement {
	if pm.ToFirst == pm.Ports.First {
		return c.sendTo(f, to, nil, "")
	}
	return c.sendTo(f, to, []expression{immediate(register0+8, port(pm.ToFirst))}, fmt.Sprintf(":%d", pm.ToFirst))
}

// sendTo gives the packet another destination, and the port that some expressions put into
// register 8.
func (c *compiler) sendTo(f header.Family, a netip.Addr, withPort []expression, words string) []statement {
	t := translation{kind: unix.NFT_NAT_DNAT, family: familyNumbers[f], first: register0, last: register0}
	if withPort != nil {
		t.firstPort, t.lastPort = register0+8, register0+8
	}
	all := append(slices.Clone(withPort), immediate(register0, a.AsSlice()), t.expression())
	return one("to "+netip.AddrPortFrom(a, 0).Addr().String()+words, all...)
}

// shift translates addresses of one range to those of another of the same size.
func (c *compiler) shift(kind uint32, from, to header.Range) []statement {
	f := header.FamilyOf(to.First)
	end, words := source, "from "
	if kind == unix.NFT_NAT_DNAT {
		end, words = destination, "to "
	}
	words += to.String()
	t := translation{kind: kind, family: familyNumbers[f], first: register0, last: register0}
	switch {
	case from.First == from.Last:
		return one(words, immediate(register0, to.First.AsSlice()), t.expression())
	case isPrefix(from) && isPrefix(to):
		t.last, t.flags = register0+4, natMapsPrefix
		return one(words, immediate(register0, to.First.AsSlice()), immediate(register0+4, to.Last.AsSlice()), t.expression())
	}
	var elements []element
	for a := from.First; ; a = a.Next() {
		become := header.Shift(a, from.First, to.First)
		elements = append(elements, element{key: a.AsSlice(), data: become.AsSlice(), words: a.String() + " becomes " + become.String()})
		if a == from.Last {
			break
		}
	}
	length := uint32(len(elements[0].key))
	s := c.set(set{keyLen: length, dataLen: length, elements: elements, words: "addresses that become others"})
	return one(words, end.address(f, register0), lookupInto(s.name, register0, register0), t.expression())
}

// isPrefix reports whether a range is all of a prefix.
func isPrefix(r header.Range) bool {
	for bits := r.First.BitLen(); bits >= 0; bits-- {
		if p, err := r.First.Prefix(bits); err == nil && p.Addr() == r.First && header.RangeOf(p).Last == r.Last {
			return true
		}
	}
	return false
}

// bothEnds adds, behind the rules for destinations, those source rules that rewrite both ends:
// the kernel rewrites destinations only on arrival. The way that the packet would take is
// asked for, and the mark says later which rule it was; the filter sees the destination as it
// was before.
func (c *compiler) bothEnds(ch *chain, in *network.Interface) {
	for _, f := range header.Families {
		if set := c.claimed().Union(c.g.Own()).Intersect(f.All()); !set.Empty() {
			ch.add(ofFamily(f), c.among(destination, f, set), ends(accepts))
		}
	}
	var elements []element
	for _, out := range c.own {
		if !slices.ContainsFunc(c.rewrites, func(r *network.NATRule) bool { return slices.Contains(r.On, out) }) {
			continue
		}
		by := c.chain(fmt.Sprintf("both-ends-%s-%s", in.Name, out.Name), fmt.Sprintf("step 8 for what would go from %s to %s: destinations are rewritten on arrival", in.Name, out.Name))
		for m := range c.active(c.g.Sources(in, out)) {
			if !m.NAT.Destination.IsValid() {
				c.rules(by, m, destination, nil, ends(accepts))
				continue
			}
			r, f := m.NAT, header.FamilyOf(m.NAT.Destination)
			m.To = m.To.Intersect(f.All())
			mark := marks("mark that "+r.Name+" rewrites both ends", bothMark, uint32(r.Number)<<bothShift)
			kept := c.sendTo(f, r.Destination, nil, "")
			if r.DestPort == 0 {
				c.rules(by, m, destination, nil, slices.Concat(mark, kept))
				continue
			}
			for _, protocol := range header.Protocols() {
				one := m
				if one.Services = servicesOf(m.Services, protocol); len(one.Services) == 0 {
					continue
				}
				then := kept
				if protocol.HasPorts() {
					then = c.sendTo(f, r.Destination, []expression{immediate(register0+8, port(r.DestPort))}, fmt.Sprintf(":%d", r.DestPort))
				}
				c.rules(by, one, destination, nil, slices.Concat(mark, then))
			}
		}
		elements = append(elements, element{key: pairKey(c.Device(in), c.Device(out)), goes: goesTo(by.name), words: in.Name + " to " + out.Name})
	}
	if len(elements) > 0 {
		ch.add(c.byPair(elements, routeOut(register0+4)))
	}
}

// servicesOf returns those of some services, all where there are none, that are of a protocol.
func servicesOf(list header.Services, protocol header.Protocol) (of header.Services) {
	ports, any := list.Of(protocol)
	switch {
	case (any || len(list) == 0) && protocol.HasPorts():
		return header.Services{{Protocol: protocol, Ports: header.AllPorts}}
	case any || len(list) == 0:
		return header.Services{{Protocol: protocol}}
	}
	for _, p := range ports {
		of = append(of, header.Service{Protocol: protocol, Ports: p})
	}
	return of
}

// translateSource is the eighth step.
func (c *compiler) translateSource() {
	out := c.base("source", "step 8: sources are translated", "nat", unix.NF_INET_POST_ROUTING, sourcePlace, accepts)
	for _, r := range c.rewrites {
		for _, i := range c.own {
			if slices.Contains(r.On, i) {
				out.add(leavesBy(c.Device(i)), marked("whose both ends "+r.Name+" rewrites", bothMark, uint32(r.Number)<<bothShift), ends(goesTo(c.hide(r, i))))
			}
		}
	}
	var elements []element
	for _, from := range c.own {
		for _, to := range c.own {
			if name := c.sourceChain(from, to); name != "" {
				elements = append(elements, element{key: pairKey(c.Device(from), c.Device(to)), goes: goesTo(name), words: from.Name + " to " + to.Name})
			}
		}
	}
	if len(elements) > 0 {
		out.add(c.byPair(elements, meta(unix.NFT_META_OIFNAME, register0+4)))
	}
}

// sourceChain makes the chain of source rules between two interfaces, and returns its name, or
// none where there are no rules.
func (c *compiler) sourceChain(from, to *network.Interface) string {
	hairpins := from.Segment == to.Segment && slices.ContainsFunc(c.g.NAT, func(r *network.NATRule) bool { return r.Hairpin && !r.Off() })
	name := fmt.Sprintf("source-%s-%s", from.Zone, to.Name)
	if hairpins {
		name += "-hairpin"
	}
	if c.named[name] != nil {
		return name
	}
	list := slices.Collect(c.active(c.g.Sources(from, to)))
	if len(list) == 0 && !hairpins {
		return ""
	}
	ch := c.chain(name, fmt.Sprintf("from %s out by %s", from.Zone, to.Name))
	c.list(ch, slices.Values(slices.DeleteFunc(list, func(m engine.Match) bool { return m.NAT.Does == network.SourceNAT && m.NAT.Destination.IsValid() })), destination,
		func(m engine.Match) string { return c.hide(m.NAT, to) })
	if hairpins {
		for _, f := range header.Families {
			if a, has := to.Address(f); has {
				ch.add(ofFamily(f), marked("redirected by a hairpin", hairpinMark, hairpinMark), c.behind(f, header.Single(a), header.Ports{}))
			}
		}
	}
	return name
}

// hide makes the chain for what a rule does to sources of what leaves by an interface, and
// returns its name.
func (c *compiler) hide(r *network.NATRule, out *network.Interface) string {
	name := counterOf(&r.Rule) + "/" + out.Name
	if c.named[name] != nil {
		return name
	}
	ch := c.chain(name, r.Text())
	if r.Does != network.NoNAT {
		c.refuseMiddle(ch)
	}
	begins := c.begins(&r.Rule)
	switch r.Does {
	case network.NoNAT:
		ch.add(begins, ends(accepts))
	case network.OneToOne:
		ch.add(begins, c.shift(unix.NFT_NAT_SNAT, r.Inside, r.Outside))
	case network.SourceNAT:
		ch.add(begins)
		for _, f := range header.Families {
			pool := c.g.Pool(r, out, f)
			if pool.Empty() {
				continue
			}
			if f == header.IPv4 {
				c.sourceByMapping(ch, r, out, pool)
			}
			for _, p := range header.Protocols() {
				if r.SourcePorts != (header.Ports{}) && !p.Numbered() {
					ch.add(ofFamily(f), ofProtocol(p, f), c.behind(f, pool, header.Ports{}))
				}
			}
			ch.add(ofFamily(f), c.behind(f, pool, r.SourcePorts))
		}
	}
	return name
}

// refuseMiddle drops what goes on in the middle of a connection before it is translated: half way, it can't become another one.
func (c *compiler) refuseMiddle(ch *chain) {
	if c.Middle && !c.g.Handling.TCPLoose {
		ch.add(notBeginning(), ends(drops))
	}
}

// behind hides the source behind a pool.
func (c *compiler) behind(f header.Family, pool header.Addresses, ports header.Ports) []statement {
	words := "from " + pool.String()
	t := translation{kind: unix.NFT_NAT_SNAT, family: familyNumbers[f], first: register0, last: register0 + 4}
	var all []expression
	if c.g.Handling.PortAssignment == network.PortRandom {
		t.flags = natRandomPorts
	}
	if ports != (header.Ports{}) {
		words += ", ports " + ports.String()
		t.firstPort, t.lastPort = register0+8, register0+9
		all = append(all, immediate(register0+8, port(ports.First)), immediate(register0+9, port(ports.Last)))
	}
	ranges := pool.Ranges()
	if len(ranges) == 1 {
		all = append(all, immediate(register0, ranges[0].First.AsSlice()), immediate(register0+4, ranges[0].Last.AsSlice()), t.expression())
		return one(words, all...)
	}
	// The kernel takes one range: which of several it is, the source decides.
	var elements []element
	for _, r := range ranges {
		both := append(r.First.AsSlice(), r.Last.AsSlice()...)
		elements = append(elements, element{key: host32(uint32(len(elements))), data: both, words: fmt.Sprintf("%d: %s", len(elements), r)})
	}
	s := c.set(set{keyLen: 4, dataLen: uint32(len(elements[0].data)), elements: elements, words: "ranges of a pool"})
	length := uint32(len(ranges[0].First.AsSlice()))
	t.last = register0 + length/4
	all = append(all, source.address(f, register0+12), hashOf(register0+12, length, uint32(len(ranges)), register0+12), lookupInto(s.name, register0+12, register0), t.expression())
	return one(words, all...)
}
