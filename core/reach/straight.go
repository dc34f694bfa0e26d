package reach

import (
	"fmt"
	"slices"
	"sync"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A Straight way is one by which machines beside an uplink get somewhere that hand their packets to the gateway
// themselves, without a provider: also packets for inside addresses. The zero Straight is no such way.
type Straight struct {
	By  *network.Interface // the uplink's
	Hop bool               // it is its next hop, with addresses of the internet

	// Where it is said with another way, the addresses that they connect to, and the services as they send them.
	To   header.Addresses
	Sent header.Services
}

// senderOf returns the straight way that connections begin by, or none.
func senderOf(p network.Place) Straight {
	return Straight{By: p.Through, Hop: p.Through != nil && p.Internet}
}

// Machines says who the senders are at the beginning of a sentence.
func (s Straight) Machines() string {
	if s.Hop && !s.By.Dynamic {
		return s.Name()
	}
	return "a machine " + s.Name()
}

// like reports whether both are by the same sender.
func (s Straight) like(t Straight) bool { return s.By == t.By && s.Hop == t.Hop }

// Name says who the senders are.
func (s Straight) Name() string {
	if s.Hop && !s.By.Dynamic {
		return "the next hop of " + s.By.String()
	}
	return fmt.Sprintf("beside %s", s.By)
}

// A way is what fold looks at of an access, or of a difference.
type way struct {
	sender   Straight
	site     string // where it leads
	from, to header.Addresses
	sent     header.Services // as the sources send them
	served   header.Services // as they are delivered
	allPorts bool
	when     network.When
	inside   *[]Straight
}

// fold says which ways are not to be told by themselves: straight ways to what is open to the same senders anyway, which is noted
// there; and what the next hop gets to with addresses of the internet, and with its own as well.
func fold(names func() *Namer, list []way) (gone []bool) {
	gone = make([]bool, len(list))
	if !slices.ContainsFunc(list, func(w way) bool { return w.sender.By != nil }) {
		return gone
	}
	usual, beside := map[string][]*way{}, map[string][]*way{}
	for i := range list {
		if w := &list[i]; w.sender.By == nil {
			usual[w.site] = append(usual[w.site], w)
		} else if !w.sender.Hop {
			beside[w.site] = append(beside[w.site], w)
		}
	}
	for i := range list {
		w := &list[i]
		if w.sender.By == nil {
			continue
		}
		if by := w.among(usual[w.site], names); by != nil {
			gone[i] = true
			for _, u := range by {
				u.alsoBy(Straight{By: w.sender.By, Hop: w.sender.Hop, To: w.to, Sent: w.sent})
			}
		} else if w.sender.Hop {
			gone[i] = slices.ContainsFunc(beside[w.site], w.isOwn)
		}
	}
	return gone
}

// among returns ways by which the sources of this one, or everybody, get to the same services, one for each; nil where some do not.
func (w *way) among(list []*way, names func() *Namer) (by []*way) {
	for _, s := range w.served {
		at := slices.IndexFunc(list, func(u *way) bool {
			return u.serves(s, w) && (w.from.Minus(u.from).Empty() || names().Exposure(u.from) == OpenToAll)
		})
		if at < 0 {
			return nil
		}
		by = append(by, list[at])
	}
	return by
}

// isOwn reports whether the next hop, whose way it is with addresses of the internet, has another one with its own.
func (w *way) isOwn(own *way) bool {
	family := header.IPv4
	if _, four := w.from.FirstOf(family); !four {
		family = header.IPv6
	}
	via, known := w.sender.By.NextHop(family)
	return known && own.sender.By == w.sender.By && own.from.Contains(via) && w.to.Minus(own.to).Empty() &&
		!slices.ContainsFunc(w.served, func(s header.Service) bool { return !own.serves(s, w) })
}

// serves reports whether a service is that of a way too, whenever it is another one's and from whatever port.
func (w *way) serves(s header.Service, other *way) bool {
	return w.allPorts && (w.when.IsAlways() || w.when.Equal(other.when)) && slices.ContainsFunc(w.served, func(t header.Service) bool {
		return t.Protocol == s.Protocol && (!s.Protocol.HasPorts() || t.Ports.First <= s.Ports.First && s.Ports.Last <= t.Ports.Last)
	})
}

// alsoBy notes a straight way to what this one is of.
func (w *way) alsoBy(s Straight) {
	list := *w.inside
	for i := range list {
		if list[i].By == s.By && slices.Equal(list[i].Sent, s.Sent) {
			list[i].To, list[i].Hop = list[i].To.Union(s.To), list[i].Hop && s.Hop
			return
		}
	}
	*w.inside = append(list[:len(list):len(list)], s)
}

// folded returns accesses without those that are not to be told by themselves.
func folded(n *network.Network, list []Access) []Access {
	ways := make([]way, len(list))
	for i := range list {
		a := &list[i]
		site := fmt.Sprint(a.Host, a.Gateway)
		if a.Host == "" {
			site = fmt.Sprint("nobody at ", a.Delivered)
		}
		ways[i] = way{a.Sender, site, a.From, a.To, a.Sent, a.Services, a.AllPorts, a.When, &a.Inside}
	}
	return kept(list, fold(sync.OnceValue(func() *Namer { return NewNamer(n) }), ways))
}

// foldedDifferences is folded for differences; a next hop is one sender, whatever addresses it takes.
func foldedDifferences(names *Namer, list []Difference) []Difference {
	ways := make([]way, len(list))
	for i := range list {
		d := &list[i]
		ways[i] = way{d.Sender, fmt.Sprint(d.Change, d.Old.Host, d.New.Host), d.From, d.To, d.Services, d.served, d.AllPorts, d.When, &d.Inside}
	}
	gone := fold(func() *Namer { return names }, ways)
	for i := range list {
		gone[i] = gone[i] || list[i].own
	}
	return kept(list, gone)
}

// kept returns what is not gone of a list, in place.
func kept[T any](list []T, gone []bool) []T {
	left := list[:0]
	for i := range list {
		if !gone[i] {
			left = append(left, list[i])
		}
	}
	return left
}
