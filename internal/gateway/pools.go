package gateway

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// Pools are what the source-nat rules of a gateway have of their ports, in the order of the rules.
type Pools struct {
	Pools []Pool `json:"pools"`
}

// A Pool is the outside addresses and ports of one source-nat rule.
type Pool struct {
	Gateway   string        `json:"gateway"`
	Rule      string        `json:"rule"`
	Place     int           `json:"place"` // in its list, counted from 1
	As        string        `json:"as"`    // as the file says it
	First     uint16        `json:"first-port"`
	Last      uint16        `json:"last-port"`
	Exhausted int64         `json:"exhausted"` // connections that got no port, since the counters were reset
	Taken     []PoolTaken   `json:"taken"`     // of all addresses together, by family and protocol
	Addresses []PoolAddress `json:"addresses"` // of which sessions have ports, the fullest first
}

// A PoolTaken is how many of the ports of a pool are taken for one protocol.
type PoolTaken struct {
	Family      string         `json:"family"`
	Protocol    string         `json:"protocol"`
	Used        int            `json:"used"`
	Of          int            `json:"of"`
	Destination netip.AddrPort `json:"destination"` // those to this one, to which there are most, where others can have the same; else empty
}

// A PoolAddress is how many of the ports of an outside address are taken for one protocol.
type PoolAddress struct {
	Address     netip.Addr     `json:"address"`
	Protocol    string         `json:"protocol"`
	Used        int            `json:"used"`
	Left        int            `json:"left"`
	Of          int            `json:"of"`
	Destination netip.AddrPort `json:"destination"` // as of PoolTaken
	By          netip.Addr     `json:"by"`          // the inside address that has most
	ByPorts     int            `json:"by-ports"`    // and how many
}

// A Hidden is a session whose source a gateway has translated.
type Hidden struct {
	Protocol header.Protocol
	Inside   netip.Addr
	Outside  netip.AddrPort // its source as it leaves
	To       netip.AddrPort // where it goes
}

// isHidden reports whether the source of a session is translated and has a number.
func isHidden(before, after header.Packet) bool {
	return before.Source != after.Source && after.Protocol.Numbered()
}

func hiddenOf(before, after header.Packet) Hidden {
	return Hidden{after.Protocol, before.Source, netip.AddrPortFrom(after.Source, after.SourcePort), netip.AddrPortFrom(after.Destination, after.DestinationPort)}
}

// mostPoolAddresses is how many addresses of a pool are told.
const mostPoolAddresses = 1000

// a portUser is an outside address, for a protocol.
type portUser struct {
	address  netip.Addr
	protocol header.Protocol
}

// usesOf are the sessions that have ports of an outside address, by where they go; all together where a port is for every destination.
type usesOf map[netip.AddrPort]map[uint16]netip.Addr

// Pools returns what the source-nat rules that are in force have of their ports.
func (s *Service) Pools() (Pools, error) {
	found := Pools{Pools: []Pool{}}
	now := s.current.Load()
	if now == nil || now.gateway == nil {
		return found, nil
	}
	g := now.gateway.Gateway
	if !slices.ContainsFunc(g.NAT, isPool) {
		return found, nil
	}
	_, kernel := s.backend.(*Kernel) // which gives one port to several, if they go elsewhere
	together := !kernel && g.Handling.Mapping == network.EndpointIndependent
	uses := map[portUser]usesOf{}
	err := s.backend.Hidden(func(h Hidden) {
		user := portUser{h.Outside.Addr(), h.Protocol}
		if uses[user] == nil {
			uses[user] = usesOf{}
		}
		to := h.To
		if together {
			to = netip.AddrPort{}
		}
		if uses[user][to] == nil {
			uses[user][to] = map[uint16]netip.Addr{}
		}
		uses[user][to][h.Outside.Port()] = h.Inside
	})
	if err != nil {
		return found, err
	}
	counts, _, err := s.counts(false)
	if err != nil {
		return found, err
	}
	for _, r := range g.NAT {
		if isPool(r) {
			p := poolOf(r, uses)
			p.Gateway, p.Exhausted = s.name(), counts[s.idOf(&r.Rule)].Exhausted
			found.Pools = append(found.Pools, p)
		}
	}
	return found, nil
}

// scarce says of which pools four fifths are taken, where that can be: so many sessions there must be.
func (s *Service) scarce(sessions int) []string {
	list := []string{}
	now := s.current.Load()
	if now == nil || now.gateway == nil {
		return list
	}
	few := func(r *network.NATRule) bool {
		return isPool(r) && (network.PortsTaken{Used: sessions, Of: portsOf(r).Count()}).IsNearlyFull()
	}
	if !slices.ContainsFunc(now.gateway.NAT, few) {
		return list
	}
	pools, err := s.Pools()
	if err != nil {
		return append(list, err.Error())
	}
	for _, p := range pools.Pools {
		for _, t := range p.In(now.gateway.Gateway) {
			if t.IsNearlyFull() {
				list = append(list, fmt.Sprintf("source-nat %s: %s", p.Rule, t))
			}
		}
	}
	return list
}

// portsOf returns the ports that a source-nat rule gives.
func portsOf(r *network.NATRule) header.Ports {
	if r.SourcePorts == (header.Ports{}) {
		return network.HighPorts
	}
	return r.SourcePorts
}

// isPool reports whether a rule gives sources ports.
func isPool(r *network.NATRule) bool { return r.Does == network.SourceNAT && !r.Off() }

// poolOf returns what a rule has of its ports.
func poolOf(r *network.NATRule, uses map[portUser]usesOf) Pool {
	ports := portsOf(r)
	p := Pool{Rule: r.Name, Place: r.Number, As: r.As.Text, First: ports.First, Last: ports.Last, Taken: []PoolTaken{}, Addresses: []PoolAddress{}}
	addresses := r.Sources()
	type kind struct {
		family   header.Family
		protocol header.Protocol
	}
	sums := map[kind]map[netip.AddrPort]int{}
	for user, of := range uses {
		if !addresses.Contains(user.address) {
			continue
		}
		k := kind{header.FamilyOf(user.address), user.protocol}
		if sums[k] == nil {
			sums[k] = map[netip.AddrPort]int{}
		}
		a := PoolAddress{Address: user.address, Protocol: user.protocol.String(), Used: -1, Of: ports.Count()}
		by := map[netip.Addr]int{}
		for to, taken := range of {
			used := 0
			for port, inside := range taken {
				by[inside]++
				if ports.Contains(port) {
					used++
				}
			}
			sums[k][to] += used
			if used > a.Used || used == a.Used && isBefore(to, a.Destination) {
				a.Used, a.Destination = used, to
			}
		}
		a.Left = a.Of - a.Used
		for inside, n := range by {
			if n > a.ByPorts || n == a.ByPorts && inside.Less(a.By) {
				a.By, a.ByPorts = inside, n
			}
		}
		p.Addresses = append(p.Addresses, a)
	}
	slices.SortFunc(p.Addresses, func(a, b PoolAddress) int {
		return cmp.Or(cmp.Compare(b.Used, a.Used), a.Address.Compare(b.Address), cmp.Compare(a.Protocol, b.Protocol))
	})
	for k, by := range sums {
		t := PoolTaken{Family: k.family.String(), Protocol: k.protocol.String(), Used: -1}
		for to, used := range by {
			if used > t.Used || used == t.Used && isBefore(to, t.Destination) {
				t.Used, t.Destination = used, to
			}
		}
		t.Of = addresses.Intersect(header.AddressesOfPrefixes(k.family.Prefix())).Size().UpTo(mostPool) * ports.Count()
		p.Taken = append(p.Taken, t)
	}
	slices.SortFunc(p.Taken, func(a, b PoolTaken) int {
		return cmp.Or(cmp.Compare(a.Family, b.Family), cmp.Compare(a.Protocol, b.Protocol))
	})
	p.Addresses = p.Addresses[:min(len(p.Addresses), mostPoolAddresses)]
	return p
}

// mostPool is how many addresses of a pool are counted.
const mostPool = 1 << 24

func isBefore(a, b netip.AddrPort) bool { return a.Compare(b) < 0 }

// In returns what is taken as part of a network; nothing where that has no such rule.
func (p *Pool) In(g *network.Gateway) (list []network.PortsTaken) {
	at := slices.IndexFunc(g.NAT, func(r *network.NATRule) bool { return r.Name == p.Rule && r.Does == network.SourceNAT })
	for i := 0; at >= 0 && i < len(p.Taken); i++ {
		t := p.Taken[i]
		list = append(list, network.PortsTaken{Rule: g.NAT[at], Family: t.Family, Protocol: t.Protocol, To: t.Destination, Used: t.Used, Of: t.Of})
	}
	return list
}
