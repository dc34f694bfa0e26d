package network

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
)

// Renamed is what one network has under another name than an earlier one: a host, a gateway or an interface that
// the earlier one does not name any more and that shares an address with one it has under a new name, where that is one
// only. Names that both have are the same thing.
type Renamed struct {
	hosts      map[*Host]*Host
	gateways   map[*Gateway]*Gateway
	interfaces map[*Interface]*Interface
	now        *Network
}

// FindRenamed returns what a network calls otherwise than an earlier one.
func FindRenamed(old, now *Network) Renamed {
	r := Renamed{now: now, interfaces: map[*Interface]*Interface{}}
	r.hosts = renamed(old.Hosts, now.Hosts, func(h *Host) known {
		return known{h.Name, fmt.Sprint(h.Addresses, h.SegmentName), h.Addresses}
	})
	r.gateways = renamed(old.Gateways, now.Gateways, func(g *Gateway) known {
		k := known{name: g.Name}
		for _, i := range g.Interfaces {
			own := i.known()
			k.whole, k.addresses = k.whole+own.whole, append(k.addresses, own.addresses...)
		}
		return k
	})
	for _, g := range old.Gateways {
		if h := r.Gateway(g); h != nil {
			maps.Copy(r.interfaces, renamed(g.Interfaces, h.Interfaces, (*Interface).known))
		}
	}
	return r
}

// Known is what something is known by in another network.
type known struct {
	name      string
	whole     string // all that it has
	addresses []netip.Addr
}

// known returns what the interface is known by: an address that the provider gives says nothing.
func (i *Interface) known() known {
	k := known{name: i.Name}
	for _, p := range i.Addresses {
		if !i.Dynamic || !p.Addr().Is4() {
			k.addresses = append(k.addresses, p.Addr())
		}
	}
	k.whole = fmt.Sprint(i.Addresses, i.SegmentName)
	return k
}

// renamed returns which of the things whose names are gone is which of those whose names are new: what has all that the
// other one has and, of the rest, what shares an address with the other one; each with that one alone.
func renamed[T comparable](old, now []T, by func(T) known) map[T]T {
	found := map[T]T{}
	match := func(marks func(known) []string) {
		names := [2]map[string]bool{{}, {}}
		for side, list := range [][]T{old, now} {
			for _, one := range list {
				names[side][by(one).name] = true
			}
		}
		for one, other := range found {
			names[0][by(other).name], names[1][by(one).name] = true, true
		}
		fresh := map[string][]T{}
		for _, one := range now {
			if k := by(one); !names[0][k.name] {
				for _, mark := range marks(k) {
					fresh[mark] = append(fresh[mark], one)
				}
			}
		}
		shared, taken := map[T][]T{}, map[T]int{}
		for _, one := range old {
			k := by(one)
			if names[1][k.name] {
				continue
			}
			for _, mark := range marks(k) {
				for _, other := range fresh[mark] {
					if !slices.Contains(shared[one], other) {
						shared[one] = append(shared[one], other)
						taken[other]++
					}
				}
			}
		}
		for one, others := range shared {
			if len(others) == 1 && taken[others[0]] == 1 {
				found[one] = others[0]
			}
		}
	}
	match(func(k known) []string { return []string{k.whole} })
	match(func(k known) (texts []string) {
		for _, a := range k.addresses {
			texts = append(texts, a.String())
		}
		return texts
	})
	return found
}

// IsNothing reports whether nothing has another name.
func (r Renamed) IsNothing() bool { return len(r.hosts)+len(r.gateways)+len(r.interfaces) == 0 }

// Host returns the earlier network's host as it is now, or nil.
func (r Renamed) Host(h *Host) *Host { return cmp.Or(r.hosts[h], r.now.Host(h.Name)) }

// Gateway returns the earlier network's gateway as it is now, or nil.
func (r Renamed) Gateway(g *Gateway) *Gateway { return cmp.Or(r.gateways[g], r.now.Gateway(g.Name)) }

// Interface returns the earlier network's interface as it is now, or nil.
func (r Renamed) Interface(i *Interface) *Interface {
	if j := r.interfaces[i]; j != nil {
		return j
	}
	if g := r.Gateway(i.Gateway); g != nil {
		return g.Interface(i.Name)
	}
	return nil
}

// Segment returns the earlier network's segment as it is now, or nil: the one of the same name, else that of its first
// interface.
func (r Renamed) Segment(s *Segment) *Segment {
	for _, t := range r.now.Segments {
		if t.Name == s.Name {
			return t
		}
	}
	for _, i := range s.Interfaces {
		if j := r.Interface(i); j != nil {
			return j.Segment
		}
	}
	if s.Behind != nil {
		if on := r.Segment(s.Behind.Segment); on != nil {
			return r.now.RouterAt(on, s.Router)
		}
	}
	return nil
}

// RenamedRules returns what rules of a gateway are called in a later network, by what they are known by in the earlier one: those whose
// name is gone, where just one rule with a name that is new says the same, and no other one whose name is gone.
func RenamedRules(old, now *Gateway, was, is *GatewayDigests) map[RuleID]RuleID {
	found := map[RuleID]RuleID{}
	match := func(gone, come []named) {
		taken := map[string]bool{}
		for _, r := range gone {
			taken[r.id.Name] = true
		}
		had := map[string]bool{}
		for _, r := range come {
			had[r.id.Name] = true
		}
		gone = slices.DeleteFunc(gone, func(r named) bool { return had[r.id.Name] })
		come = slices.DeleteFunc(come, func(r named) bool { return taken[r.id.Name] })
		by := [2]map[Digest][]RuleID{{}, {}}
		for side, list := range [][]named{gone, come} {
			for _, r := range list {
				by[side][r.says] = append(by[side][r.says], r.id)
			}
		}
		for says, ids := range by[0] {
			if others := by[1][says]; len(ids) == 1 && len(others) == 1 {
				found[ids[0]] = others[0]
			}
		}
	}
	match(natNamed(old, was.NAT), natNamed(now, is.NAT))
	match(filterNamed(old, was.Filter), filterNamed(now, is.Filter))
	return found
}

// A named rule is known by something, and says something.
type named struct {
	id   RuleID
	says Digest
}

func natNamed(g *Gateway, digests []Digest) (list []named) {
	for i, r := range g.NAT {
		list = append(list, named{r.ID(), digests[i]})
	}
	return list
}

func filterNamed(g *Gateway, digests []Digest) (list []named) {
	for i, r := range g.Filter {
		list = append(list, named{r.ID(), digests[i]})
	}
	return list
}
