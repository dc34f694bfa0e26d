package kernel

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile/netfiletest"

	"github.com/mdlayher/netlink"
	"golang.org/x/sys/unix"
)

// An interpreter does what the kernel does with a program, slowly and by the messages that the
// kernel would get: it is the reference for what the compiler makes.
type interpreter struct {
	t         *testing.T
	p         *Program
	packet    header.Packet
	first     header.Packet // of its connection, before it was translated
	in, out   string
	state     uint32
	mark      uint32
	registers [64]byte
	counted   []string
	rejected  bool
	nat       bool
	becomes   netip.AddrPort // what is translated to, where a mapping says it
}

// attributes are those of a message, by number.
func attributes(t *testing.T, data []byte) map[uint16][]byte {
	t.Helper()
	d, err := netlink.NewAttributeDecoder(data)
	if err != nil {
		t.Fatal(err)
	}
	all := map[uint16][]byte{}
	for d.Next() {
		all[d.Type()&0x3fff] = d.Bytes()
	}
	if d.Err() != nil {
		t.Fatal(d.Err())
	}
	return all
}

func number(b []byte) uint32 {
	n := uint32(0)
	for _, c := range b {
		n = n<<8 | uint32(c)
	}
	return n
}

// register returns where a register begins.
func (i *interpreter) register(attribute []byte) []byte {
	n := number(attribute)
	if n < unix.NFT_REG32_00 {
		i.t.Fatalf("register %d", n)
	}
	return i.registers[4*(n-unix.NFT_REG32_00):]
}

// load puts a value into a register, and zeroes to the end of its four bytes.
func (i *interpreter) load(attribute, value []byte) {
	r := i.register(attribute)
	clear(r[:(len(value)+3)/4*4])
	copy(r, value)
}

// run runs a base chain, and returns whether the packet passes.
func (i *interpreter) run(name string) bool {
	c := i.p.named[name]
	switch v := i.chain(c); {
	case v == nil:
		return c.base.policy == accepts
	default:
		return *v == accepts
	}
}

// chain runs a chain; nil is its end.
func (i *interpreter) chain(c *chain) *verdict {
	if c == nil {
		i.t.Fatal("no such chain")
	}
	for _, r := range c.rules {
		v := i.rule(r)
		for v != nil && v.chain != "" {
			inner := i.chain(i.p.named[v.chain])
			if inner == nil && v.code == unix.NFT_JUMP {
				v = nil
				break
			}
			return inner
		}
		if v != nil {
			return v
		}
	}
	return nil
}

// rule runs a rule; nil is that it says nothing.
func (i *interpreter) rule(r rule) *verdict {
	for _, s := range r {
		for _, x := range s.expressions {
			e := netlink.NewAttributeEncoder()
			e.ByteOrder = networkByteOrder
			x.encode(e)
			data, err := e.Encode()
			if err != nil {
				i.t.Fatal(err)
			}
			v, goesOn := i.expression(x.name, attributes(i.t, data))
			if v != nil || !goesOn {
				return v
			}
		}
	}
	return nil
}

func valueOf(t *testing.T, nested []byte) []byte { return attributes(t, nested)[unix.NFTA_DATA_VALUE] }

func (i *interpreter) expression(name string, a map[uint16][]byte) (v *verdict, goesOn bool) {
	switch name {
	case "meta":
		return nil, i.meta(a)
	case "ct":
		return nil, i.tracked(a)
	case "payload":
		return nil, i.payload(a)
	case "cmp":
		value := valueOf(i.t, a[unix.NFTA_CMP_DATA])
		c := bytes.Compare(i.register(a[unix.NFTA_CMP_SREG])[:len(value)], value)
		return nil, map[uint32]bool{unix.NFT_CMP_EQ: c == 0, unix.NFT_CMP_NEQ: c != 0, unix.NFT_CMP_GTE: c >= 0, unix.NFT_CMP_LTE: c <= 0, unix.NFT_CMP_LT: c < 0}[number(a[unix.NFTA_CMP_OP])]
	case "bitwise":
		mask, xor := valueOf(i.t, a[unix.NFTA_BITWISE_MASK]), valueOf(i.t, a[unix.NFTA_BITWISE_XOR])
		source, destination := i.register(a[unix.NFTA_BITWISE_SREG]), i.register(a[unix.NFTA_BITWISE_DREG])
		for k := range mask {
			destination[k] = source[k]&mask[k] ^ xor[k]
		}
		return nil, true
	case "lookup":
		return i.lookup(a)
	case "immediate":
		data := attributes(i.t, a[unix.NFTA_IMMEDIATE_DATA])
		if coded, is := data[unix.NFTA_DATA_VERDICT]; is {
			parts := attributes(i.t, coded)
			return &verdict{int32(number(parts[unix.NFTA_VERDICT_CODE])), string(bytes.TrimRight(parts[unix.NFTA_VERDICT_CHAIN], "\x00"))}, true
		}
		i.load(a[unix.NFTA_IMMEDIATE_DREG], data[unix.NFTA_DATA_VALUE])
		return nil, true
	case "objref":
		i.counted = append(i.counted, string(bytes.TrimRight(a[unix.NFTA_OBJREF_IMM_NAME], "\x00")))
		return nil, true
	case "reject":
		i.rejected = true
		return &drops, true
	case "nat":
		i.nat = true
		if ports := a[unix.NFTA_NAT_REG_PROTO_MIN]; ports != nil && number(ports) >= dataRegister {
			address, _ := netip.AddrFromSlice(i.register(a[unix.NFTA_NAT_REG_ADDR_MIN])[:len(i.packet.Source.AsSlice())])
			i.becomes = netip.AddrPortFrom(address, uint16(number(i.register(ports)[:2])))
		}
		return &accepts, true
	case "log", "hash", "tproxy":
		return nil, true
	case "connlimit":
		return nil, false
	case "fib":
		i.load(a[unix.NFTA_FIB_DREG], make([]byte, unix.IFNAMSIZ)) // there is no way: no rule that rewrites both ends
		return nil, true
	}
	i.t.Fatalf("%s: no such expression", name)
	return nil, false
}

func (i *interpreter) family() header.Family { return header.FamilyOf(i.packet.Source) }

func (i *interpreter) meta(a map[uint16][]byte) bool {
	if a[unix.NFTA_META_SREG] != nil {
		return true
	}
	value := map[uint32][]byte{
		unix.NFT_META_IIFNAME: deviceKey(i.in), unix.NFT_META_OIFNAME: deviceKey(i.out),
		unix.NFT_META_NFPROTO: {byte(familyNumbers[i.family()])}, unix.NFT_META_L4PROTO: {protocolNumber(i.packet.Protocol, i.family())},
		unix.NFT_META_MARK: host32(0),
	}[number(a[unix.NFTA_META_KEY])]
	if value == nil {
		i.t.Fatalf("meta %d", number(a[unix.NFTA_META_KEY]))
	}
	i.load(a[unix.NFTA_META_DREG], value)
	return true
}

func (i *interpreter) tracked(a map[uint16][]byte) bool {
	if source := a[unix.NFTA_CT_SREG]; source != nil {
		i.mark = order.Uint32(i.register(source))
		return true
	}
	value := map[uint32][]byte{
		unix.NFT_CT_STATE: host32(i.state), unix.NFT_CT_STATUS: host32(0), unix.NFT_CT_MARK: host32(i.mark), unix.NFT_CT_DIRECTION: {0},
		unix.NFT_CT_DST_IP: i.first.Destination.AsSlice(), unix.NFT_CT_DST_IP6: i.first.Destination.AsSlice(), unix.NFT_CT_PROTO_DST: port(i.first.DestinationPort),
	}[number(a[unix.NFTA_CT_KEY])]
	if value == nil {
		i.t.Fatalf("ct %d", number(a[unix.NFTA_CT_KEY]))
	}
	i.load(a[unix.NFTA_CT_DREG], value)
	return true
}

// payload loads from a packet with headers as short as can be.
func (i *interpreter) payload(a map[uint16][]byte) bool {
	var head []byte
	if number(a[unix.NFTA_PAYLOAD_BASE]) == unix.NFT_PAYLOAD_NETWORK_HEADER {
		head = make([]byte, map[header.Family]int{header.IPv4: 12, header.IPv6: 8}[i.family()])
		head = slices.Concat(head, i.packet.Source.AsSlice(), i.packet.Destination.AsSlice())
	} else {
		head = slices.Concat(port(i.packet.SourcePort), port(i.packet.DestinationPort), make([]byte, 9), []byte{2, 0, 0, 0, 0, 0, 0})
	}
	offset, length := number(a[unix.NFTA_PAYLOAD_OFFSET]), number(a[unix.NFTA_PAYLOAD_LEN])
	i.load(a[unix.NFTA_PAYLOAD_DREG], head[offset:offset+length])
	return true
}

func (i *interpreter) lookup(a map[uint16][]byte) (*verdict, bool) {
	name := string(bytes.TrimRight(a[unix.NFTA_LOOKUP_SET], "\x00"))
	at := slices.IndexFunc(i.p.sets, func(s *set) bool { return s.name == name })
	if at < 0 {
		i.t.Fatalf("%s: no such set", name)
	}
	s := i.p.sets[at]
	key := slices.Clone(i.register(a[unix.NFTA_LOOKUP_SREG])[:s.keyLen])
	for _, e := range s.elements {
		if len(s.fields) > 0 {
			if !s.within(key, e) {
				continue
			}
		} else if s.interval && (bytes.Compare(key, e.key) < 0 || e.end != nil && bytes.Compare(key, e.end) >= 0) || !s.interval && !bytes.Equal(key, e.key) {
			continue
		}
		if s.verdicts {
			return &e.goes, true
		}
		if into := a[unix.NFTA_LOOKUP_DREG]; into != nil {
			i.load(into, e.data)
		}
		return nil, true
	}
	return nil, false
}

// within reports whether each of the values of a key lies in an element.
func (s *set) within(key []byte, e element) bool {
	at := uint32(0)
	for _, length := range s.fields {
		value := key[at : at+length]
		if bytes.Compare(value, e.key[at:at+length]) < 0 || bytes.Compare(value, e.end[at:at+length]) > 0 {
			return false
		}
		at += length
	}
	return true
}

// plainly says whether a packet meets what a rule asks.
func plainly(m engine.Match, p header.Packet) bool {
	among := func(list []header.Ports, port uint16) bool {
		return slices.ContainsFunc(list, func(r header.Ports) bool { return r.Contains(port) })
	}
	return m.From.Contains(p.Source) && m.To.Contains(p.Destination) && (len(m.Services) == 0 || m.Services.Matches(p.Protocol, p.DestinationPort)) &&
		(len(m.SourcePorts) == 0 || p.Protocol.HasPorts() && among(m.SourcePorts, p.SourcePort))
}

// near returns an address that rules of a list may be about.
func near(random *rand.Rand, list []engine.Match, of func(engine.Match) header.Addresses, family header.Family) netip.Addr {
	for range 20 {
		ranges := of(list[random.IntN(len(list))]).Intersect(family.All()).Ranges()
		if len(ranges) == 0 {
			continue
		}
		r := ranges[random.IntN(len(ranges))]
		a := [...]netip.Addr{r.First, r.Last, r.First.Prev(), r.Last.Next()}[random.IntN(4)]
		if a.IsValid() {
			return a
		}
	}
	return [2]netip.Addr{netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("2001:db8::1")}[family]
}

// randomPacket is one that rules of a list may be about.
func randomPacket(random *rand.Rand, list []engine.Match) header.Packet {
	family := header.Families[random.IntN(2)]
	p := header.Packet{
		Source:      near(random, list, func(m engine.Match) header.Addresses { return m.From }, family),
		Destination: near(random, list, func(m engine.Match) header.Addresses { return m.To }, family),
		Protocol:    header.Protocols()[random.IntN(len(header.Protocols()))],
	}
	if s := list[random.IntN(len(list))].Services; len(s) > 0 && random.IntN(5) > 0 {
		one := s[random.IntN(len(s))]
		if p.Protocol = one.Protocol; p.Protocol == header.AnyProtocol {
			p.Protocol = header.UDP
		}
		p.DestinationPort = one.Ports.First + uint16(random.IntN(3))
	}
	if p.Protocol.HasPorts() {
		p.SourcePort = uint16(1 + random.IntN(65535))
		if ports := list[random.IntN(len(list))].SourcePorts; len(ports) > 0 {
			p.SourcePort = ports[0].First
		}
	} else {
		p.DestinationPort = 0
	}
	return p
}

// texts are networks with short lists, with long ones and with tangled ones.
func texts(n int) (list []string) {
	size := 120
	if testing.Short() {
		size = 20
	}
	for seed := range uint64(n) {
		list = append(list, gen.Small(seed))
	}
	return append(list, gen.Large(1, size), gen.Large(2, size/2), gen.Tangled(1, size/2), gen.Tangled(2, size/4))
}

// What the filter's chains decide is what its list says, read from its beginning.
func TestTheFilterDecidesAsItsList(t *testing.T) {
	at := network.MomentOf(0, 600)
	decided := map[string]int{}
	packets := 40 // between each two interfaces
	if testing.Short() {
		packets = 4
	}
	for number, text := range texts(netfiletest.Few(60, 5)) {
		e := walk.Compile(netfiletest.Parse(t, text), nil)
		for _, net := range e.Network().Gateways {
			g := e.Gateway(net)
			p, _, err := Compile(g, Options{At: &at, Device: func(i *network.Interface) string { return i.Name }, LeaveOut: true})
			if err != nil {
				t.Fatal(err)
			}
			random := rand.New(rand.NewPCG(uint64(number), 7))
			for _, in := range net.Interfaces {
				for _, out := range net.Interfaces {
					list := slices.DeleteFunc(slices.Collect(g.Permissions(in, out)), func(m engine.Match) bool { return !m.Rule.Active(at) })
					if !in.IsUp() || !out.IsUp() || len(in.Addresses) == 0 || len(out.Addresses) == 0 || len(list) == 0 {
						continue
					}
					for range packets {
						packet := randomPacket(random, list)
						if g.OutTo(packet.Destination) != out && !net.Handling.FilterSeesOriginal {
							continue // it does not go there
						}
						i := &interpreter{t: t, p: p, packet: packet, first: packet, in: in.Name, out: out.Name, state: newState}
						led := random.IntN(2) == 0
						if led {
							i.mark = ledMark
						}
						want, by := g.Trusts(in, out), "unmatched"
						if want {
							by = "by-trust"
						}
						if k := slices.IndexFunc(list, func(m engine.Match) bool { return (led || !m.Redirected) && plainly(m, packet) }); k >= 0 {
							want, by = list[k].Verb == network.Allow, counterOf(list[k].Rule)
						}
						if got := i.run("filter"); got != want || !slices.Equal(i.counted, []string{by}) {
							t.Fatalf("network %d, %s, %s to %s: %+v passes %v by %v, should %v by %s", number, net.Name, in.Name, out.Name, packet, got, i.counted, want, by)
						}
						decided[fmt.Sprint(want, by == "unmatched")]++
					}
				}
			}
		}
	}
	if !testing.Short() && (decided["true false"] < 500 || decided["false false"] < 200 || decided["false true"] < 200) {
		t.Errorf("too little was decided: %v", decided)
	}
}

// The rule that redirects what arrives is the first of the list that matches, and where none does, a
// mapping.
func TestDestinationsAreTranslatedByTheFirstRule(t *testing.T) {
	at := network.MomentOf(0, 600)
	redirected, mapped := 0, 0
	for number, text := range texts(60) {
		n := netfiletest.Parse(t, text)
		random := rand.New(rand.NewPCG(uint64(number), 8))
		netfiletest.OpenSome(random, n)
		for _, net := range n.Gateways {
			if len(net.Opened) > 0 {
				net.Mappings = &network.Mappings{External: net.Opened[0].On[0]}
				net.Opened = slices.DeleteFunc(net.Opened, func(m *network.Mapping) bool { return m.On[0] != net.Mappings.External })
			}
		}
		e := walk.Compile(n, nil)
		for _, net := range e.Network().Gateways {
			g := e.Gateway(net)
			p, unable, err := Compile(g, Options{At: &at, Device: func(i *network.Interface) string { return i.Name }, LeaveOut: true, Mappings: net.Opened})
			if err != nil {
				t.Fatal(err)
			}
			for _, in := range net.Interfaces {
				list := slices.DeleteFunc(slices.Collect(g.Destinations(in)), func(m engine.Match) bool {
					return !m.Rule.Active(at) || slices.ContainsFunc(unable, func(u *Unable) bool { return u.Rule == m.Rule })
				})
				if !in.IsUp() || len(in.Addresses) == 0 || len(list) == 0 {
					continue
				}
				for range 60 {
					packet := randomPacket(random, list)
					if len(net.Opened) > 0 && random.IntN(2) == 0 {
						m := net.Opened[random.IntN(len(net.Opened))]
						packet.Protocol, packet.Destination, packet.DestinationPort = m.Protocol, m.Outside.Addr(), m.Outside.Port()
						from := []string{"203.0.113.7", "192.0.2.7", "198.51.100.200"}
						if m.Outside.Addr().Is6() {
							from = []string{"2001:db8:f::7", "2001:db8:e::7"}
						}
						packet.Source, packet.SourcePort = netip.MustParseAddr(from[random.IntN(len(from))]), []uint16{40000, 40001}[random.IntN(2)]
					}
					i := &interpreter{t: t, p: p, packet: packet, first: packet, in: in.Name, state: newState}
					i.run("destination")
					k := slices.IndexFunc(list, func(m engine.Match) bool { return plainly(m, packet) })
					by := slices.IndexFunc(net.Opened, func(m *network.Mapping) bool {
						return m.On[0] == in && m.Protocol == packet.Protocol && m.Outside == netip.AddrPortFrom(packet.Destination, packet.DestinationPort) && m.Admits(packet.Source, packet.SourcePort)
					})
					if k < 0 && by >= 0 {
						if mapped++; !slices.Equal(i.counted, []string{"mappings"}) || i.becomes != net.Opened[by].Inside || i.mark&mappedMark == 0 {
							t.Fatalf("network %d, %s: %+v becomes %s by %v, should %s", number, in, packet, i.becomes, i.counted, net.Opened[by].Inside)
						}
						continue
					}
					if k < 0 {
						if len(i.counted) > 0 {
							t.Fatalf("network %d, %s: %+v is redirected by %v", number, in, packet, i.counted)
						}
						continue
					}
					asked := slices.ContainsFunc(net.Filter, func(r *network.FilterRule) bool { return r.Redirected && !r.Off() })
					if redirected++; !slices.Equal(i.counted, []string{counterOf(list[k].Rule)}) || !i.nat || asked != (i.mark&ledMark != 0) {
						t.Fatalf("network %d, %s: %+v is redirected by %v, should by %s", number, in, packet, i.counted, list[k].Rule.Name)
					}
				}
			}
		}
	}
	if !testing.Short() && (redirected < 1000 || mapped < 200) {
		t.Errorf("only %d packets were redirected, %d by mappings", redirected, mapped)
	}
}
