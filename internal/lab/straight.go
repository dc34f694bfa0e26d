package lab

import (
	"fmt"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/kernel"
)

// firstStraight is the number of the first table of routes for what is handed to a gateway's interface, whatever the
// machine's own routes are.
const firstStraight = 10_000

// handsTo makes what a machine sends with a mark go straight to an interface of a gateway, and returns the mark; 0 where a
// connection is not put on an interface by hand.
func (l *Lab) handsTo(n *node, c walk.Connection) (mark uint32, err error) {
	i := l.interfaceOf(c.From.Through)
	if i == nil || c.From.Clients != nil {
		return 0, nil
	}
	end := l.upstream[i]
	if n != l.internet {
		end = n.links[0]
	}
	if end == nil || end.node != n {
		return 0, fmt.Errorf("%s is not on the segment of %s", n.name, i)
	}
	l.placing.Lock()
	defer l.placing.Unlock()
	return l.straightMark(i), l.routeStraight(end, i, header.FamilyOf(c.Packet.Source))
}

// straightMark is the mark of what is handed to an interface.
func (l *Lab) straightMark(i *network.Interface) uint32 {
	number := i.Index
	for _, g := range l.engine.Network().Gateways[:i.Gateway.Index] {
		number += len(g.Interfaces)
	}
	return kernel.StraightMark | uint32(number)
}

// routeStraight gives a machine the route for what it hands to an interface, by one of its links.
func (l *Lab) routeStraight(end *link, i *network.Interface, family header.Family) error {
	key := straightTo{end.node, i, family}
	via, has := i.Address(family)
	switch {
	case l.straight[key]:
		return nil
	case !has:
		return fmt.Errorf("%s has no such address", i)
	}
	if end.node == l.internet {
		var err error
		if via, err = l.viaOf(i, via); err != nil {
			return err
		}
	}
	mark := l.straightMark(i)
	table := firstStraight + int(mark&^kernel.StraightMark)
	if err := end.node.route(way{to: family.Prefix(), out: end, via: via, table: table}); err != nil {
		return err
	}
	l.straight[key] = true
	return end.node.follows(mark, ^uint32(0), table, family)
}

// straightTo is a machine that hands packets of a family to an interface.
type straightTo struct {
	from   *node
	to     *network.Interface
	family header.Family
}

// interfaceOf returns the lab's own interface of a name, or nil: a connection may be of another network than the one that was built.
func (l *Lab) interfaceOf(i *network.Interface) *network.Interface {
	if i == nil {
		return nil
	}
	if g := l.engine.Network().Gateway(i.Gateway.Name); g != nil {
		return g.Interface(i.Name)
	}
	return nil
}
