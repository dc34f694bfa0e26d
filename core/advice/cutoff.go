package advice

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
)

// Whoever changes the rules of a gateway may cut off the own connection to it, or that to a machine behind it.

// An OwnConnection is one of the administrator's own to a gateway.
type OwnConnection struct {
	Packet header.Packet
	In     *network.Interface // by which it comes, where the address does not say
}

// CutOff says where a connection to a gateway, which works by what is in force (nil: nothing is known of that), would be stopped by what
// is to be; else nothing.
func CutOff(before *network.Network, after *walk.Engine, own OwnConnection, now time.Time) string {
	reached := func(e *walk.Engine) (*words.Trace, bool) {
		from, err := e.Locate(own.Packet.Source)
		if own.In != nil {
			g := e.Network().Called(own.In.Gateway.Name)
			if g == nil || g.Interface(own.In.Name) == nil {
				return nil, true
			}
			from, err = e.Behind(g.Interface(own.In.Name), own.Packet.Source), nil
		}
		if err != nil {
			return nil, true // it comes in a way that the file does not know
		}
		t := words.TraceOf(e.NewWalk(), walk.Connection{Packet: own.Packet, From: from, Moment: e.Network().MomentAt(now)})
		return t, t.Outcome == engine.Reached
	}
	if before != nil {
		if _, ok := reached(walk.Compile(before, nil)); !ok {
			return "" // it does not work by what is in force either, so it goes another way
		}
	}
	t, ok := reached(after)
	if ok {
		return ""
	}
	return fmt.Sprintf("your own connection would be cut off: %s -> %s is %s at %s", own.Packet.From(), own.Packet.To(), t.Outcome, t.At.Name())
}

// CutOffBehind says by which way a login to a machine behind gateways, which works now, would not come there any more; else nothing.
func CutOffBehind(before *network.Network, after *walk.Engine, from, login netip.AddrPort, at time.Time) string {
	if before == nil || slices.ContainsFunc(before.Gateways, func(g *network.Gateway) bool { return Owns(g, login.Addr()) }) {
		return ""
	}
	var now *walk.Engine
	for _, p := range throughGateways(before, from, login) {
		comes := func(e *walk.Engine) (*words.Trace, bool) {
			place, err := e.Locate(p.Source)
			if err != nil {
				return nil, false
			}
			t := words.TraceOf(e.NewWalk(), walk.Connection{Packet: p, From: place, Moment: e.Network().MomentAt(at)})
			return t, len(t.Passed) > 0 && t.Ended.Destination == login.Addr() && t.Ended.DestinationPort == login.Port() && (t.Outcome == engine.Reached || t.Outcome == engine.Refused) // what a host serves, a file need not say
		}
		if now == nil {
			now = walk.Compile(before, nil)
		}
		if _, ok := comes(now); !ok {
			continue
		}
		if t, ok := comes(after); !ok && t != nil {
			return fmt.Sprintf("your own login may be cut off: %s -> %s, which leads to %s now, is %s at %s", p.From(), p.To(), login, t.Outcome, t.At.Name())
		}
	}
	return ""
}

// throughGateways returns the connections by which somebody may come to a machine behind gateways, by a network: to that machine itself, or to an
// outside address that a rule leads to it.
func throughGateways(n *network.Network, from, login netip.AddrPort) (list []header.Packet) {
	add := func(to netip.Addr, port uint16) {
		if header.FamilyOf(to) == header.FamilyOf(from.Addr()) {
			list = append(list, header.Packet{Source: from.Addr(), SourcePort: from.Port(), Destination: to, DestinationPort: port, Protocol: header.TCP})
		}
	}
	add(login.Addr(), login.Port())
	for _, g := range n.Gateways {
		for _, r := range g.NAT {
			switch {
			case r.Off():
			case r.Does == network.OneToOne && r.Inside.First.BitLen() == login.Addr().BitLen() && !login.Addr().Less(r.Inside.First) && !r.Inside.Last.Less(login.Addr()):
				add(header.Shift(login.Addr(), r.Inside.First, r.Outside.First), login.Port())
			case r.Does.RewritesDestination() && (r.Target.V4 == login.Addr() || r.Target.V6 == login.Addr()):
				for _, port := range outsidePorts(r, login.Port()) {
					for _, in := range r.On {
						for _, outside := range r.Listens(in).Ranges() {
							add(outside.First, port)
						}
					}
				}
			}
		}
	}
	return list
}

// outsidePorts returns the ports from which a rule leads to a port.
func outsidePorts(r *network.NATRule, to uint16) (list []uint16) {
	if len(r.Ports) == 0 {
		return []uint16{to}
	}
	for _, m := range r.Ports {
		for port := int(m.Ports.First); port <= int(m.Ports.Last); port++ {
			if m.Matches(header.TCP, uint16(port)) && m.Apply(uint16(port)) == to {
				list = append(list, uint16(port))
			}
		}
	}
	return list
}

// Owns reports whether an address is one of a gateway's own.
func Owns(g *network.Gateway, a netip.Addr) bool {
	return slices.ContainsFunc(g.Interfaces, func(i *network.Interface) bool { return i.Own().Contains(a) })
}
