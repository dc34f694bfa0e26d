package reach

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A Namer names sets of addresses as shortly as it can.
type Namer struct {
	net      *network.Network
	internet header.Addresses
	halves   [2]half // of it, of each family
	unused   header.Addresses
	names    []named // groups, zones and segments, the largest first
	starts   []start // where they begin, sorted
	first    []int   // names that are chosen before others: those of the rules that something is said about
	about    map[string]*Namer
	said     map[string]string
	lengthy  map[lengthyKey]*lengthy
	hosts    map[netip.Addr]named
	here     map[string]map[netip.Addr]named // hosts by the name of their segment
	beside   map[*network.Interface]header.Addresses
	on       map[*network.Segment]header.Addresses // where its machines may be
	looked   int                                   // how many addresses and names were looked at
}

// A half is the internet of one family, and half of its size.
type half struct {
	all  header.Addresses
	size header.Count
}

type named struct {
	name string
	set  header.Addresses
}

// A start is the first address of a name's set, of one family.
type start struct {
	at   netip.Addr
	name int // in names
}

// NewNamer returns a namer that knows the groups, hosts and zones of a network.
func NewNamer(n *network.Network) *Namer {
	m := &Namer{net: n, unused: n.Unused(), said: map[string]string{}, lengthy: map[lengthyKey]*lengthy{}, hosts: map[netip.Addr]named{}, here: map[string]map[netip.Addr]named{}, beside: map[*network.Interface]header.Addresses{}, on: map[*network.Segment]header.Addresses{}}
	m.internet = n.Internet().Minus(m.unused)
	for i, family := range header.Families {
		all := m.internet.Intersect(family.All())
		m.halves[i] = half{all, all.Size().Half()}
	}
	add := func(name string, set header.Addresses) {
		if set = set.Minus(m.unused); !set.Empty() {
			m.names = append(m.names, named{name, set})
		}
	}
	for _, g := range n.Groups {
		add(g.Name, g.Members)
	}
	for _, z := range n.Zones { // the internet's is not what is left of it
		if all := n.ZoneAddresses(z.Name); !all.Overlaps(n.Internet()) {
			add(z.Name, all)
		}
	}
	for _, g := range n.Gateways {
		for _, i := range g.Interfaces {
			add("VPN clients of "+i.String(), header.AddressesOfPrefixes(i.Clients...))
		}
	}
	for _, s := range n.Segments {
		if !slices.ContainsFunc(s.Interfaces, func(i *network.Interface) bool { return i.IsUplink() }) {
			add(segmentName(n, s), s.Addresses())
		}
	}
	m.index()
	for _, h := range n.Hosts {
		var ranges []header.Range
		for _, a := range h.Addresses {
			ranges = append(ranges, header.Range{First: a, Last: a})
		}
		if set := header.AddressesOf(ranges...).Minus(m.unused); !set.Empty() {
			for _, a := range h.Addresses {
				m.hosts[a] = named{h.Name, set}
				if s := h.Segment(a); s != nil {
					if m.here[s.Name] == nil {
						m.here[s.Name] = map[netip.Addr]named{}
					}
					m.here[s.Name][a] = named{h.Name, header.Single(a)}
				}
			}
		}
	}
	return m
}

// About returns a namer that chooses what some rules name before all else.
func (m *Namer) About(rules ...[]*network.Rule) *Namer {
	var first []int
	for _, list := range rules {
		for _, r := range list {
			for _, word := range r.Names() {
				if i := slices.IndexFunc(m.names, func(n named) bool { return n.name == word }); i >= 0 && !slices.Contains(first, i) {
					first = append(first, i)
				}
			}
		}
	}
	if len(first) == 0 {
		return m
	}
	key := fmt.Sprint(first)
	if m.about == nil {
		m.about = map[string]*Namer{}
	}
	if m.about[key] == nil {
		other := *m
		other.first, other.about, other.said, other.lengthy = first, nil, map[string]string{}, map[lengthyKey]*lengthy{}
		m.about[key] = &other
	}
	return m.about[key]
}

// index sorts the names.
func (m *Namer) index() {
	slices.SortStableFunc(m.names, func(a, b named) int { return b.set.Size().Compare(a.set.Size()) })
	for i, n := range m.names {
		for _, family := range header.Families {
			if a, has := n.set.FirstOf(family); has {
				m.starts = append(m.starts, start{a, i})
			}
		}
	}
	slices.SortFunc(m.starts, func(a, b start) int { return cmp.Or(a.at.Compare(b.at), a.name-b.name) })
}

// begunIn returns the names whose sets begin in another one, the largest first.
func (m *Namer) begunIn(set header.Addresses) []int {
	var found []int
	for _, r := range set.Ranges() {
		from, _ := slices.BinarySearchFunc(m.starts, r.First, func(s start, a netip.Addr) int { return s.at.Compare(a) })
		for _, s := range m.starts[from:] {
			if r.Last.Less(s.at) {
				break
			}
			found = append(found, s.name)
		}
	}
	slices.Sort(found)
	return slices.Compact(found)
}

// segmentName returns a zone for a segment that is all there is of it, else the segment.
func segmentName(n *network.Network, s *network.Segment) string {
	zone := s.Lead().Zone
	for _, g := range n.Gateways {
		for _, i := range g.Interfaces {
			if i.IsUp() && (i.Zone == zone) != (i.Segment == s) {
				return "machines on " + s.Name
			}
		}
	}
	return zone
}

// Name names sources: everybody, groups, zones and hosts, everybody except some of
// these, or ranges.
func (m *Namer) Name(from header.Addresses) string {
	if l := m.lengthyOf(from); l != nil {
		if l.name == "" {
			l.name = m.compose(from)
		}
		return l.name
	}
	key := from.String()
	text, known := m.said[key]
	if !known {
		text = m.compose(from)
		m.said[key] = text
	}
	return text
}

// mostSaid is how many ranges a set has at most that is known by what it holds.
const mostSaid = 32

// A lengthyKey is where a set of many ranges is stored: many ways have the very same.
type lengthyKey struct {
	first *header.Range
	count int
}

// Lengthy is what was said of a set of many ranges: nothing yet where it is empty or false.
type lengthy struct {
	name, count string
	exposure    Exposure
	exposed     bool
}

// lengthyOf returns what was said of a set, where it has many ranges, else nil.
func (m *Namer) lengthyOf(set header.Addresses) *lengthy {
	ranges := set.Ranges()
	if len(ranges) <= mostSaid {
		return nil
	}
	key := lengthyKey{&ranges[0], len(ranges)}
	if m.lengthy[key] == nil {
		m.lengthy[key] = &lengthy{}
	}
	return m.lengthy[key]
}

// compose is Name without what was said before.
func (m *Namer) compose(from header.Addresses) string {
	families := familiesOf(from)
	internet := m.internet.Intersect(families)
	if m.Open(from) {
		missing, beyond := internet.Minus(from), from.Minus(m.internet)
		text := "everybody"
		if !missing.Empty() {
			text += " except " + m.list(missing, families)
		}
		if !beyond.Empty() {
			text += ", and " + m.list(beyond, families)
		}
		return text
	}
	return m.list(from, families)
}

// Senders names machines beside an uplink that hand packets to the gateway there: all of them, some, or the next hop and the
// addresses of the internet that it uses, where these are not all.
func (m *Namer) Senders(s Straight, from header.Addresses) string {
	switch {
	case s.Hop && m.Open(from), !s.Hop && remember(m.beside, s.By, m.net.Beside).Intersect(familiesIn(from)).Minus(from).Empty():
		return s.Name()
	case s.Hop:
		return s.Name() + " as " + m.Name(from)
	}
	return m.Name(from) + " " + s.Name()
}

// remember returns what a map has for a key, and has it find that once.
func remember[K interface {
	*network.Interface | *network.Segment
}](in map[K]header.Addresses, key K, find func(K) header.Addresses) header.Addresses {
	set, known := in[key]
	if !known {
		set = find(key)
		in[key] = set
	}
	return set
}

// familiesIn returns all addresses of the families of which a set has some.
func familiesIn(set header.Addresses) (all header.Addresses) {
	for _, f := range header.Families {
		if _, some := set.FirstOf(f); some {
			all = all.Union(f.All())
		}
	}
	return all
}

// NameOn names sources on a segment whose addresses are elsewhere too, nil where they are not.
func (m *Namer) NameOn(from header.Addresses, on *network.Segment) string {
	if on == nil {
		return m.Name(from)
	}
	prefixes := remember(m.on, on, func(s *network.Segment) header.Addresses { return s.Addresses().Minus(s.Unused()) })
	there := Namer{internet: m.internet, unused: m.unused, hosts: m.here[on.Name], names: []named{{"machines on " + on.Name, prefixes}}}
	there.index()
	text := there.list(from, familiesOf(from))
	if strings.Contains(text, on.Name) {
		return text
	}
	return text + " on " + on.Name
}

func familiesOf(set header.Addresses) header.Addresses {
	var families header.Addresses
	for _, family := range header.Families {
		if _, has := set.FirstOf(family); has {
			families = families.Union(family.All())
		}
	}
	return families
}

// Open reports whether more than half of the internet, of one family, is among the sources.
func (m *Namer) Open(from header.Addresses) bool {
	size := from.Size()
	for i := range m.halves {
		if h := &m.halves[i]; h.size.Exceeds(0) && size.Compare(h.size) > 0 && h.all.Intersect(from).Size().Compare(h.size) > 0 {
			return true
		}
	}
	return false
}

// ManyAddresses is of how many addresses of the internet it is said that somebody is many. Of IPv6
// the networks of one site count, which are /48 (RFC 6177): an address there is no machine.
const ManyAddresses = 4096

// Outsiders returns how many addresses of the internet are among the sources, and how many
// networks of IPv6 sites.
func (m *Namer) Outsiders(from header.Addresses) (addresses, sites uint64) {
	var next uint64 // the first site that is not counted
	for _, r := range from.Intersect(m.internet).Ranges() {
		if r.First.Is4() {
			addresses += uint64(header.AddressesOf(r).Size().UpTo(1 << 40))
			continue
		}
		first, _ := header.Number(r.First)
		last, _ := header.Number(r.Last)
		if first, last = max(first>>16, next), last>>16; first <= last {
			sites += last - first + 1
		}
		next = last + 1
	}
	return addresses, sites
}

// OnlyFamily returns the name of the family that all of a set's addresses of the internet have, empty
// where they are of both, or the internet itself is of one only.
func (m *Namer) OnlyFamily(set header.Addresses) string {
	var names []string
	for _, family := range header.Families {
		all := m.internet.Intersect(family.All())
		switch {
		case all.Empty():
			return ""
		case !all.Intersect(set).Empty():
			names = append(names, family.String())
		}
	}
	if len(names) != 1 {
		return ""
	}
	return names[0]
}

// Exposure says to how much of the internet something is open: to more than half of it, to many
// addresses, or to few or none.
func (m *Namer) Exposure(from header.Addresses) Exposure {
	l := m.lengthyOf(from)
	if l == nil {
		return m.exposureOf(from)
	}
	if !l.exposed {
		l.exposure, l.exposed = m.exposureOf(from), true
	}
	return l.exposure
}

func (m *Namer) exposureOf(from header.Addresses) Exposure {
	if m.Open(from) {
		return OpenToAll
	}
	if addresses, sites := m.Outsiders(from); addresses > ManyAddresses || sites > ManyAddresses {
		return OpenToMany
	}
	return OpenToFew
}

// Exposure is to how much of the internet something is open.
type Exposure uint8

// The degrees of exposure.
const (
	OpenToFew Exposure = iota
	OpenToMany
	OpenToAll
)

// Count says how many addresses and IPv6 sites of the internet are among the sources.
func (m *Namer) Count(from header.Addresses) string {
	l := m.lengthyOf(from)
	if l == nil {
		return m.countOf(from)
	}
	if l.count == "" {
		l.count = m.countOf(from)
	}
	return l.count
}

func (m *Namer) countOf(from header.Addresses) string {
	addresses, sites := m.Outsiders(from)
	switch {
	case sites == 0:
		return fmt.Sprintf("%d addresses", addresses)
	case addresses == 0:
		return fmt.Sprintf("%d IPv6 networks", sites)
	}
	return fmt.Sprintf("%d addresses and %d IPv6 networks", addresses, sites)
}

// list names a set by large names that make it up, hosts, and ranges for the rest.
func (m *Namer) list(set, families header.Addresses) string {
	var texts []string
	var names []int
	left := set
	take := func(i int, cuts bool) {
		m.looked++
		members := m.names[i].set.Intersect(families)
		if members.Minus(set).Empty() && !members.Intersect(left).Empty() && (cuts || !cutsUp(members, left)) {
			names, left = append(names, i), left.Minus(members)
		}
	}
	for _, i := range m.first {
		take(i, true)
	}
	for _, i := range m.begunIn(set) {
		take(i, false)
	}
	slices.Sort(names) // in one order, whatever was chosen first
	for _, i := range names {
		texts = append(texts, m.names[i].name)
	}
	for !left.Empty() {
		name, covered := m.allBut(set, left, families)
		if name == "" {
			break
		}
		texts, left = append(texts, name), left.Minus(covered)
	}
	if more := len(texts) - mostNames; more > 0 {
		texts = append(texts[:mostNames:mostNames], fmt.Sprintf("%d more names", more))
	}
	for _, h := range m.hostsIn(left) {
		if members := h.set.Intersect(families); members.Minus(set).Empty() {
			texts, left = append(texts, h.name), left.Minus(members)
		}
	}
	ranges := left.Ranges()
	for _, r := range ranges[:min(len(ranges), mostRanges)] {
		texts = append(texts, r.String())
	}
	if more := len(ranges) - mostRanges; more > 0 {
		texts = append(texts, fmt.Sprintf("%d more ranges", more))
	}
	return strings.Join(slices.Compact(texts), ", ")
}

// cutsUp reports whether a name stands for less than half of what is written without it: then a range is easier to read than the name
// and the pieces that are left.
func cutsUp(members, left header.Addresses) bool {
	ranges := left.Ranges()
	var touched []header.Range
	for _, r := range members.Ranges() {
		at, _ := slices.BinarySearchFunc(ranges, r.First, func(s header.Range, a netip.Addr) int { return s.Last.Compare(a) })
		for ; at < len(ranges) && !r.Last.Less(ranges[at].First); at++ {
			if len(touched) == 0 || touched[len(touched)-1] != ranges[at] {
				touched = append(touched, ranges[at])
			}
		}
	}
	all := header.AddressesIn(touched)
	return members.Intersect(all).Size().Compare(all.Size().Half()) < 0
}

// mostNamed is how many addresses next to each other are named as hosts, and how many
// hosts are named.
const mostNamed = 8

// hostsIn returns the hosts of a set that stand out: not those in the middle of a range, which they would cut up.
func (m *Namer) hostsIn(set header.Addresses) []named {
	var found []named
	for _, r := range set.Ranges() {
		if header.AddressesOf(r).Size().Exceeds(mostNamed) {
			continue
		}
		begun, hosts := len(found), 0
		for a := r.First; ; a = a.Next() {
			m.looked++
			if _, known := m.hosts[a]; known {
				hosts++
			}
			if h, known := m.hosts[a]; known && !slices.ContainsFunc(found, func(f named) bool { return f.name == h.name }) {
				found = append(found, h)
			}
			if a == r.Last {
				break
			}
		}
		if hosts*2 < header.AddressesOf(r).Size().UpTo(mostNamed) {
			found = found[:begun]
		}
		if len(found) >= mostNamed {
			return found[:mostNamed]
		}
	}
	return found
}

// allBut finds a name for part of what is left that fits but for what another name
// stands for, or one or two hosts.
func (m *Namer) allBut(set, left, families header.Addresses) (string, header.Addresses) {
	for _, candidate := range m.names[:min(len(m.names), mostLarge)] {
		m.looked++
		members := candidate.set.Intersect(families)
		missing := members.Minus(set)
		here := members.Intersect(left)
		if missing.Empty() || here.Size().Compare(missing.Size()) <= 0 || cutsUp(here, left) {
			continue
		}
		if but := m.exactly(missing, members); but != "" {
			return candidate.name + " except " + but, members
		}
	}
	return "", header.Addresses{}
}

// exactly names a set among the members of another: by one name, or by one or two hosts.
func (m *Namer) exactly(set, among header.Addresses) string {
	for _, i := range slices.Concat(m.large(), m.begunIn(set)) {
		if m.names[i].set.Intersect(among).Equal(set) {
			return m.names[i].name
		}
	}
	var hosts []string
	for _, h := range m.hostsIn(set) {
		if h.set.Intersect(among).Minus(set).Empty() {
			hosts, set = append(hosts, h.name), set.Minus(h.set)
		}
	}
	if set.Empty() && len(hosts) <= 2 {
		return strings.Join(hosts, " and ")
	}
	return ""
}

// large returns the largest names.
func (m *Namer) large() []int {
	list := make([]int, min(len(m.names), mostLarge))
	for i := range list {
		list[i] = i
	}
	return list
}

// How much is written out, and how many of the largest names are tried with exceptions.
const (
	mostRanges = 4
	mostNames  = 12
	mostLarge  = 64
)
