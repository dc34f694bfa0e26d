package network

import (
	"net/netip"
	"slices"
	"strings"

	"hollowbridge/core/header"
)

// An Expression is an address expression: items, of which one must hold. An
// expression without items holds for every address.
//
// In a rule a zone does not stand for addresses but for interfaces: the packet
// came in by one of them (or leaves by one). In then compares the zone's name.
// Elsewhere a zone stands for the addresses behind it, which Addresses returns.
type Expression struct {
	Text  string // as written
	Items []Item
}

// A Item is a set of addresses, a zone, or a list, and what is left out of it.
type Item struct {
	Zone   string           // set where the term is a zone
	Host   *Host            // set where the term is a host
	Beside *Interface       // set where the term is the machines beside an uplink
	Whole  bool             // the term is the internet, to which machines beside uplinks belong whatever their addresses
	Set    header.Addresses // the addresses; of a zone those behind it
	List   []Item           // set where the term is a list
	Except *Expression
}

// IsAny reports whether the expression was left out or says any.
func (e Expression) IsAny() bool {
	return len(e.Items) == 0 || len(e.Items) == 1 && e.Items[0].Zone == "" && len(e.Items[0].List) == 0 &&
		e.Items[0].Except == nil && e.Items[0].Set.IsAll()
}

// EmptyGroup returns the name of the first group without members that one of some expressions is for, or empty. One that is left out of
// something does not count.
func (n *Network) EmptyGroup(expressions ...Expression) string {
	for _, e := range expressions {
		if !slices.ContainsFunc(e.Items, Item.isEmpty) {
			continue
		}
		for _, word := range strings.FieldsFunc(e.Text, func(r rune) bool { return strings.ContainsRune(" ,[]'\"", r) }) {
			if slices.ContainsFunc(n.Groups, func(g *Group) bool { return g.Name == word && g.Members.Empty() }) {
				return word
			}
		}
	}
	return ""
}

// isEmpty reports whether the term, or one of its list, is addresses of which there are none.
func (t Item) isEmpty() bool {
	if len(t.List) > 0 {
		return slices.ContainsFunc(t.List, Item.isEmpty)
	}
	return t.Zone == "" && t.Host == nil && t.Beside == nil && !t.Whole && t.Set.Empty()
}

// In returns the addresses that match in a rule when the packet passes an
// interface of the zone.
func (e Expression) In(zone string) header.Addresses {
	return e.evaluate(func(t Item) header.Addresses {
		switch {
		case t.Zone == "":
			return t.Set
		case t.Zone == zone:
			return header.AllAddresses()
		}
		return header.Addresses{}
	})
}

// Addresses returns the addresses the expression stands for outside a rule.
func (e Expression) Addresses() header.Addresses {
	return e.evaluate(func(t Item) header.Addresses { return t.Set })
}

// Behind returns the addresses the expression stands for among machines of one place: of
// a segment, of the VPN clients of an interface, or, where both are nil, of the internet.
// A host's name means that host, also where another has its address elsewhere.
func (e Expression) Behind(s *Segment, clients *Interface) header.Addresses {
	return e.evaluate(func(t Item) header.Addresses {
		switch {
		case t.Host != nil:
			return t.Host.at(location{s, clients})
		case t.Zone == "" || s == nil && clients == nil:
			return t.Set
		case s == nil:
			if clients.Zone == t.Zone {
				return header.AllAddresses()
			}
			return header.Addresses{}
		}
		var routed header.Addresses
		if s.Lead().Zone == t.Zone {
			routed = s.routed
		}
		var prefixes []netip.Prefix
		for _, i := range s.Interfaces {
			if i.Zone == t.Zone {
				prefixes = append(prefixes, i.Addresses...)
			}
		}
		return header.AddressesOfPrefixes(prefixes...).Union(routed)
	})
}

// Straight returns the addresses the expression stands for among machines beside an uplink, and its next hop, that hand
// packets to the gateway there: they belong to the zone of its interface.
func (e Expression) Straight(i *Interface) header.Addresses {
	return e.evaluate(func(t Item) header.Addresses {
		switch {
		case t.Whole, t.Beside == i, t.Zone != "" && t.Zone == i.Zone:
			return header.AllAddresses()
		case t.Zone != "":
			return header.Addresses{}
		}
		return t.Set
	})
}

func (e Expression) evaluate(leaf func(Item) header.Addresses) header.Addresses {
	if len(e.Items) == 0 {
		return header.AllAddresses()
	}
	return union(e.Items, leaf)
}

func union(items []Item, leaf func(Item) header.Addresses) header.Addresses {
	if len(items) == 1 {
		return items[0].evaluate(leaf)
	}
	var whole []header.Range
	for _, t := range items {
		whole = append(whole, t.evaluate(leaf).Ranges()...)
	}
	return header.AddressesOf(whole...)
}

func (t Item) evaluate(leaf func(Item) header.Addresses) header.Addresses {
	set := leaf(t)
	if len(t.List) > 0 {
		set = union(t.List, leaf)
	}
	if t.Except != nil {
		set = set.Minus(t.Except.evaluate(leaf))
	}
	return set
}

// Zones returns the zones the expression names.
func (e Expression) Zones() []string { return zones(e.Items) }

func zones(items []Item) []string {
	var names []string
	for _, t := range items {
		if t.Zone != "" {
			names = append(names, t.Zone)
		}
		names = append(names, zones(t.List)...)
		if t.Except != nil {
			names = append(names, t.Except.Zones()...)
		}
	}
	return names
}
