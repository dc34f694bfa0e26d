package kernel

import (
	"net"
	"net/netip"
	"slices"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"

	"golang.org/x/sys/unix"
)

// What machines that are no gateways do with packets, for the lab: the same table of ours.

// Served is the port at which a machine of the lab answers all that it serves; its relays
// listen at those behind it.
const Served = 65001

// servedMark is the packet mark of what was handed to Served or behind.
const servedMark uint32 = 0x4842

// CompileHost makes the program for a host: its own firewall, what it serves and its relays.
func CompileHost(h *network.Host) *Program {
	c := &compiler{Program: newProgram(h.Name), Options: Options{}}
	listens := c.base("listens", "what it serves is answered at one port", "filter", unix.NF_INET_PRE_ROUTING, behindTracking, accepts)
	all := engine.Match{From: header.AllAddresses(), To: header.AllAddresses()}
	for n := range h.Relays {
		c.leadTo(listens, all, h.Relays[n].Listen, uint16(Served+1+n))
	}
	for _, s := range h.Serves {
		m := all
		if s.At.IsValid() {
			m.To = header.Single(s.At)
		}
		c.leadTo(listens, m, s.Services, Served)
	}
	in := c.base("host", "its own firewall", "filter", unix.NF_INET_LOCAL_IN, filterPlace, accepts)
	in.add(cameBy("lo"), ends(accepts))
	in.add(inState(known), ends(accepts))
	c.neighbors(in)
	served := c.chain("served", "what is behind the firewall")
	for _, f := range header.Families {
		if !h.AnswersPing {
			served.add(ofFamily(f), ofProtocol(header.ICMP, f), ends(drops))
		}
		for _, protocol := range []header.Protocol{header.TCP, header.UDP} {
			inner := []header.Ports{{First: Served, Last: uint16(Served + len(h.Relays))}}
			served.add(ofFamily(f), ofProtocol(protocol, f), c.ports(destination, inner), one("that were not led here", meta(unix.NFT_META_MARK, register0), compare(unix.NFT_CMP_NEQ, register0, host32(servedMark))), refuse(protocol))
		}
	}
	c.answeredByLab(served, h)
	if h.Firewall == nil {
		in.add(ends(jumpsTo(served.name)))
		return c.Program
	}
	c.firewall(in, served, h.Firewall)
	in.add(ends(drops))
	return c.Program
}

// answeredByLab accepts, of the protocols that the lab itself answers, what a host serves, and refuses the rest of those of which it serves some.
func (c *compiler) answeredByLab(served *chain, h *network.Host) {
	for _, protocol := range header.Protocols() { // what the lab itself answers, where it serves some of it
		if protocol == header.TCP || protocol == header.UDP || protocol == header.ICMP {
			continue
		}
		some := false
		for _, s := range h.Serves {
			m := engine.Match{From: header.AllAddresses(), To: header.AllAddresses()}
			if s.At.IsValid() {
				m.To = header.Single(s.At)
			}
			ports, any := s.Services.Of(protocol)
			if some = some || any || len(ports) > 0; any && protocol.HasPorts() {
				ports = []header.Ports{header.AllPorts}
			}
			if len(ports) == 0 && any {
				ports = []header.Ports{{}}
			}
			for _, p := range ports {
				m.Services = header.Services{{Protocol: protocol, Ports: p}}
				c.rules(served, m, destination, nil, ends(accepts))
			}
		}
		for _, f := range header.Families {
			if some {
				served.add(ofFamily(f), ofProtocol(protocol, f), refuse(protocol))
			}
		}
	}
}

// firewall does as the host's own firewall: what it allows goes to what is behind it.
func (c *compiler) firewall(in, served *chain, f *network.HostFirewall) {
	for _, r := range f.Rules {
		m := engine.Match{From: r.From, To: header.AllAddresses(), Services: r.Services}
		switch r.Verb {
		case network.Allow:
			c.rules(in, m, destination, nil, ends(goesTo(served.name)))
		case network.Drop:
			c.rules(in, m, destination, nil, ends(drops))
		case network.Reject:
			tcp := m
			tcp.Services = header.Services{{Protocol: header.TCP, Ports: header.AllPorts}}
			if len(m.Services) == 0 || slices.ContainsFunc(m.Services, func(s header.Service) bool { return s.Protocol == header.AnyProtocol }) {
				c.rules(in, tcp, destination, nil, refuse(header.TCP))
				c.rules(in, m, destination, nil, refuse(header.UDP))
				continue
			}
			for _, s := range m.Services {
				tcp.Services = header.Services{s}
				c.rules(in, tcp, destination, nil, refuse(s.Protocol))
			}
		}
	}
}

// leadTo hands what is served to a port of the lab's own: nothing is translated.
func (c *compiler) leadTo(ch *chain, m engine.Match, services header.Services, to uint16) {
	for _, protocol := range []header.Protocol{header.TCP, header.UDP} {
		ports, any := services.Of(protocol)
		if len(ports) == 0 && !any {
			continue
		}
		if any {
			ports = []header.Ports{header.AllPorts}
		}
		for _, p := range ports {
			m.Services = header.Services{{Protocol: protocol, Ports: p}}
			for _, f := range header.Families {
				of := m
				of.To = of.To.Intersect(f.All())
				c.rules(ch, of, destination, one("that is for it", routeKind(register0), equal(register0, host32(unix.RTN_LOCAL))),
					one("to the lab's port", immediate(register0, host32(servedMark)), setMeta(unix.NFT_META_MARK, register0), immediate(register0, port(to)), handTo(familyNumbers[f], register0), accepts.expression()))
			}
		}
	}
}

// neighborhood are the addresses by which neighbors of IPv6 find each other.
var neighborhood = header.AddressesOfPrefixes(netip.MustParsePrefix("fe80::/10"), netip.MustParsePrefix("ff00::/8"))

func refuse(protocol header.Protocol) []statement {
	if protocol == header.TCP {
		return one("reset", reject(unix.NFT_REJECT_TCP_RST, 0))
	}
	return one("tell that nobody listens", reject(unix.NFT_REJECT_ICMPX_UNREACH, unix.NFT_REJECT_ICMPX_PORT_UNREACH))
}

// neighbors lets neighbor discovery pass (RFC 4861).
func (c *compiler) neighbors(in *chain) {
	for kind := byte(133); kind <= 137; kind++ {
		in.add(ofFamily(header.IPv6), ofProtocol(header.ICMP, header.IPv6),
			one("of neighbor discovery", payload(unix.NFT_PAYLOAD_TRANSPORT_HEADER, 0, 1, register0), equal(register0, []byte{kind})), ends(accepts))
	}
}

// StraightMark is the bit of a packet's mark that says that a machine of a lab hands it to a gateway, which no provider would.
const StraightMark uint32 = 1 << 30

// CompileInternet makes the program for the internet: whoever is there answers everything;
// uplinks block what the file says they do, and nobody reaches what is behind a carrier's NAT
// or has an address that is not carried. The hardware address of an uplink, which sender returns, tells what its gateway
// sends from what machines beside it do; it is nil where nothing comes from the gateway.
func CompileInternet(uplinks []*network.Interface, device func(*network.Interface) string, sender func(*network.Interface) net.HardwareAddr) *Program {
	c := &compiler{Program: newProgram("internet"), Options: Options{}}
	all := engine.Match{From: header.AllAddresses(), To: header.AllAddresses()}
	in := c.base("blocks-in", "what uplinks block on the way out", "filter", unix.NF_INET_PRE_ROUTING, behindTracking, accepts)
	listens := c.base("listens", "everything is answered at one port", "filter", unix.NF_INET_PRE_ROUTING, behindTracking+1, accepts)
	out := []*chain{
		c.base("blocks-own", "what uplinks block on the way in", "filter", unix.NF_INET_LOCAL_OUT, filterPlace, accepts),
		c.base("blocks-passing", "the same for what passes", "filter", unix.NF_INET_FORWARD, filterPlace, accepts),
	}
	for _, ch := range out {
		ch.add(one("handed to a gateway all the same", meta(unix.NFT_META_MARK, register0), mask(register0, host32(StraightMark), host32(0)), compare(unix.NFT_CMP_NEQ, register0, host32(0))), ends(accepts))
	}
	for _, i := range uplinks {
		blocked := all
		blocked.Services = i.Upstream.Blocks
		if mac := sender(i); len(blocked.Services) > 0 && mac != nil {
			c.rules(in, blocked, destination, slices.Concat(cameBy(device(i)), sentBy(mac), inState(newState)), ends(drops))
		}
		for _, ch := range out {
			by := slices.Concat(leavesBy(device(i)), inState(newState))
			if len(blocked.Services) > 0 {
				c.rules(ch, blocked, destination, by, ends(drops))
			}
			uncarried := all
			if uncarried.To = network.NotCarried().Minus(neighborhood); i.Upstream.CarrierNAT {
				uncarried.To = uncarried.To.Union(header.IPv4.All())
			}
			c.rules(ch, uncarried, destination, by, ends(drops))
		}
	}
	c.leadTo(listens, all, header.Services{{Protocol: header.TCP, Ports: header.AllPorts}, {Protocol: header.UDP, Ports: header.AllPorts}}, Served)
	return c.Program
}
