package cli

import (
	"errors"
	"flag"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/repair"
)

// A question is a connection as a person asks about it.
type question struct {
	from, to, service string
	sport             int
	in                string
	ipv6              bool
	at                momentText
}

// questionOptions say more about a connection than FROM TO SERVICE.
type questionOptions struct {
	sport int
	in    string
	ipv6  bool
}

func (o *questionOptions) flags(c *call, set *flag.FlagSet) {
	set.IntVar(&o.sport, "sport", header.UsualSourcePort, "the client's `PORT`; for icmp the identifier")
	set.StringVar(&o.in, "in", "", "the `INTERFACE` it comes in by, where FROM does not tell")
	set.StringVar(&c.at, "at", "", "the `TIME` for rules with hours, as \"mon 14:00\"; now where absent")
	set.BoolVar(&o.ipv6, "6", false, "IPv6 where both ends have both")
}

// question reads what is asked: FROM, TO and SERVICE, where they are given, and the flags. -at is
// now where it is absent. It returns false where it has said what is wrong with them.
func (o *questionOptions) question(c *call) (q question, ok bool) {
	if o.sport < 1 || o.sport > 65535 {
		c.misused("-sport %d: ports go from 1 to 65535", o.sport)
		return q, false
	}
	q = question{sport: o.sport, in: o.in, ipv6: o.ipv6, at: c.moment()}
	if len(c.args) == 3 {
		q.from, q.to, q.service = c.args[0], c.args[1], c.args[2]
	}
	return q, true
}

// An end is one side of a question: the addresses a word stands for.
type end struct {
	set  header.Addresses
	port uint16        // 0 where none was written
	host *network.Host // that was named, or nil

	beside *network.Interface // the uplink beside which the machine is that was named, or nil
}

func (e end) address(family header.Family) (netip.Addr, bool) { return e.set.FirstOf(family) }

// connection resolves a question against a network.
func (q question) connection(e *walk.Engine) (walk.Connection, error) {
	var c walk.Connection
	to, err := q.destination(e.Network())
	if err != nil {
		return c, err
	}
	from, err := q.source(e)
	if err != nil {
		return c, err
	}
	family, err := q.family(from, to)
	if err != nil {
		return c, err
	}
	c.Packet.Source, _ = from.address(family)
	c.Packet.Destination, _ = to.address(family)
	services, err := netfile.ParseService(e.Network(), q.service)
	switch {
	case err != nil:
		return c, err
	case services[0].Protocol == header.AnyProtocol:
		return c, fmt.Errorf("any: a trace is of one service; name it, as https or tcp/443")
	}
	c.Packet.Protocol = services[0].Protocol
	if c.Packet.Protocol.HasPorts() {
		c.Packet.DestinationPort = services[0].Ports.First
	}
	if c.Packet.Protocol.Numbered() {
		c.Packet.SourcePort = uint16(q.sport)
		if from.port != 0 {
			c.Packet.SourcePort = from.port
		}
	}
	c.Moment = q.at.in(e.Network())
	c.From, err = q.place(e, from, c.Packet.Source)
	return c, err
}

// who returns whose connections are asked about, as files say it; empty where that is one address.
func (q question) who(n *network.Network) string {
	if _, err := netip.ParseAddr(q.from); err == nil {
		return ""
	}
	if x, err := netfile.ParseExpression(n, q.from); err != nil || len(x.Items) != 1 || x.Items[0].Beside != nil {
		return ""
	}
	return q.from
}

// How many of the services of a question, and of the addresses of its sender, are looked at besides the first.
const (
	mostServices = 8
	mostSenders  = 4
)

// asked returns what a question is about, of which one connection is traced.
func (q question) asked(e *walk.Engine, first walk.Connection) repair.Asked {
	services, err := netfile.ParseService(e.Network(), q.service)
	if err != nil {
		services = nil
	}
	return repair.Asked{Who: q.who(e.Network()), Service: q.service, Services: services, Others: q.others(e, first)}
}

// others returns connections that a question is about besides the one that is traced: of its other services and, for each of them, from
// others of the senders.
func (q question) others(e *walk.Engine, first walk.Connection) (list []walk.Connection) {
	from, err := q.source(e)
	services, wrong := netfile.ParseService(e.Network(), q.service)
	if err != nil || wrong != nil || first.From.Through != nil {
		return nil
	}
	senders := []netip.Addr{first.Packet.Source}
	for _, r := range from.set.Ranges() {
		for _, a := range []netip.Addr{r.First, r.Last} {
			if a.Is4() == first.Packet.Source.Is4() && !slices.Contains(senders, a) && len(senders) < mostSenders {
				senders = append(senders, a)
			}
		}
	}
	for _, s := range services[:min(len(services), mostServices)] {
		for _, sender := range senders {
			c := first
			c.Packet.Protocol, c.Packet.DestinationPort, c.Packet.SourcePort = s.Protocol, 0, 0
			if s.Protocol.HasPorts() {
				c.Packet.DestinationPort = s.Ports.First
			}
			if s.Protocol.Numbered() {
				c.Packet.SourcePort = max(first.Packet.SourcePort, 1)
			}
			if c.Packet.Source = sender; sender != first.Packet.Source {
				if c.From, err = q.place(e, from, sender); err != nil {
					continue
				}
			}
			if c.Packet != first.Packet {
				list = append(list, c)
			}
		}
	}
	return list
}

// place returns where the client is: the host that was named, on an interface by hand,
// or where its address is. Where that is on several segments, the interface says on which.
func (q question) place(e *walk.Engine, from end, a netip.Addr) (network.Place, error) {
	if q.in == "" && from.beside != nil {
		return e.Behind(from.beside, a), nil
	}
	if q.in == "" && from.host != nil {
		return network.PlaceOf(from.host, a), nil
	}
	place, err := e.Locate(a)
	if q.in == "" {
		return place, err
	}
	i, wrong := findInterface(e.Network(), q.in)
	if wrong != nil {
		return place, wrong
	}
	var several walk.Several
	if errors.As(err, &several) && i.Segment != nil && i.Segment.Contains(a) {
		return e.On(i.Segment, a), nil
	}
	return e.Behind(i, a), nil
}

// source reads FROM: internet, a host, a group, an address or ADDRESS:PORT.
func (q question) source(e *walk.Engine) (end, error) {
	if q.from == "internet" {
		set := header.Addresses{}
		for _, family := range header.Families {
			if a, ok := e.Stranger(family); ok {
				set = set.Union(header.Single(a))
			}
		}
		if set.Empty() {
			return end{}, fmt.Errorf("internet: no gateway has a default route to an upstream, so nothing comes from there")
		}
		return end{set: set}, nil
	}
	if from, err := netip.ParseAddrPort(q.from); err == nil {
		return end{set: header.Single(from.Addr().Unmap()), port: from.Port()}, nil
	}
	if x, err := netfile.ParseExpression(e.Network(), q.from); err == nil && len(x.Items) == 1 && x.Items[0].Beside != nil {
		return besideEnd(e, x.Items[0].Beside), nil
	}
	return resolveEnd(e.Network(), q.from)
}

// besideEnd returns a machine beside an uplink; where nobody knows the addresses of those, the next hop with one of the internet.
func besideEnd(e *walk.Engine, i *network.Interface) end {
	from := end{beside: i}
	for _, family := range header.Families {
		a, ok := e.Network().Beside(i).Usual(family)
		if !ok {
			a, ok = e.Stranger(family)
		}
		if ok && i.FacesInternet(family) {
			from.set = from.set.Union(header.Single(a))
		}
	}
	return from
}

// destination reads TO: a host, an address or GATEWAY:INTERFACE.
func (q question) destination(n *network.Network) (end, error) {
	if to, err := netip.ParseAddrPort(q.to); err == nil {
		return end{}, fmt.Errorf("%s: the port belongs to the service; write %s, and the service as tcp/%d", q.to, to.Addr(), to.Port())
	}
	if q.to == "internet" {
		return end{}, fmt.Errorf("internet: a trace goes to one address; name it, for instance 192.0.2.1")
	}
	return resolveEnd(n, q.to)
}

func resolveEnd(n *network.Network, text string) (end, error) {
	if n.Zone(text) != nil {
		return end{}, fmt.Errorf("%s: this is a zone; a trace is between two machines: name a host or an address", text)
	}
	e, err := netfile.ParseExpression(n, text)
	if err != nil {
		return end{}, err
	}
	set := e.Addresses()
	if set.Empty() {
		return end{}, fmt.Errorf("%s: no address is in it", text)
	}
	if h := n.Host(text); h != nil { // a host's own order, not the set's
		set = header.Addresses{}
		for _, family := range header.Families {
			if a, ok := h.AddressOf(family); ok {
				set = set.Union(header.Single(a))
			}
		}
	}
	return end{set: set, host: n.Host(text)}, nil
}

// family decides between IPv4 and IPv6: what both ends have, IPv4 where they have both.
func (q question) family(from, to end) (family header.Family, err error) {
	wanted := header.IPv4
	if q.ipv6 {
		wanted = header.IPv6
	}
	for _, family := range []header.Family{wanted, header.IPv6} {
		_, hasFrom := from.address(family)
		_, hasTo := to.address(family)
		if hasFrom && hasTo {
			return family, nil
		}
	}
	return 0, fmt.Errorf("%s and %s have no address of the same family", q.from, q.to)
}

// findInterface reads GATEWAY:INTERFACE, or INTERFACE where one gateway has it.
func findInterface(n *network.Network, text string) (*network.Interface, error) {
	gateway, name, found := strings.Cut(text, ":")
	if !found {
		gateway, name = "", text
	}
	var hits []*network.Interface
	var known []string
	for _, g := range n.Gateways {
		for _, i := range g.Interfaces {
			known = append(known, i.String())
			if i.Name == name && (gateway == "" || g.Name == gateway) {
				hits = append(hits, i)
			}
		}
	}
	switch len(hits) {
	case 1:
		return hits[0], nil
	case 0:
		return nil, fmt.Errorf("%s: no such interface; there are %s", text, strings.Join(known, ", "))
	}
	return nil, fmt.Errorf("%s: several gateways have such an interface; write GATEWAY:%s", text, name)
}

func parsePort(text string) (int, error) {
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > 65535 {
		return 0, fmt.Errorf("%s: not a port; ports go from 1 to 65535", text)
	}
	return n, nil
}
