package kernel

import (
	"encoding/binary"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"time"

	"github.com/mdlayher/netlink"
	"golang.org/x/sys/unix"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// mappedMark is the bit of a connection's mark that says that it goes by a mapping.
const mappedMark uint32 = 1 << 2

// Mappings are elements of maps: they come and go without any rule being touched. The maps of one
// family are those for everybody, by the outside address and port; those for some senders, by the
// sender too; and, of IPv4, the machine's address and port with those that it has outside.
type mappingSets struct{ everybody, senders, machines *set }

// Attributes and flags of the kernel that golang.org/x/sys/unix does not name
// (linux/netfilter/nf_tables.h).
const (
	setConcat       = 0x80 // its keys are of several fields
	descConcat      = 2    // NFTA_SET_DESC_CONCAT
	fieldLength     = 1    // NFTA_SET_FIELD_LEN
	elementKeyEnd   = 10   // NFTA_SET_ELEM_KEY_END
	elementTimeout  = 4    // NFTA_SET_ELEM_TIMEOUT
	dataRegister    = register0 + 11
	lateness        = 5 * time.Second // for whoever takes a mapping away before the kernel does
	longestDuration = 10 * 365 * 24 * time.Hour
)

func setName(kind string, f header.Family) string { return fmt.Sprintf("%s-%d", kind, []int{4, 6}[f]) }

// mappingSets makes the maps of a family, with what is in them from the beginning.
func (c *compiler) mappingSets(f header.Family) *mappingSets {
	length := uint32(len(f.Prefix().Addr().AsSlice()))
	made := &mappingSets{
		everybody: &set{name: setName("mappings", f), keyLen: length + 8, dataLen: length + 4, open: true, words: "mappings for everybody"},
		senders: &set{name: setName("mappings-of-senders", f), keyLen: 2*length + 12, dataLen: length + 4, open: true, interval: true,
			fields: []uint32{length, 4, 4, length, 4}, words: "mappings for some senders"},
	}
	if f == header.IPv4 {
		made.machines = &set{name: setName("mapped-machines", f), keyLen: length + 8, dataLen: length + 4, open: true, words: "what mappings make of sources"}
	}
	for _, m := range c.Mappings {
		for _, e := range elementsOf(m) {
			for _, s := range made.all() {
				if s.name == e.set {
					s.elements = append(s.elements, e.element)
				}
			}
		}
	}
	c.Program.sets = append(c.Program.sets, made.all()...)
	return made
}

func (s *mappingSets) all() []*set {
	return slices.DeleteFunc([]*set{s.everybody, s.senders, s.machines}, func(s *set) bool { return s == nil })
}

// placed is an element and the set that it is in.
type placed struct {
	set string
	element
}

// elementsOf returns the elements of a mapping.
func elementsOf(m *network.Mapping) []placed {
	f := header.FamilyOf(m.Outside.Addr())
	data := endBytes(m.Inside)
	key := socketBytes(m.Outside, m.Protocol)
	left := time.Duration(0)
	if m.Left > 0 {
		left = min(m.Left, longestDuration) + lateness
	}
	words := m.Name + " to " + m.Inside.String()
	var list []placed
	if len(m.Senders) == 0 {
		list = append(list, placed{setName("mappings", f), element{key: key, data: data, timeout: left, words: words}})
	}
	for i, s := range m.Senders {
		if slices.Contains(m.Senders[:i], s) || header.FamilyOf(s.From.Addr()) != f {
			continue
		}
		r := header.RangeOf(s.From.Masked())
		first, last := s.Port, s.Port
		if s.Port == 0 {
			last = 65535
		}
		from := slices.Concat(key, r.First.AsSlice(), wide(first))
		to := slices.Concat(key, r.Last.AsSlice(), wide(last))
		list = append(list, placed{setName("mappings-of-senders", f), element{key: from, end: to, data: data, timeout: left, words: words}})
	}
	if f == header.IPv4 && m.Inside != m.Outside {
		list = append(list, placed{setName("mapped-machines", f), element{key: socketBytes(m.Inside, m.Protocol), data: endBytes(m.Outside), timeout: left, words: words}})
	}
	return list
}

// wide is a port as it stands in a register.
func wide(port uint16) []byte { return []byte{byte(port >> 8), byte(port), 0, 0} }

func endBytes(a netip.AddrPort) []byte { return append(a.Addr().AsSlice(), wide(a.Port())...) }

func socketBytes(a netip.AddrPort, p header.Protocol) []byte {
	return slices.Concat(a.Addr().AsSlice(), []byte{byte(p), 0, 0, 0}, wide(a.Port()))
}

// loadSocket loads the address and port of an end, with the protocol between them.
func loadSocket(e end, f header.Family, register uint32) (all []expression, next uint32) {
	words := uint32(len(f.Prefix().Addr().AsSlice())) / 4
	return []expression{e.address(f, register), meta(unix.NFT_META_L4PROTO, register+words), e.port(register + words + 1)}, register + words + 2
}

// toMapped gives one end of a packet the address and port that a map has put into the data
// register.
func toMapped(kind uint32, f header.Family) expression {
	words := uint32(len(f.Prefix().Addr().AsSlice())) / 4
	t := translation{kind: kind, family: familyNumbers[f], first: dataRegister, last: dataRegister, firstPort: dataRegister + words, lastPort: dataRegister + words}
	return t.expression()
}

// byMapping adds, behind the rules for destinations of what arrives by the external interface, what
// mappings do.
func (c *compiler) byMapping(ch *chain, in *network.Interface) {
	m := c.g.Mappings
	if m == nil || m.External != in {
		return
	}
	begins := slices.Concat(marks("mark that a mapping is for it", mappedMark, mappedMark), c.counted("mappings"))
	for _, f := range header.Families {
		sets := c.sets(f)
		load, next := loadSocket(destination, f, register0)
		words := uint32(len(f.Prefix().Addr().AsSlice())) / 4
		sender := append(slices.Clone(load), source.address(f, next), source.port(next+words))
		ch.add(ofFamily(f), one("to what "+sets.senders.name+" says", append(sender, lookupInto(sets.senders.name, register0, dataRegister))...), begins, one("", toMapped(unix.NFT_NAT_DNAT, f)))
		ch.add(ofFamily(f), one("to what "+sets.everybody.name+" says", append(load, lookupInto(sets.everybody.name, register0, dataRegister))...), begins, one("", toMapped(unix.NFT_NAT_DNAT, f)))
	}
}

// sets returns the maps of a family, which it makes the first time.
func (c *compiler) sets(f header.Family) *mappingSets {
	if c.mapped[f] == nil {
		c.mapped[f] = c.mappingSets(f)
	}
	return c.mapped[f]
}

// sourceByMapping adds to the chain of a source-nat rule that a machine's port which has a mapping
// is hidden behind the mapping's.
func (c *compiler) sourceByMapping(ch *chain, r *network.NATRule, out *network.Interface, pool header.Addresses) {
	m := c.g.Mappings
	if m == nil || m.External != out || c.g.Handling.Mapping != network.EndpointIndependent || r.SourcePorts != (header.Ports{}) {
		return
	}
	if a, has := out.Address(header.IPv4); !has || !pool.Contains(a) {
		return
	}
	sets := c.sets(header.IPv4)
	load, _ := loadSocket(source, header.IPv4, register0)
	ch.add(ofFamily(header.IPv4), one("from what "+sets.machines.name+" says", append(load, lookupInto(sets.machines.name, register0, dataRegister), toMapped(unix.NFT_NAT_SNAT, header.IPv4))...))
}

// permitMapped adds to the filter's chain of what comes from outside that a mapping permits what it
// is for, where no rule has said otherwise.
func (c *compiler) permitMapped(ch *chain, in *network.Interface) {
	if m := c.g.Mappings; m != nil && m.External.Zone == in.Zone {
		ch.add(inState(newState), marked("that a mapping is for", mappedMark, mappedMark), ends(accepts))
	}
}

// searched adds what the gateway itself takes of programs that ask at other addresses than its own of the file: what is sent to the group
// of those that answer searches by UPnP (UPnP Device Architecture, 1.3.2), and PCP at link-local ones.
func (c *compiler) searched(in *chain) {
	m := c.g.Mappings
	if m == nil {
		return
	}
	at := func(protocol string, to header.Addresses, port uint16) {
		if !m.Speaks(protocol) {
			return
		}
		for _, i := range m.On {
			if i.IsUp() {
				match := engine.Match{From: header.AllAddresses(), To: to, Services: header.Services{header.ServiceAt(header.UDP, port)}}
				c.rules(in, match, destination, cameBy(c.Device(i)), ends(accepts))
			}
		}
	}
	at(network.IGD, header.Single(netip.AddrFrom4([4]byte{239, 255, 255, 250})), network.SSDPPort)
	at(network.IGD, header.Single(netip.MustParseAddr("ff02::c")), network.SSDPPort)
	at(network.PCP, linkLocal, network.PCPPort)
}

// linkLocal are the addresses of one link.
var linkLocal = header.AddressesOfPrefixes(netip.MustParsePrefix("fe80::/10"))

// OpenMappings takes mappings out of the maps on the machine and puts others there, all of it or
// nothing. Those that are taken out must be there as they are said.
func (m *Machine) OpenMappings(shut, open []*network.Mapping) error {
	b := &batch{}
	b.begin()
	empty := len(b.messages)
	for _, of := range []struct {
		message  int
		flags    netlink.HeaderFlags
		mappings []*network.Mapping
	}{{unix.NFT_MSG_DELSETELEM, 0, shut}, {unix.NFT_MSG_NEWSETELEM, netlink.Create, open}} {
		bySet := map[string][]element{}
		var order []string
		for _, mapping := range of.mappings {
			for _, e := range elementsOf(mapping) {
				if bySet[e.set] == nil {
					order = append(order, e.set)
				}
				bySet[e.set] = append(bySet[e.set], e.element)
			}
		}
		for _, name := range order {
			b.openElements(of.message, of.flags, name, bySet[name])
		}
	}
	if len(b.messages) == empty {
		return nil
	}
	b.end()
	return m.send(b)
}

// HasMappings reports whether a program has maps for mappings.
func (p *Program) HasMappings() bool {
	return slices.ContainsFunc(p.sets, func(s *set) bool { return s.open })
}

// ReplaceMappings puts mappings into the maps on the machine in place of all that are there.
func (m *Machine) ReplaceMappings(all []*network.Mapping) error {
	b := &batch{}
	b.begin()
	bySet := map[string][]element{}
	for _, f := range header.Families {
		for _, kind := range []string{"mappings", "mappings-of-senders", "mapped-machines"} {
			if kind != "mapped-machines" || f == header.IPv4 {
				bySet[setName(kind, f)] = nil
			}
		}
	}
	for _, mapping := range all {
		for _, e := range elementsOf(mapping) {
			bySet[e.set] = append(bySet[e.set], e.element)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(bySet)) {
		b.add("all of "+name, unix.NFT_MSG_DELSETELEM, 0, func(e *netlink.AttributeEncoder) { // without elements: all of them
			e.String(unix.NFTA_SET_ELEM_LIST_TABLE, Table)
			e.String(unix.NFTA_SET_ELEM_LIST_SET, name)
		})
		b.openElements(unix.NFT_MSG_NEWSETELEM, netlink.Create, name, bySet[name])
	}
	b.end()
	return m.send(b)
}

// openElements adds elements to a set that is open, or takes them out.
func (b *batch) openElements(message int, flags netlink.HeaderFlags, name string, elements []element) {
	for part := range slices.Chunk(elements, mostElements) {
		b.add("mappings in "+name, message, flags, func(e *netlink.AttributeEncoder) {
			e.String(unix.NFTA_SET_ELEM_LIST_TABLE, Table)
			e.String(unix.NFTA_SET_ELEM_LIST_SET, name)
			e.Nested(unix.NFTA_SET_ELEM_LIST_ELEMENTS, func(e *netlink.AttributeEncoder) error {
				for _, el := range part {
					e.Nested(unix.NFTA_LIST_ELEM, func(e *netlink.AttributeEncoder) error {
						value(e, unix.NFTA_SET_ELEM_KEY, el.key)
						if el.end != nil {
							value(e, elementKeyEnd, el.end)
						}
						if message == unix.NFT_MSG_NEWSETELEM {
							value(e, unix.NFTA_SET_ELEM_DATA, el.data)
							if el.timeout > 0 {
								e.Uint64(elementTimeout, uint64(el.timeout/time.Millisecond))
							}
						}
						return nil
					})
				}
				return nil
			})
		})
	}
}

// describe tells the kernel of which values a key is made that is an interval in each of them.
func (s *set) describe(e *netlink.AttributeEncoder) {
	if len(s.fields) == 0 {
		return
	}
	e.Nested(unix.NFTA_SET_DESC, func(e *netlink.AttributeEncoder) error {
		e.Nested(descConcat, func(e *netlink.AttributeEncoder) error {
			for _, length := range s.fields {
				e.Nested(unix.NFTA_LIST_ELEM, func(e *netlink.AttributeEncoder) error {
					e.Bytes(fieldLength, binary.BigEndian.AppendUint32(nil, length))
					return nil
				})
			}
			return nil
		})
		return nil
	})
}
