package kernel

import (
	"errors"
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"strings"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"

	"golang.org/x/sys/unix"
)

// The marks that connections carry (the kernel's connection mark), by bits.
const (
	permitMark  uint32 = 1 << 0 // a forward brings its own permission
	hairpinMark uint32 = 1 << 1 // redirected by a rule with a hairpin
	ledMark     uint32 = 1 << 3 // a rule leads it to another destination
	uplinkMark  uint32 = 0xf0   // the number of the uplink that it came in by, from 1; 0 for none
	bothMark    uint32 = ^uint32(0xff)
	bothShift          = 8 // the number of the source-nat rule that rewrites both ends, from 1
)

// UplinkMark returns the packet mark that asks for the way out by an uplink, by its number
// among the gateway's uplinks, counted from 1, and the bits that it is made of.
func UplinkMark(number int) (mark, bits uint32) { return uint32(number) << 4, uplinkMark }

// mostUplinks is how many uplinks have a number in the mark.
const mostUplinks = 15

// DeviceOf returns what an interface is called on the machine: its device, or else its name.
func DeviceOf(i *network.Interface) string {
	if i.Device != "" {
		return i.Device
	}
	return i.Name
}

// Options are how a gateway is compiled.
type Options struct {
	At       *network.Moment                 // when; where nil, the kernel's clock decides about hours
	Device   func(*network.Interface) string // what interfaces are called on the machine; nil is DeviceOf
	LeaveOut bool                            // what the kernel can't do is left out, and no error
	Mappings []*network.Mapping              // that are there from the beginning
	Middle   bool                            // the middle of a TCP connection opens a session too, in a direction that the rules allow and do not translate
}

// An Unable is something that the kernel can't do as the file says.
type Unable struct {
	Rule   *network.Rule // nil where it is no rule
	Place  network.Position
	Reason string
}

func (u *Unable) Error() string { return fmt.Sprintf("%s: %s", u.Place, u.Reason) }

// A compiler makes the program of one gateway.
type compiler struct {
	*Program
	Options
	g        *engine.Gateway
	own      []*network.Interface // those that are up and have addresses
	unable   []*Unable
	leftOut  map[*network.Rule]bool
	rewrites []*network.NATRule // the source-nat rules that rewrite both ends

	asksRedirected bool // some filter rule takes only what a rule led here

	mapped    [2]*mappingSets // of each family, where mappings are
	permitted []permitting    // lists of filter rules that stand somewhere
}

// Compile makes the program for a gateway. What the kernel can't do as the file says is an
// error, all of it together; where it may be left out, it is returned with the program.
func Compile(g *engine.Gateway, o Options) (*Program, []*Unable, error) {
	c := &compiler{Program: newProgram(g.Name), Options: o, g: g, leftOut: map[*network.Rule]bool{}}
	if c.Device == nil {
		c.Device = DeviceOf
	}
	for _, i := range g.Interfaces {
		if i.IsUp() && len(i.Addresses) > 0 {
			c.own = append(c.own, i)
		}
	}
	c.asksRedirected = slices.ContainsFunc(g.Filter, func(r *network.FilterRule) bool { return r.Redirected && !r.Off() })
	c.checkDevices()
	c.checkRules()
	if len(c.unable) > 0 && !c.LeaveOut {
		all := make([]error, len(c.unable))
		for n, u := range c.unable {
			all[n] = u
		}
		return nil, c.unable, errors.Join(all...)
	}
	c.arrive()
	c.stayOnUplinks()
	c.translateDestination()
	c.claims()
	c.itself()
	c.permissions()
	c.turnBack()
	c.translateSource()
	return c.Program, c.unable, nil
}

func (c *compiler) cannot(rule *network.Rule, place network.Position, format string, args ...any) {
	c.unable = append(c.unable, &Unable{rule, place, fmt.Sprintf(format, args...)})
	if rule != nil {
		c.leftOut[rule] = true
	}
}

func (c *compiler) checkDevices() {
	known := map[string]*network.Interface{}
	for _, i := range c.g.Interfaces {
		if i.Dynamic {
			c.cannot(nil, i.Place, "%s: the provider gives its address, and the kernel's rules have to name it: write the one that it has now", i)
		}
		name := c.Device(i)
		if len(name) >= unix.IFNAMSIZ || strings.ContainsAny(name, "/ \t:") || name == "lo" {
			c.cannot(nil, i.Place, "%s: the kernel has no interface called %q: say with device: what it is called there, in at most %d characters", i, name, unix.IFNAMSIZ-1)
		}
		if other := known[name]; other != nil {
			c.cannot(nil, i.Place, "%s and %s are both called %s on the machine; give one another device:", other, i, name)
		}
		known[name] = i
	}
	if n := len(c.g.Stays()); n > mostUplinks {
		c.cannot(nil, c.g.Place, "%s: %d uplinks, and interfaces of VPN clients to whom longer routes lead; answers are kept on theirs for %d at most", c.g.Name, n, mostUplinks)
	}
}

// checkRules says which rules the kernel can't follow.
func (c *compiler) checkRules() {
	if c.g.Handling.PortAssignment == network.PortSequential && slices.ContainsFunc(c.g.NAT, func(r *network.NATRule) bool { return r.Does == network.SourceNAT }) {
		c.cannot(nil, c.g.Place, "%s: port-assignment: sequential: the kernel keeps a port that is free, or chooses any; it can't take the first one", c.g.Name)
	}
	for r := range c.g.Rules() {
		if where := c.g.Location(); c.At == nil && r.When != nil && !r.Off() && where != time.UTC {
			c.cannot(r, r.Place, "%s %s: the kernel's hours are those of UTC, not of %s", r.Kind, r.Name, where)
		}
	}
	for _, r := range c.g.NAT {
		switch {
		case r.Off():
		case r.Does == network.PrefixNAT:
			c.cannot(&r.Rule, r.Place, "prefix-nat %s: the kernel can't translate prefixes so that checksums stay (RFC 6296)", r.Name)
		case r.Does == network.SourceNAT && r.Destination.IsValid():
			if c.checkBothEnds(r); !c.leftOut[&r.Rule] {
				c.rewrites = append(c.rewrites, r)
			}
		}
	}
}

// checkBothEnds: the kernel rewrites destinations only on arrival, before it knows the way.
func (c *compiler) checkBothEnds(r *network.NATRule) {
	if out := c.g.OutTo(r.Destination); out == nil || !slices.Contains(r.On, out) || len(r.On) > 1 {
		c.cannot(&r.Rule, r.Place, "source-nat %s: the kernel rewrites the destination on arrival, so %s must leave by the one interface that the rule is for", r.Name, r.DestinationAs)
	}
	for _, f := range c.g.NAT {
		if f.Off() || !f.Does.RewritesDestination() {
			continue
		}
		leads := header.AddressesOf(f.Inside)
		if f.Does != network.OneToOne {
			leads = header.Addresses{}
			for _, a := range []netip.Addr{f.Target.V4, f.Target.V6} {
				if a.IsValid() {
					leads = leads.Union(header.Single(a))
				}
			}
		}
		if meets := leads.Intersect(r.To.Addresses()); !meets.Empty() {
			c.cannot(&r.Rule, r.Place, "source-nat %s: %s leads to %s, which it would rewrite again: the kernel rewrites a destination once", r.Name, f.Name, meets)
		}
	}
}

// base makes a chain to which the kernel hands packets.
func (c *compiler) base(name, about, kind string, hook uint32, priority int32, policy verdict) *chain {
	made := c.chain(name, about)
	made.base = &base{kind, hook, priority, policy}
	return made
}

// The hooks of the kernel, from linux/netfilter.h, and where ours stand among others.
const (
	beforeTracking = -300
	behindTracking = -150
	nextToNAT      = -100
	behindNAT      = -90
	filterPlace    = 0
	behindFilter   = 10
	sourcePlace    = 100
)

const known = establishedState | relatedState

// arrive is the first step: what cannot come by an interface is dropped.
func (c *compiler) arrive() {
	in := c.base("arrive", "step 1: sources that can't be there", "filter", unix.NF_INET_PRE_ROUTING, beforeTracking, accepts)
	for _, i := range c.own {
		for _, f := range header.Families {
			if forged := c.g.Forged(i).Intersect(f.All()); !forged.Empty() {
				in.add(cameBy(c.Device(i)), ofFamily(f), c.among(source, f, forged), ends(drops))
			}
		}
	}
}

// stayOnUplinks is part of the second step: what came in by one of several uplinks, or from a VPN client, is answered
// by the same way. The mark asks for the routes of that interface.
func (c *compiler) stayOnUplinks() {
	uplinks := c.g.Stays()
	if len(uplinks) == 0 {
		return
	}
	in := c.base("uplinks", "step 2: answers leave by the uplink that the connection came in by", "filter", unix.NF_INET_PRE_ROUTING, behindTracking, accepts)
	out := c.base("uplinks-own", "the same for answers of the gateway itself", "route", unix.NF_INET_LOCAL_OUT, behindTracking, accepts)
	answers := one("answers by its uplink", tracked(unix.NFT_CT_MARK, register0), mask(register0, host32(uplinkMark), host32(0)), setMeta(unix.NFT_META_MARK, register0))
	for k, i := range uplinks {
		mark, bits := UplinkMark(k + 1)
		in.add(cameBy(c.Device(i)), inState(newState), marks("mark its uplink", bits, mark))
		kept := marked("that came in by "+c.Device(i), bits, mark)
		in.add(inDirection(true), kept, answers)
		out.add(inDirection(true), kept, answers)
	}
}

// claims is part of the fourth step: outside addresses of rules are the gateway's, which serves
// nothing there.
func (c *compiler) claims() {
	claimed := c.claimed()
	in := c.base("outside-addresses", "step 4: addresses of rules that nothing redirected", "filter", unix.NF_INET_PRE_ROUTING, behindNAT, accepts)
	var logs []statement
	if c.logsUnmatched() {
		logs = slices.Concat(c.counted("itself"), logged(ItselfMark))
	}
	if !claimed.Intersect(header.IPv6.All()).Empty() {
		c.neighbors(in) // they answer who was asked for, also by an outside address of the interface (RFC 4861, 7.2.2)
	}
	for _, f := range header.Families {
		if set := claimed.Intersect(f.All()); !set.Empty() {
			in.add(notInState(known, "of no known connection"), ofFamily(f), c.among(destination, f, set), logs, ends(drops))
		}
	}
}

// claimed are outside addresses of rules, and those of interfaces that are down, which the
// kernel does not have.
func (c *compiler) claimed() header.Addresses {
	all := c.g.ClaimedEver()
	if c.At != nil {
		all = c.g.Claimed(*c.At)
	}
	all = all.Minus(c.unclaimed()).Union(c.g.Own())
	for _, i := range c.own {
		all = all.Minus(i.Own())
	}
	return all
}

// unclaimed are outside addresses that only rules have which are left out.
func (c *compiler) unclaimed() (none header.Addresses) {
	for _, r := range c.g.NAT {
		if c.leftOut[&r.Rule] {
			none = none.Union(r.Claims())
		}
	}
	if none.Empty() {
		return none
	}
	for _, r := range c.g.NAT {
		if !c.leftOut[&r.Rule] {
			none = none.Minus(r.Claims())
		}
	}
	return none
}

// itself is the fourth step: what the gateway answers.
func (c *compiler) itself() {
	in := c.base("itself", "step 4: what the gateway itself answers", "filter", unix.NF_INET_LOCAL_IN, filterPlace, drops)
	in.add(cameBy("lo"), ends(accepts))
	in.add(inState(known), ends(accepts))
	c.neighbors(in)
	c.searched(in)
	if !c.Middle {
		in.add(inState(newState), notBeginning(), ends(drops))
	}
	in.add(inState(newState), wasKept(), ends(accepts))
	for _, s := range c.g.Serves {
		counts := c.counted("serves/" + s.Name)
		for _, i := range s.On {
			if !i.IsUp() {
				continue
			}
			m := engine.Match{From: header.AllAddresses(), To: c.g.Own(), Services: s.Services}
			c.rules(in, m, destination, slices.Concat(cameBy(c.Device(i)), inState(newState)), slices.Concat(counts, ends(accepts)))
		}
	}
	if c.logsUnmatched() {
		in.add(inState(newState), c.counted("itself"), logged(ItselfMark))
	}
	if c.g.Handling.UnreachableSilent {
		out := c.base("silent", "unreachable: silent", "filter", unix.NF_INET_LOCAL_OUT, filterPlace, accepts)
		for _, f := range header.Families {
			for _, code := range [2][2][]byte{{{3, 0}, {3, 1}}, {{1, 0}, {1, 3}}}[f] {
				out.add(ofFamily(f), ofProtocol(header.ICMP, f), one("destination unreachable", payload(unix.NFT_PAYLOAD_TRANSPORT_HEADER, 0, 2, register0), equal(register0, code)), ends(drops))
			}
		}
	}
}

// logsUnmatched reports whether what no rule is for is logged.
func (c *compiler) logsUnmatched() bool { return c.g.Logging.Enabled && c.g.Logging.Unmatched }

// The marks in the log of what no rule is for: of packets that would pass the gateway, and of
// those that end there.
const (
	UnmatchedMark = "unmatched"
	ItselfMark    = "itself"
)

// rules adds what a packet must meet to a chain, behind what stands before, with what then
// happens: one rule for each family and kind of service. The filter may see another end than
// the destination.
func (c *compiler) rules(to *chain, m engine.Match, seen end, before, then []statement) {
	if m.From.IsAll() && m.To.IsAll() && len(m.Services) == 0 && len(m.SourcePorts) == 0 { // one rule for both families
		for _, asked := range c.asks(m, seen, header.IPv4) {
			to.add(before, asked, then)
		}
		return
	}
	for _, f := range header.Families {
		for _, asked := range c.asks(m, seen, f) {
			to.add(before, ofFamily(f), asked, then)
		}
	}
}

// asks returns what packets of a family are asked, one for each rule that it takes.
func (c *compiler) asks(m engine.Match, seen end, f header.Family) (all [][]statement) {
	if m.From.Intersect(f.All()).Empty() || m.To.Intersect(f.All()).Empty() {
		return nil
	}
	hours := [][]statement{nil}
	if m.Rule != nil && m.Rule.When != nil {
		hours = c.hours(m.Rule)
	}
	ends := slices.Concat(c.among(seen, f, m.To), c.among(source, f, m.From))
	if m.Redirected {
		ends = slices.Concat(one("that a rule led here", tracked(unix.NFT_CT_MARK, register0), mask(register0, host32(ledMark|mappedMark), host32(0)), compare(unix.NFT_CMP_NEQ, register0, host32(0))), ends)
	}
	for _, served := range c.services(m, seen, f) {
		for _, h := range hours {
			all = append(all, slices.Concat(ends, served, h))
		}
	}
	return all
}

// services returns what asks for each protocol of a match, with its ports.
func (c *compiler) services(m engine.Match, seen end, f header.Family) (all [][]statement) {
	if len(m.Services) == 0 && len(m.SourcePorts) == 0 {
		return [][]statement{nil}
	}
	for _, protocol := range header.Protocols() {
		ports, any := m.Services.Of(protocol)
		if !any && len(ports) == 0 || len(m.SourcePorts) > 0 && !protocol.HasPorts() {
			continue
		}
		served := ofProtocol(protocol, f)
		if !any {
			served = slices.Concat(served, c.ports(seen, ports))
		}
		if len(m.SourcePorts) > 0 {
			served = slices.Concat(served, c.ports(source, header.MergePorts(m.SourcePorts)))
		}
		all = append(all, served)
	}
	return all
}

// active leaves out rules that are not active at the moment.
func (c *compiler) active(list iter.Seq[engine.Match]) iter.Seq[engine.Match] {
	return func(yield func(engine.Match) bool) {
		for m := range list {
			if c.leftOut[m.Rule] {
				continue
			}
			if c.At == nil && m.Rule.Expired {
				continue
			}
			if c.At != nil {
				if !m.Rule.Active(*c.At) {
					continue
				}
				timeless := *m.Rule
				timeless.When = nil
				m.Rule = &timeless
			}
			if !yield(m) {
				return
			}
		}
	}
}

// hours returns what asks the kernel's clock for the hours of a rule, one for each day that
// they touch. The kernel's days begin at midnight UTC and on Sunday.
func (c *compiler) hours(r *network.Rule) (all [][]statement) {
	const day = 24 * 60
	add := func(number, first, last int) {
		number = (number + 1) % 7 // the kernel's week begins on Sunday
		seconds := func(minute int) []byte {
			s := uint32(minute * 60)
			return []byte{byte(s >> 24), byte(s >> 16), byte(s >> 8), byte(s)}
		}
		all = append(all, one(fmt.Sprintf("on day %d from %02d:%02d to %02d:%02d UTC", number, first/60, first%60, last/60, last%60),
			meta(metaDay, register0), equal(register0, []byte{byte(number)}), meta(metaHour, register0), networkOrder(register0),
			compare(unix.NFT_CMP_GTE, register0, seconds(first)), compare(unix.NFT_CMP_LT, register0, seconds(last))))
	}
	for number, on := range r.When.Days {
		switch {
		case !on:
		case r.When.First < r.When.Last:
			add(number, r.When.First, r.When.Last)
		default:
			add(number, r.When.First, day)
			if r.When.Last > 0 {
				add((number+1)%7, 0, r.When.Last)
			}
		}
	}
	return all
}

// counterOf is the name of a rule's counter, and logMark what its lines in the log begin with.
func counterOf(r *network.Rule) string { return r.List() + "/" + r.Name }

// begins is what happens first to a connection that a rule is for: it is counted, and logged.
func (c *compiler) begins(r *network.Rule) []statement {
	all := c.counted(counterOf(r))
	if r.Log && c.g.Logging.Enabled {
		all = append(all, logged(counterOf(r))...)
	}
	return all
}
