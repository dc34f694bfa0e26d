package walk

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// Several is the error for an address that is in several places.
type Several struct{ text string }

func (s Several) Error() string { return s.text }

// Locate returns where the address is: at a host, with the VPN clients of an interface,
// on a segment, or on the internet. It fails for an address that no machine has, and for one
// that is in several places.
func (e *Engine) Locate(a netip.Addr) (network.Place, error) {
	if network.CannotSend().Contains(a) {
		return network.Place{}, fmt.Errorf("%s: no machine sends from this address", a)
	}
	var found []network.Place
	for _, p := range e.places() {
		if !p.Sources.Contains(a) {
			continue
		}
		at := p.Place
		if at.Host == nil {
			at.Host = e.hostsAt(at).Of(a)
		}
		if len(found) > 0 && rankOf(found[0]) < rankOf(at) {
			continue
		}
		if len(found) > 0 && rankOf(found[0]) > rankOf(at) {
			found = found[:0]
		}
		found = append(found, at)
	}
	switch {
	case len(found) == 1:
		return found[0], nil
	case len(found) > 1:
		return network.Place{}, several(a, found)
	}
	for _, g := range e.gateways {
		if i := g.Owner(a); i != nil {
			return network.Place{}, fmt.Errorf("%s: this is the gateway's own address (%s); a trace begins at a machine", a, i)
		}
	}
	for _, s := range e.net.Segments {
		if s.Contains(a) {
			return network.Place{}, fmt.Errorf("%s: no machine on %s has this address: it is the first or the last of its prefix, or one that a gateway answers for", a, s.Name)
		}
	}
	return network.Place{}, fmt.Errorf("%s: nothing in this network has this address, and the internet does not carry it; say where it enters with -in GATEWAY:INTERFACE", a)
}

// rankOf orders the places that an address can be at, the likeliest first.
func rankOf(p network.Place) int {
	switch {
	case p.Host != nil:
		return 0
	case p.Clients != nil:
		return 1
	case p.Segment != nil:
		return 2
	}
	return 3
}

// several is the error for an address that is in several places of one rank.
func several(a netip.Addr, places []network.Place) error {
	var names []string
	if places[0].Host != nil {
		for _, p := range places {
			names = append(names, p.Host.Name)
		}
		return Several{fmt.Sprintf("%s: several hosts have this address; say which by its name: %s", a, strings.Join(names, ", "))}
	}
	for _, p := range places {
		i := p.Clients
		if i == nil {
			i = p.Segment.Lead()
		}
		names = append(names, i.String())
	}
	return Several{fmt.Sprintf("%s: several segments have this address; say which with -in %s", a, strings.Join(names, " or -in "))}
}

// hostsAt returns the hosts of a place by their addresses.
func (e *Engine) hostsAt(at network.Place) *table.ByAddress[network.Host] {
	switch {
	case at.Segment != nil:
		return &e.segments[at.Segment].hosts
	case at.Clients != nil:
		if hosts, ok := e.clients[at.Clients]; ok {
			return &hosts
		}
	case at.Internet:
		return &e.abroad
	}
	return &e.nobody
}

// Stranger returns an address on the internet that is in no group, has no host, and is
// in no prefix of the network, an uplink's included; a documentation address where there
// is one. It returns false where the network has no way to the internet of that family.
func (e *Engine) Stranger(family header.Family) (netip.Addr, bool) {
	found := e.stranger()[family]
	return found, found.IsValid()
}

// findStrangers returns a stranger of each family, where there is one.
func (e *Engine) findStrangers() [2]netip.Addr {
	outside := e.net.Internet().Minus(e.unsent.Addresses)
	for _, s := range e.net.Segments {
		outside = outside.Minus(s.Addresses())
	}
	strangers := outside.Minus(e.abroad.All)
	for _, g := range e.net.Groups {
		strangers = strangers.Minus(g.Members)
	}
	var found [2]netip.Addr
	for i, family := range header.Families {
		for _, set := range []header.Addresses{strangers, outside} {
			if a, ok := set.Usual(family); ok {
				found[i] = a
				break
			}
		}
	}
	return found
}

// On returns the place of the machine on a segment that has the address.
func (e *Engine) On(s *network.Segment, a netip.Addr) network.Place {
	return network.Place{Segment: s, Host: e.segments[s].hosts.Of(a)}
}

// Behind returns the place of a machine with the address that is put on an
// interface by hand.
func (e *Engine) Behind(i *network.Interface, a netip.Addr) network.Place {
	p := network.Place{Through: i}
	switch s := e.behindOn(i.Segment, a); {
	case s != nil:
		if p.Segment, p.Host = s, e.segments[s].hosts.Of(a); s.Behind == i {
			p.Through = nil // that is where its router sends
		}
	case i.Segment != nil && (i.Segment.Contains(a) || a.Is6() && a.IsLinkLocalUnicast()):
		p.Segment = i.Segment
		p.Host = e.segments[i.Segment].hosts.Of(a)
	case i.IsClient(a):
		p.Clients = i
		p.Host = e.hostsAt(p).Of(a)
	case i.FacesInternet(header.FamilyOf(a)):
		p.Internet = true
		p.Host = e.abroad.Of(a)
	default:
		p.Segment = i.Segment
	}
	return p
}

// behindOn returns what is behind an inside router on a segment, where an address is there, or nil.
func (e *Engine) behindOn(on *network.Segment, a netip.Addr) *network.Segment {
	for _, s := range e.net.Segments {
		if s.Behind != nil && s.Behind.Segment == on && s.Contains(a) {
			return s
		}
	}
	return nil
}

// findPlaces returns where connections can begin, and from which addresses. An address
// that no host has belongs to the longest prefix that holds it. Where several segments have
// that prefix, it is in several places, and so is one that several hosts have; of one place
// each address is listed once. Hosts that send like every other machine of their place are
// with those.
func (e *Engine) findPlaces() []Where {
	var found []Where
	alone := map[network.Place][]header.Range{} // hosts that are listed for themselves, by where they are
	add := func(p network.Place, addresses header.Addresses) {
		if addresses = addresses.Minus(network.CannotSend()).Minus(header.AddressesOf(alone[p]...)); !addresses.Empty() {
			found = append(found, Where{p, addresses})
		}
	}
	for _, h := range e.net.Hosts {
		for _, a := range h.Addresses {
			at := network.PlaceOf(h, a)
			plain := at.Clients != nil || at.Internet && e.net.Internet().Contains(a) || at.Segment != nil && h.Gateway == nil && !h.Elsewhere.IsValid() && h.Upstream == nil && len(h.Addresses) == 1
			if plain {
				continue
			}
			add(at, header.Single(a))
			at.Host = nil
			alone[at] = append(alone[at], header.Range{First: a, Last: a})
		}
	}
	var pools header.Addresses
	for _, g := range e.gateways {
		for _, i := range g.Interfaces {
			pool := header.AddressesOfPrefixes(i.Clients...).Minus(pools)
			pools = pools.Union(pool)
			add(network.Place{Clients: i}, pool)
		}
	}
	beside := pools
	for _, s := range e.net.Segments {
		prefixes, hosts := s.Addresses(), e.segments[s].hosts.All
		add(network.Place{Segment: s}, e.longestOn(s).Minus(s.Unused()).Minus(poolsAt(s)).Union(hosts))
		beside = beside.Union(prefixes)
	}
	add(network.Place{Internet: true}, e.net.Internet().Minus(beside))
	return found
}

// longestOn returns the addresses of a segment's prefixes that are in no longer prefix of
// another one, and what static routes lead to there.
func (e *Engine) longestOn(s *network.Segment) header.Addresses {
	if s.Behind != nil {
		return s.Routed()
	}
	var elsewhere []netip.Prefix
	var sentOn header.Addresses
	for _, other := range e.net.Segments {
		sentOn = sentOn.Union(other.Routed())
		if other.Behind != nil {
			continue
		}
		for _, q := range other.Prefixes {
			holds := func(p netip.Prefix) bool { return p.Bits() < q.Bits() && p.Contains(q.Addr()) }
			longest := func(p netip.Prefix) bool { return p.Bits() >= q.Bits() && p.Overlaps(q) }
			if other != s && slices.ContainsFunc(s.Prefixes, holds) && !slices.ContainsFunc(s.Prefixes, longest) {
				elsewhere = append(elsewhere, q)
			}
		}
	}
	return header.AddressesOfPrefixes(s.Prefixes...).Minus(header.AddressesOfPrefixes(elsewhere...)).Minus(sentOn).Union(s.Routed())
}

// SharedSources returns the addresses that are in several places.
func SharedSources(places []Where) header.Addresses {
	var all []header.Range
	for _, p := range places {
		all = append(all, p.Sources.Ranges()...)
	}
	slices.SortFunc(all, func(a, b header.Range) int { return a.First.Compare(b.First) })
	var shared []header.Range
	for i := 1; i < len(all); i++ {
		before, this := all[i-1], all[i]
		if before.Last.BitLen() != this.First.BitLen() || before.Last.Less(this.First) {
			continue
		}
		last := before.Last
		if this.Last.Less(last) {
			all[i].Last, last = last, this.Last // what reaches further is compared with the next one
		}
		shared = append(shared, header.Range{First: this.First, Last: last})
	}
	return header.AddressesOf(shared...)
}

// poolsAt returns the addresses of VPN clients of a segment's gateways.
func poolsAt(s *network.Segment) header.Addresses {
	var pools []netip.Prefix
	for _, i := range s.Interfaces {
		for _, j := range i.Gateway.Interfaces {
			pools = append(pools, j.Clients...)
		}
	}
	return header.AddressesOfPrefixes(pools...)
}

// A Where is where machines are, and the addresses from which they can begin connections.
type Where struct {
	Place   network.Place
	Sources header.Addresses
}

// Places returns where connections can begin.
func (e *Engine) Places() []Where { return e.places() }
