package kernel

import (
	"fmt"
	"slices"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"

	"golang.org/x/sys/unix"
)

// permissions is the sixth step: the filter.
func (c *compiler) permissions() {
	g := c.g
	in := c.base("filter", "step 6: who may pass", "filter", unix.NF_INET_FORWARD, filterPlace, drops)
	notICMP := notOf("icmp", unix.IPPROTO_ICMP, unix.IPPROTO_ICMPV6)
	if g.Handling.ICMPUntracked {
		in.add(inState(relatedState), ends(accepts))
		in.add(inState(establishedState), notICMP, ends(accepts))
	} else {
		in.add(inState(known), ends(accepts))
	}
	stray := inState(invalidState)
	if g.Handling.ICMPUntracked {
		stray = slices.Concat(stray, notICMP)
	}
	if g.Handling.TCPLoose {
		stray = slices.Concat(stray, notOf("tcp", unix.IPPROTO_TCP))
	} else if !c.Middle {
		in.add(inState(newState), notBeginning(), ends(drops))
	}
	in.add(stray, ends(drops))
	// Who was let through and has no answer yet is let through, and is no other connection.
	in.add(inState(newState), wasKept(), c.unlessUntracked(notICMP), ends(accepts))
	in.add(inState(newState), marked("whose forward permits it", permitMark, permitMark), ends(accepts))
	seen := destination
	if g.Handling.FilterSeesOriginal {
		seen = destinationBefore
		if g.Handling.ICMPUntracked {
			in.add(inState(establishedState), inDirection(true), c.filterBetween(destinationOfAnswer))
		}
		if g.Handling.ICMPUntracked || g.Handling.TCPLoose {
			in.add(inState(invalidState), c.filterBetween(destination)) // what is not tracked is not translated
		}
	} else if len(c.rewrites) > 0 {
		in.add(one("whose both ends are rewritten", tracked(unix.NFT_CT_MARK, register0), mask(register0, host32(bothMark), host32(0)), compare(unix.NFT_CMP_NEQ, register0, host32(0))),
			c.filterBetween(destinationBefore))
	}
	in.add(c.filterBetween(seen))
}

// wasKept asks whether the connection of a packet was let through before: then the kernel keeps it.
func wasKept() []statement {
	return one("of a connection that was let through", tracked(unix.NFT_CT_STATUS, register0), mask(register0, host32(statusKept), host32(0)), compare(unix.NFT_CMP_NEQ, register0, host32(0)))
}

// statusKept is IPS_CONFIRMED of linux/netfilter/nf_conntrack_common.h.
const statusKept = 1 << 3

// unlessUntracked returns conditions where the gateway does not track ICMP, and none where it does.
func (c *compiler) unlessUntracked(conditions []statement) []statement {
	if c.g.Handling.ICMPUntracked {
		return conditions
	}
	return nil
}

// notOf asks whether a packet is of none of some protocols.
func notOf(words string, numbers ...byte) []statement {
	all := []expression{meta(unix.NFT_META_L4PROTO, register0)}
	for _, n := range numbers {
		all = append(all, compare(unix.NFT_CMP_NEQ, register0, []byte{n}))
	}
	return one("not "+words, all...)
}

// filterBetween sends packets to the filter's chain for their two interfaces.
func (c *compiler) filterBetween(seen end) []statement {
	var elements []element
	for _, in := range c.own {
		for _, out := range c.own {
			name := c.filterChain(in, out, seen)
			elements = append(elements, element{key: pairKey(c.Device(in), c.Device(out)), goes: goesTo(name), words: in.Name + " to " + out.Name})
		}
	}
	return c.byPair(elements, meta(unix.NFT_META_OIFNAME, register0+4))
}

// filterChain makes the filter's chain between two zones, by what it compares destinations with.
func (c *compiler) filterChain(in, out *network.Interface, seen end) string {
	name := fmt.Sprintf("filter-%s-%s", in.Zone, out.Zone)
	switch seen {
	case destinationBefore:
		name += "-before"
	case destinationOfAnswer:
		name += "-answer"
	}
	if c.named[name] != nil {
		return name
	}
	ch := c.chain(name, fmt.Sprintf("from %s to %s", in.Zone, out.Zone))
	c.permissionsBetween(ch, in, out, seen)
	c.permitMapped(ch, in)
	switch {
	case c.g.Trusts(in, out):
		ch.add(c.counted("by-trust"), ends(accepts))
	case c.logsUnmatched():
		ch.add(c.counted("unmatched"), logged(UnmatchedMark), ends(drops))
	default:
		ch.add(c.counted("unmatched"), ends(drops))
	}
	return name
}

// A permitting is a list of filter rules that stands in a chain.
type permitting struct {
	list  []engine.Match
	seen  end
	chain string
}

// permissionsBetween adds the filter rules between two interfaces to a chain: those that can
// match what is routed there. What is the same between others stands only once.
func (c *compiler) permissionsBetween(ch *chain, in, out *network.Interface, seen end) {
	var list []engine.Match
	routed := c.routedTo(out.Zone)
	for m := range c.active(c.g.Permissions(in, out)) {
		if seen == destination {
			if m.To = m.To.Intersect(routed); m.To.Empty() {
				continue
			}
			if m.To.Equal(routed) {
				m.To = header.AllAddresses()
			}
		}
		list = append(list, m)
	}
	if len(list) <= shortList {
		c.list(ch, slices.Values(list), seen, c.filterAction)
		return
	}
	for _, p := range c.permitted {
		if p.seen == seen && slices.EqualFunc(p.list, list, func(a, b engine.Match) bool { return a.Rule == b.Rule && a.From.Equal(b.From) && a.To.Equal(b.To) }) {
			ch.add(ends(jumpsTo(p.chain)))
			return
		}
	}
	rules := c.chain(ch.name+"-rules", "")
	c.permitted = append(c.permitted, permitting{list, seen, rules.name})
	c.list(rules, slices.Values(list), seen, c.filterAction)
	ch.add(ends(jumpsTo(rules.name)))
}

// routedTo returns the addresses that are reached by the interfaces of a zone.
func (c *compiler) routedTo(zone string) header.Addresses {
	var all header.Addresses
	for _, i := range c.own {
		if i.Zone == zone {
			all = all.Union(c.g.RoutedBy(i))
		}
	}
	return all
}

// filterAction makes the chain for what a filter rule does, and returns its name.
func (c *compiler) filterAction(m engine.Match) string {
	name := counterOf(m.Rule)
	if c.named[name] != nil {
		return name
	}
	ch := c.chain(name, string(m.Verb)+" "+m.Rule.Name)
	begins := c.begins(m.Rule)
	switch m.Verb {
	case network.Allow: // what begins nothing is not counted as a connection, nor logged
		if c.g.Handling.TCPLoose {
			ch.add(inState(invalidState), ofProtocol(header.TCP, header.IPv4), ends(accepts))
		}
		if c.g.Handling.ICMPUntracked {
			ch.add(notInState(invalidState, "of a connection"), wasKept(), ends(accepts))
		}
		ch.add(begins, ends(accepts))
	case network.Drop:
		ch.add(begins, ends(drops))
	case network.Reject:
		ch.add(begins)
		ch.add(ofProtocol(header.TCP, header.IPv4), one("reset", reject(unix.NFT_REJECT_TCP_RST, 0)))
		ch.add(one("tell that it is prohibited", reject(unix.NFT_REJECT_ICMPX_UNREACH, unix.NFT_REJECT_ICMPX_ADMIN_PROHIBITED)))
	}
	return name
}

// turnBack is the seventh step, and what has room for sessions.
func (c *compiler) turnBack() {
	in := c.base("turn-back", "step 7: leaving by the interface it came in by", "filter", unix.NF_INET_FORWARD, behindFilter, accepts)
	in.add(inState(newState), wasKept(), ends(accepts))
	if !c.g.Handling.TurnBack {
		var elements []element
		for _, i := range c.own {
			elements = append(elements, element{key: pairKey(c.Device(i), c.Device(i)), goes: drops, words: i.Name + " to " + i.Name})
		}
		in.add(notInState(known, "of no known connection"), c.byPair(elements, meta(unix.NFT_META_OIFNAME, register0+4)))
	}
	if most := c.g.Limits.Sessions; most > 0 {
		in.add(inState(newState), one(fmt.Sprintf("more than %d sessions", most), moreConnections(uint32(most))), c.counted("no-room"), ends(drops))
	}
}
