package portmap

import (
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/netfile/netfiletest"
	"hollowbridge/internal/portmap/natpmp"
	"hollowbridge/internal/portmap/pcp"
)

func TestMain(m *testing.M) {
	flag.Parse()
	flag.Set("test.parallel", "4") // they wait for programs more than they compute
	os.Exit(m.Run())
}

const shop = `network: shop
groups: {desks: [10.61.8.40-10.61.8.60]}
hosts:
  spectro: {address: [10.61.8.52, "fd61:8::52"]}
  log-box: {address: 10.61.8.9}
gateways:
  rim:
    interfaces:
      fibre: {address: [198.51.100.18/29, "2001:db8:61::2/64"], zone: outside}
      staff: {address: [10.61.8.1/24, "fd61:8::1/64"], zone: staff}
      yard: {address: 10.61.24.1/28, zone: yard}
    routes: [{to: default, via: 198.51.100.17}, {to: default, via: "2001:db8:61::1"}]
    serves: {ssh: fibre, tcp/20007: fibre}
    nat:
      - {port-forward: web, on: fibre, service: tcp/20005-20006, to: 10.61.24.5, from: 203.0.113.0/24}
      - {port-forward: off, on: fibre, service: tcp/20009, to: 10.61.24.5, disabled: true}
    filter: [{allow: all, from: staff, to: outside}]
    mappings:
      protocols: [pcp, nat-pmp, upnp-igd]
      on: [staff]
      external: fibre
      at-most: 30
      rules:
        - {drop: 10.61.8.50}
        - {allow: desks, ports: 20000-20019, inside-ports: 1000-65535, shortest: 2m, lifetime: 1h, at-most: 6}
        - {allow: log-box, for: desks, ports: 20000-20999, lifetime: 1h}
        - {allow: "fd61:8::/64", ports: 5000-5999, lifetime: 1h}
        - {allow: 10.61.8.10, ports: 80-90, inside-ports: 8000, lifetime: 1h}
        - {allow: 10.61.8.11, ask: true, lifetime: 1h}
`

// A bench is a server with a clock that the test moves, and what it has put into force and kept.
type bench struct {
	*Server
	t     *testing.T
	at    time.Time
	force map[Shut]*network.Mapping
	kept  map[uint64]Record
	bound map[netip.AddrPort]uint16 // ports that sessions of machines' ports have
	taken map[uint16]bool           // ports of sessions
	log   []Happening
	fails error
	began time.Time
}

func newBench(t *testing.T, text string) *bench {
	b := &bench{t: t, at: time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC), force: map[Shut]*network.Mapping{}, kept: map[uint64]Record{}, bound: map[netip.AddrPort]uint16{}, taken: map[uint16]bool{}}
	b.began = b.at
	b.start(text)
	return b
}

// start starts a server with what was kept.
func (b *bench) start(text string) {
	var records []Record
	for _, r := range b.kept {
		records = append(records, r)
	}
	seen := map[string]time.Time{"fd61:8::/64": {}}
	for i := range 256 {
		seen[fmt.Sprint("10.61.8.", i)] = time.Time{}
	}
	slices.SortFunc(records, func(a, c Record) int { return int(a.Number) - int(c.Number) })
	b.Server = NewServer(Options{
		Gateway: "rim", Ports: StandardPorts, Within: func(func() error) error { return ErrElsewhere }, Records: records, Epoch: b.began,
		SetEpoch: func(at time.Time) error { b.began = at; return nil },
		Apply: func(open []*network.Mapping, shut []Shut) error {
			if b.fails != nil {
				return b.fails
			}
			for _, s := range shut {
				delete(b.force, s)
			}
			for _, m := range open {
				b.force[Shut{m.Protocol, m.Outside}] = m
			}
			return nil
		},
		Save: func(changed []Record, gone []uint64) error {
			for _, r := range changed {
				b.kept[r.Number] = r
			}
			for _, n := range gone {
				delete(b.kept, n)
			}
			return nil
		},
		Packets: func(mapping string) (int64, error) { return int64(len(mapping)), nil },
		Bound: func(_ header.Protocol, inside netip.AddrPort, _ netip.Addr) (uint16, bool) {
			port, ok := b.bound[inside]
			return port, ok
		},
		IsTaken: func(_ header.Protocol, outside netip.AddrPort) bool { return b.taken[outside.Port()] },
		Seen:    seen,
		Record:  func(h Happening) { b.log = append(b.log, h) },
		Trouble: func(err error) {
			if b.fails == nil {
				b.t.Error(err)
			}
		},
	})
	b.mutex.Lock()
	b.now = func() time.Time { return b.at }
	b.mutex.Unlock()
	b.t.Cleanup(b.Stop)
	b.use(text)
}

func (b *bench) use(text string) {
	b.t.Helper()
	n := netfiletest.Parse(b.t, text)
	if err := b.Use(walk.Compile(n, nil).Gateway(n.Gateway("rim"))); err != nil {
		b.t.Fatal(err)
	}
}

// pass lets time go by.
func (b *bench) pass(d time.Duration) {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	b.at = b.at.Add(d)
	for _, e := range b.table.ended(b.at) {
		b.happens(Ended, e, describe(e))
	}
	b.giveUpWaiting(b.at)
	b.flush(b.at)
}

func (b *bench) ask(from string, data []byte) []byte {
	b.t.Helper()
	got := b.answer([]datagram{{peer: netip.AddrPortFrom(netip.MustParseAddr(from), 5000), data: data}}, func(datagram) {})
	if len(got) == 0 {
		return nil
	}
	return got[0].data
}

// mapping asks by PCP: protocol, inside port, wished port, seconds.
func (b *bench) mapping(from string, protocol header.Protocol, port, wished uint16, seconds uint32, edit func(*pcp.Message)) *pcp.Message {
	b.t.Helper()
	m := &pcp.Message{Opcode: pcp.Map, Client: netip.MustParseAddr(from), Protocol: uint8(protocol), InternalPort: port, ExternalPort: wished, Lifetime: seconds, Nonce: pcp.Nonce{7}}
	if edit != nil {
		edit(m)
	}
	got, err := pcp.ParseResponse(b.ask(from, m.Append(nil)))
	if err != nil {
		b.t.Fatal(err)
	}
	return got
}

func (b *bench) wantPCP(what string, got *pcp.Message, result pcp.Result, port uint16, seconds uint32) {
	b.t.Helper()
	if got.Result != result || result == pcp.Success && (got.ExternalPort != port || got.Lifetime != seconds) {
		b.t.Errorf("%s: %s, port %d for %d s; not %s, %d for %d", what, got.Result, got.ExternalPort, got.Lifetime, result, port, seconds)
	}
	if result == pcp.Success && port != 0 && got.External != netip.MustParseAddr("198.51.100.18") && got.External.Is4() {
		b.t.Errorf("%s: outside is %s", what, got.External)
	}
}

// The story of a mapping by PCP (RFC 6887, 11 and 15).
func TestPCPGrantsRenewsAndTakesAway(t *testing.T) {
	b := newBench(t, shop)
	at := func(protocol header.Protocol, port uint16) Shut {
		return Shut{protocol, netip.AddrPortFrom(netip.MustParseAddr("198.51.100.18"), port)}
	}
	b.wantPCP("granted", b.mapping("10.61.8.52", header.TCP, 2000, 20003, 600, nil), pcp.Success, 20003, 600)
	if m := b.force[at(header.TCP, 20003)]; m == nil || m.Inside.String() != "10.61.8.52:2000" || m.By != network.PCP || len(b.kept) != 1 {
		t.Fatalf("in force is %+v, kept %v", m, b.kept)
	}
	b.wantPCP("renewed, whatever is wished", b.mapping("10.61.8.52", header.TCP, 2000, 20004, 900, nil), pcp.Success, 20003, 900)
	b.wantPCP("another nonce", b.mapping("10.61.8.52", header.TCP, 2000, 20003, 900, func(m *pcp.Message) { m.Nonce = pcp.Nonce{8} }), pcp.NotAuthorized, 0, 0)
	b.wantPCP("too short, and the port of the other protocol", b.mapping("10.61.8.52", header.UDP, 2000, 0, 1, nil), pcp.Success, 20003, 120)
	b.wantPCP("too long", b.mapping("10.61.8.52", header.UDP, 2000, 0, 1<<31, nil), pcp.Success, 20003, 3600)
	b.wantPCP("not the forward's port", b.mapping("10.61.8.41", header.TCP, 2000, 20005, 600, nil), pcp.Success, 20008, 600)
	b.wantPCP("a disabled rule's", b.mapping("10.61.8.41", header.TCP, 2001, 20009, 600, nil), pcp.Success, 20009, 600)
	b.wantPCP("another machine's port, also of the other protocol", b.mapping("10.61.8.42", header.UDP, 2000, 20003, 600, nil), pcp.Success, 20004, 600)
	b.wantPCP("its own", b.mapping("10.61.8.52", header.UDP, 2003, 20003, 600, nil), pcp.Success, 20005, 600)
	b.wantPCP("that one or none", b.mapping("10.61.8.42", header.TCP, 2001, 20003, 600, func(m *pcp.Message) { m.PreferFailure = true }), pcp.CannotProvideExternal, 0, 0)
	b.wantPCP("the gateway's own", b.mapping("10.61.8.42", header.TCP, 2001, 20007, 600, func(m *pcp.Message) { m.PreferFailure = true }), pcp.CannotProvideExternal, 0, 0)
	b.wantPCP("another address", b.mapping("10.61.8.42", header.TCP, 2001, 20010, 600, func(m *pcp.Message) {
		m.PreferFailure, m.External = true, netip.MustParseAddr("198.51.100.19")
	}), pcp.CannotProvideExternal, 0, 0)
	b.taken[20012] = true
	b.wantPCP("a port that sessions have", b.mapping("10.61.8.42", header.TCP, 2001, 20012, 600, nil), pcp.Success, 20013, 600)
	b.bound[netip.MustParseAddrPort("10.61.8.42:2002")] = 20012
	b.wantPCP("that of its own sessions", b.mapping("10.61.8.42", header.TCP, 2002, 0, 600, nil), pcp.Success, 20012, 600)

	b.wantPCP("deleted by a stranger", b.mapping("10.61.8.52", header.TCP, 2000, 0, 0, func(m *pcp.Message) { m.Nonce = pcp.Nonce{9} }), pcp.NotAuthorized, 0, 0)
	b.wantPCP("deleted", b.mapping("10.61.8.52", header.TCP, 2000, 0, 0, nil), pcp.Success, 20003, 0)
	b.wantPCP("deleted again", b.mapping("10.61.8.52", header.TCP, 2000, 0, 0, nil), pcp.Success, 0, 0)
	if b.force[at(header.TCP, 20003)] != nil || b.force[at(header.UDP, 20003)] == nil {
		t.Errorf("in force is %v", b.force)
	}
	b.wantPCP("all of a protocol deleted", b.mapping("10.61.8.52", header.UDP, 0, 0, 0, nil), pcp.Success, 0, 0)
	if b.force[at(header.UDP, 20003)] != nil || b.force[at(header.UDP, 20005)] != nil || b.force[at(header.UDP, 20004)] == nil {
		t.Errorf("in force is %v", b.force)
	}
	b.pass(601 * time.Second)
	if len(b.force) != 0 || len(b.kept) != 0 || len(b.table.numbers) != 0 || len(b.table.machines) != 0 || len(b.table.inside) != 0 || len(b.table.slots) != 0 {
		t.Errorf("after their time there are %v, %v", b.force, b.kept)
	}
}

// Whom and what the policy and the protocol refuse.
func TestRefusalsHaveTheirCodes(t *testing.T) {
	b := newBench(t, shop)
	refused := func(what string, result pcp.Result, from string, protocol header.Protocol, port, wished uint16, edit func(*pcp.Message)) {
		t.Helper()
		b.wantPCP(what, b.mapping(from, protocol, port, wished, 600, edit), result, 0, 0)
	}
	refused("dropped", pcp.NotAuthorized, "10.61.8.50", header.TCP, 2000, 0, nil)
	refused("no rule", pcp.NotAuthorized, "10.61.8.77", header.TCP, 2000, 0, nil)
	refused("an inside port that no rule is for", pcp.NotAuthorized, "10.61.8.52", header.TCP, 22, 0, nil)
	refused("another protocol", pcp.UnsupportedProtocol, "10.61.8.52", 47, 2000, 0, nil)
	refused("all ports", pcp.UnsupportedProtocol, "10.61.8.52", header.TCP, 0, 0, nil)
	refused("a port of no protocol", pcp.MalformedRequest, "10.61.8.52", 0, 2000, 0, nil)
	refused("somebody else's address", pcp.AddressMismatch, "10.61.8.52", header.TCP, 2000, 0, func(m *pcp.Message) { m.Client = netip.MustParseAddr("10.61.8.53") })
	party := func(a string) func(*pcp.Message) { return func(m *pcp.Message) { m.Party = netip.MustParseAddr(a) } }
	refused("for another machine", pcp.NotAuthorized, "10.61.8.52", header.TCP, 2000, 0, party("10.61.8.53"))
	refused("for itself as another", pcp.MalformedRequest, "10.61.8.52", header.TCP, 2000, 0, party("10.61.8.52"))
	refused("for a machine outside", pcp.NotAuthorized, "10.61.8.9", header.TCP, 2000, 0, party("192.0.2.1"))
	refused("too many filters", pcp.ExcessiveRemotePeers, "10.61.8.52", header.TCP, 2000, 0, func(m *pcp.Message) {
		for i := range 17 {
			m.Filters = append(m.Filters, pcp.Filter{From: netip.PrefixFrom(netip.AddrFrom4([4]byte{203, 0, 113, byte(i)}), 32)})
		}
	})
	b.wantPCP("for a machine that a rule names", b.mapping("10.61.8.9", header.TCP, 2000, 20100, 600, party("10.61.8.53")), pcp.Success, 20100, 600)
	b.wantPCP("low ports where a rule says so", b.mapping("10.61.8.10", header.TCP, 8000, 80, 600, nil), pcp.Success, 80, 600)
	if got := b.ask("192.0.2.7", (&pcp.Message{Opcode: pcp.Announce, Client: netip.MustParseAddr("192.0.2.7")}).Append(nil)); got != nil {
		t.Errorf("the internet is answered %x", got)
	}
	if got := b.ask("10.61.24.5", (&pcp.Message{Opcode: pcp.Announce, Client: netip.MustParseAddr("10.61.24.5")}).Append(nil)); got != nil {
		t.Errorf("an interface that is not named is answered %x", got)
	}
	for n := range 6 {
		b.wantPCP("within the quota", b.mapping("10.61.8.44", header.UDP, uint16(3000+n), 0, 600, nil), pcp.Success, uint16(20000+n), 600)
	}
	refused("more than the quota", pcp.UserExceedsQuota, "10.61.8.44", header.UDP, 3100, 0, nil)
	b.fails = errors.New("the kernel is tired")
	refused("what can't be put into force", pcp.NoResources, "10.61.8.45", header.UDP, 3000, 0, nil)
	b.fails = nil
	b.wantPCP("and then can", b.mapping("10.61.8.45", header.UDP, 3000, 0, 600, nil), pcp.Success, 20006, 600)
	for n := 46; len(b.table.numbers) < 30; n++ {
		for port := range uint16(6) {
			b.mapping(fmt.Sprintf("10.61.8.%d", n), header.UDP, 3000+port, 0, 600, nil)
		}
		if n > 60 {
			break
		}
	}
	b.wantPCP("nothing is left", b.mapping("10.61.8.60", header.UDP, 3000, 0, 600, nil), pcp.NoResources, 0, 0)
}

// Filters, peers, and the way to IPv6 addresses (RFC 6887, 12 and 13.3).
func TestSendersPeersAndPinholes(t *testing.T) {
	b := newBench(t, shop)
	filter := func(list ...string) func(*pcp.Message) {
		return func(m *pcp.Message) {
			for _, p := range list {
				m.Filters = append(m.Filters, pcp.Filter{From: netip.MustParsePrefix(p)})
			}
		}
	}
	at := Shut{header.TCP, netip.MustParseAddrPort("198.51.100.18:20001")}
	admits := func(a string, want bool) {
		t.Helper()
		if got := b.force[at].Admits(netip.MustParseAddr(a), 1); got != want {
			t.Errorf("%s may use it: %v", a, got)
		}
	}
	b.wantPCP("for some", b.mapping("10.61.8.52", header.TCP, 2000, 20001, 600, filter("203.0.113.0/24")), pcp.Success, 20001, 600)
	admits("203.0.113.9", true)
	admits("192.0.2.1", false)
	b.wantPCP("for some more", b.mapping("10.61.8.52", header.TCP, 2000, 20001, 600, filter("192.0.2.0/25")), pcp.Success, 20001, 600)
	admits("203.0.113.9", true)
	admits("192.0.2.1", true)
	b.wantPCP("for others instead", b.mapping("10.61.8.52", header.TCP, 2000, 20001, 600, filter("0.0.0.0/0", "192.0.2.128/25")), pcp.Success, 20001, 600)
	admits("192.0.2.1", false)
	admits("192.0.2.200", true)
	b.wantPCP("for everybody", b.mapping("10.61.8.52", header.TCP, 2000, 20001, 600, filter("0.0.0.0/0")), pcp.Success, 20001, 600)
	admits("192.0.2.1", true)
	peer := func(a string, port uint16) func(*pcp.Message) {
		return func(m *pcp.Message) {
			m.Opcode, m.Peer, m.PeerPort = pcp.Peer, netip.MustParseAddr(a), port
		}
	}
	b.wantPCP("a peer of the same port", b.mapping("10.61.8.52", header.TCP, 2000, 0, 600, peer("203.0.113.5", 80)), pcp.Success, 20001, 600)
	b.wantPCP("a peer alone", b.mapping("10.61.8.52", header.UDP, 2001, 20002, 600, peer("203.0.113.5", 80)), pcp.Success, 20002, 600)
	at = Shut{header.UDP, netip.MustParseAddrPort("198.51.100.18:20002")}
	if m := b.force[at]; !m.Admits(netip.MustParseAddr("203.0.113.5"), 80) || m.Admits(netip.MustParseAddr("203.0.113.5"), 81) {
		t.Errorf("%+v", m.Senders)
	}
	b.wantPCP("no peer", b.mapping("10.61.8.52", header.UDP, 2002, 0, 600, peer("0.0.0.0", 80)), pcp.MalformedRequest, 0, 0)
	b.wantPCP("not shortened", b.mapping("10.61.8.52", header.UDP, 2001, 0, 300, peer("203.0.113.5", 80)), pcp.Success, 20002, 600)
	b.wantPCP("not taken away", b.mapping("10.61.8.52", header.UDP, 2001, 0, 0, peer("203.0.113.5", 80)), pcp.Success, 20002, 600)
	b.wantPCP("nor with all of the port", b.mapping("10.61.8.52", header.UDP, 2001, 0, 0, nil), pcp.Success, 0, 0)
	b.wantPCP("lengthened", b.mapping("10.61.8.52", header.UDP, 2001, 0, 900, peer("203.0.113.5", 80)), pcp.Success, 20002, 900)
	if b.force[at] == nil {
		t.Error("the peer is gone")
	}
	b.wantPCP("never there", b.mapping("10.61.8.52", header.UDP, 2003, 0, 0, peer("203.0.113.5", 80)), pcp.Success, 0, 0)
	got := b.mapping("fd61:8::52", header.TCP, 5001, 80, 600, nil)
	if got.Result != pcp.Success || got.External != netip.MustParseAddr("fd61:8::52") || got.ExternalPort != 5001 {
		t.Errorf("IPv6: %+v", got)
	}
	if m := b.force[Shut{header.TCP, netip.MustParseAddrPort("[fd61:8::52]:5001")}]; m == nil || m.Inside != m.Outside {
		t.Errorf("IPv6: in force is %+v", m)
	}
	if got := b.mapping("fd61:8::52", header.TCP, 4000, 0, 600, nil); got.Result != pcp.NotAuthorized {
		t.Errorf("IPv6, another port: %+v", got)
	}
}

// RFC 6886, 3.2 to 3.4, and both versions on one port (RFC 6887, appendix A).
func TestNATPMPAndTheVersions(t *testing.T) {
	b := newBench(t, shop)
	ask := func(from string, r natpmp.Request) natpmp.Response {
		t.Helper()
		got, err := natpmp.ParseResponse(b.ask(from, r.Append(nil)))
		if err != nil {
			t.Fatal(err)
		}
		return got
	}
	want := func(what string, got natpmp.Response, result natpmp.Result, mapped uint16, lifetime uint32) {
		t.Helper()
		if got.Result != result || got.Mapped != mapped || got.Lifetime != lifetime {
			t.Errorf("%s: %+v", what, got)
		}
	}
	b.pass(100 * time.Second)
	if got := ask("10.61.8.52", natpmp.Request{}); got.External != netip.MustParseAddr("198.51.100.18") || got.Epoch != 100 {
		t.Errorf("%+v", got)
	}
	want("granted", ask("10.61.8.52", natpmp.Request{Opcode: natpmp.MapTCP, Port: 2000, Wished: 20002, Lifetime: 600}), natpmp.Success, 20002, 600)
	want("not longer than asked for", ask("10.61.8.52", natpmp.Request{Opcode: natpmp.MapUDP, Port: 2000, Wished: 20002, Lifetime: 10}), natpmp.Success, 20002, 10)
	want("the same again", ask("10.61.8.52", natpmp.Request{Opcode: natpmp.MapTCP, Port: 2000, Wished: 20009, Lifetime: 900}), natpmp.Success, 20002, 900)
	want("another one's companion", ask("10.61.8.53", natpmp.Request{Opcode: natpmp.MapUDP, Port: 2000, Wished: 20002, Lifetime: 600}), natpmp.Success, 20003, 600)
	want("refused", ask("10.61.8.50", natpmp.Request{Opcode: natpmp.MapTCP, Port: 2000, Lifetime: 600}), natpmp.NotAuthorized, 0, 0)
	want("no port", ask("10.61.8.52", natpmp.Request{Opcode: natpmp.MapTCP, Lifetime: 600}), natpmp.NotAuthorized, 0, 0)
	want("taken away", ask("10.61.8.52", natpmp.Request{Opcode: natpmp.MapTCP, Port: 2000}), natpmp.Success, 0, 0)
	want("taken away where there is none", ask("10.61.8.52", natpmp.Request{Opcode: natpmp.MapTCP, Port: 2000}), natpmp.Success, 0, 0)
	b.mapping("10.61.8.52", header.TCP, 2500, 20015, 600, nil)
	want("another protocol's", ask("10.61.8.52", natpmp.Request{Opcode: natpmp.MapTCP, Port: 2500}), natpmp.NotAuthorized, 0, 0)
	want("all of a protocol", ask("10.61.8.53", natpmp.Request{Opcode: natpmp.MapUDP}), natpmp.Success, 0, 0)
	b.pass(11 * time.Second)
	if len(b.force) != 1 {
		t.Errorf("in force is %v", b.force)
	}
	b.use(strings.Replace(shop, "[pcp, nat-pmp, upnp-igd]", "[pcp]", 1))
	if got := b.ask("10.61.8.52", []byte{0, 0}); got[0] != 2 || got[3] != byte(pcp.UnsupportedVersion) {
		t.Errorf("PCP alone answers NAT-PMP %x", got)
	}
	b.use(strings.Replace(shop, "[pcp, nat-pmp, upnp-igd]", "[nat-pmp]", 1))
	if got := b.ask("10.61.8.52", (&pcp.Message{Opcode: pcp.Announce, Client: netip.MustParseAddr("10.61.8.52")}).Append(nil)); got[0] != 0 || got[3] != byte(natpmp.UnsupportedVersion) {
		t.Errorf("NAT-PMP alone answers PCP %x", got)
	}
	b.use(strings.Replace(shop, "[pcp, nat-pmp, upnp-igd]", "[upnp-igd]", 1))
	if got := b.ask("10.61.8.52", []byte{0, 0}); got != nil {
		t.Errorf("UPnP alone answers NAT-PMP %x", got)
	}
}

// Mappings and the epoch survive a restart; a revision takes away what it does not allow, and
// another outside address all.
func TestMappingsSurviveWhatTheyMay(t *testing.T) {
	b := newBench(t, shop)
	b.mapping("10.61.8.52", header.TCP, 2000, 20001, 600, nil)
	b.mapping("10.61.8.53", header.TCP, 2000, 20002, 300, nil)
	b.pass(200 * time.Second)
	b.Stop()
	b.force = map[Shut]*network.Mapping{}
	b.start(shop)
	if len(b.force) != 2 {
		t.Fatalf("after a restart in force is %v", b.force)
	}
	got := b.mapping("10.61.8.52", header.TCP, 2000, 0, 600, nil)
	b.wantPCP("renewed after a restart", got, pcp.Success, 20001, 600)
	if got.Epoch != 200 {
		t.Errorf("the epoch is %d after a restart", got.Epoch)
	}
	b.pass(101 * time.Second)
	if len(b.force) != 1 {
		t.Errorf("in force is %v", b.force)
	}
	b.use(strings.Replace(shop, "tcp/20005-20006", "tcp/20001", 1))
	if len(b.force) != 0 || b.log[len(b.log)-1].Outcome != Ended {
		t.Errorf("with a forward for its port, in force is %v", b.force)
	}
	b.mapping("10.61.8.52", header.TCP, 2000, 20003, 600, nil)
	b.use(strings.Replace(shop, "198.51.100.18/29", "198.51.100.19/29", 1))
	if len(b.force) != 0 {
		t.Errorf("with another address, in force is %v", b.force)
	}
	b.use(shop[:strings.Index(shop, "    mappings:")])
	if got := b.ask("10.61.8.52", []byte{0, 0}); got != nil {
		t.Errorf("without mappings it answers %x", got)
	}
}

// An administrator decides; until then the client gets no answer, and asks again.
func TestAnAdministratorDecides(t *testing.T) {
	b := newBench(t, shop)
	var later []datagram
	m := &pcp.Message{Opcode: pcp.Map, Client: netip.MustParseAddr("10.61.8.11"), Protocol: 6, InternalPort: 3000, Lifetime: 600}
	ask := func() *pcp.Message {
		got := b.answer([]datagram{{peer: netip.MustParseAddrPort("10.61.8.11:5000"), data: m.Append(nil)}}, func(d datagram) { later = append(later, d) })
		if len(got) == 0 {
			return nil
		}
		r, err := pcp.ParseResponse(got[0].data)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	for range 3 {
		if got := ask(); got != nil {
			t.Fatalf("it is answered %+v", got)
		}
	}
	list := b.Waiting()
	if len(list) != 1 || list[0].Asker.String() != "10.61.8.11" || list[0].Port != 3000 {
		t.Fatalf("%+v", list)
	}
	if err := b.Settle(99, true, "ada"); !errors.Is(err, ErrNotWaiting) {
		t.Error(err)
	}
	if err := b.Settle(list[0].Number, true, "ada"); err != nil {
		t.Fatal(err)
	}
	if len(later) != 1 || len(b.force) != 1 || len(b.Waiting()) != 0 {
		t.Fatalf("%v %v", later, b.force)
	}
	if got, err := pcp.ParseResponse(later[0].data); err != nil || got.Result != pcp.Success || got.ExternalPort != 3000 {
		t.Errorf("it is told %+v, %v", got, err)
	}
	if got := ask(); got == nil || got.Result != pcp.Success {
		t.Errorf("renewed: %+v", got)
	}
	m.InternalPort = 3001
	ask()
	if err := b.Settle(b.Waiting()[0].Number, false, "ada"); err != nil {
		t.Fatal(err)
	}
	if got := ask(); got == nil || got.Result != pcp.NotAuthorized {
		t.Errorf("refused: %+v", got)
	}
	m.InternalPort = 3002
	ask()
	b.pass(patiences[network.PCP] + time.Second)
	if len(b.Waiting()) != 0 || len(later) != 3 {
		t.Errorf("nobody has decided: %v", later)
	}
}

// A client that asks without end is not answered without end, and costs no room without end.
func TestHostileClientsGetNowhere(t *testing.T) {
	b := newBench(t, shop)
	random := rand.New(rand.NewPCG(3, 3))
	answers := 0
	for n := range 3000 {
		m := pcp.Message{Opcode: pcp.Map, Client: netip.MustParseAddr("10.61.8.52"), Protocol: 17, InternalPort: uint16(1000 + n), Lifetime: 600}
		if b.ask("10.61.8.52", m.Append(nil)) != nil {
			answers++
		}
	}
	if answers != asksAtOnce || len(b.table.numbers) > 6 {
		t.Errorf("%d answers, %d mappings", answers, len(b.table.numbers))
	}
	b.wantPCP("others are served", b.mapping("10.61.8.53", header.UDP, 2000, 0, 600, nil), pcp.Success, 20006, 600)
	for range 20000 { // garbage from as many clients
		data := make([]byte, random.IntN(80))
		for i := range data {
			data[i] = byte(random.Uint32() >> random.IntN(32))
		}
		if len(data) > 1 {
			data[0] = byte(random.IntN(3))
		}
		b.ask(fmt.Sprintf("10.61.8.%d", 61+random.IntN(150)), data)
	}
	if len(b.table.numbers) > 7 || len(b.waiting) > 0 {
		t.Errorf("%d mappings, %d wait", len(b.table.numbers), len(b.waiting))
	}
	for n := range 500 { // wishes that wait
		m := pcp.Message{Opcode: pcp.Map, Client: netip.MustParseAddr("10.61.8.11"), Protocol: 17, InternalPort: uint16(1000 + n), Lifetime: 600}
		b.pass(20 * time.Millisecond)
		b.ask("10.61.8.11", m.Append(nil))
	}
	if len(b.Waiting()) != mostWaitingOf {
		t.Errorf("%d wait", len(b.Waiting()))
	}
}

// plain is what a server does, as a list that is looked through from its beginning.
type plain struct {
	b    *bench
	list []plainMapping
}

type plainMapping struct {
	by       string
	machine  string
	protocol header.Protocol
	port     uint16
	outside  uint16
	nonce    byte
	until    time.Time
}

// ask returns the outside port, 0 where it is refused, and the lifetime in seconds.
func (p *plain) ask(by, machine string, protocol header.Protocol, port, wished uint16, exact bool, seconds int, nonce byte) (outside uint16, lifetime int, ok bool) {
	lifetime = min(max(seconds, 120), 3600)
	if by == network.NATPMP {
		lifetime, nonce = min(seconds, 3600), 0
	}
	until := p.b.at.Add(time.Duration(lifetime) * time.Second)
	p.list = slices.DeleteFunc(p.list, func(m plainMapping) bool { return !m.until.After(p.b.at) })
	own, companion := 0, uint16(0)
	for i := range p.list {
		m := &p.list[i]
		if m.machine != machine {
			continue
		}
		own++
		if m.protocol != protocol && m.port == port {
			companion = m.outside
		}
		if m.protocol != protocol || m.port != port {
			continue
		}
		switch {
		case m.by == network.PCP && (by != network.PCP || m.nonce != nonce), exact && wished != 0 && wished != m.outside:
			return 0, 0, false
		}
		m.by, m.nonce, m.until = by, nonce, until
		return m.outside, lifetime, true
	}
	free := func(outside uint16) bool {
		if outside < 20000 || outside > 20019 || protocol == header.TCP && slices.Contains([]uint16{20005, 20006, 20007}, outside) || p.b.taken[outside] {
			return false
		}
		return !slices.ContainsFunc(p.list, func(m plainMapping) bool {
			return m.outside == outside && (m.machine != machine || m.protocol == protocol)
		})
	}
	switch {
	case exact && wished != 0 && !free(wished):
		return 0, 0, false
	case wished != 0 && free(wished):
		outside = wished
	case companion != 0 && free(companion):
		outside = companion
	case free(port):
		outside = port
	default:
		from := int(wished)
		if from == 0 {
			from = int(port)
		}
		if from < 20000 || from > 20019 {
			from = 20000
		}
		for n := range 20 {
			next := uint16(20000 + (from-20000+n)%20)
			others := slices.ContainsFunc(p.list, func(m plainMapping) bool { return m.outside == next })
			if free(next) && !others {
				outside = next
				break
			}
		}
	}
	if outside == 0 || own >= 6 || len(p.list) >= 30 {
		return 0, 0, false
	}
	p.list = append(p.list, plainMapping{by, machine, protocol, port, outside, nonce, until})
	return outside, lifetime, true
}

func (p *plain) remove(by, machine string, protocol header.Protocol, port uint16, nonce byte) {
	p.list = slices.DeleteFunc(p.list, func(m plainMapping) bool {
		return m.machine == machine && m.protocol == protocol && (port == 0 || m.port == port) && m.by == by && (by == network.NATPMP || m.nonce == nonce)
	})
}

// Thousands of requests, by both protocols, are answered as a plain list says, while time goes on.
func TestTheTableIsAPlainList(t *testing.T) {
	for seed := range uint64(30) {
		random := rand.New(rand.NewPCG(seed, 8))
		b := newBench(t, shop)
		p := &plain{b: b}
		for range random.IntN(6) {
			b.taken[uint16(20000+random.IntN(20))] = true
		}
		for n := range 400 {
			machine := fmt.Sprintf("10.61.8.%d", 51+random.IntN(5))
			protocol := []header.Protocol{header.TCP, header.UDP}[random.IntN(2)]
			port, wished := uint16(20000+random.IntN(25)), uint16(0)
			if random.IntN(3) > 0 {
				wished = uint16(19998 + random.IntN(25))
			}
			seconds, nonce, exact := []int{1, 100, 600, 4000}[random.IntN(4)], byte(1+random.IntN(8)/7), random.IntN(5) == 0
			var gotPort uint16
			var gotLifetime int
			ok := false
			if random.IntN(6) == 0 {
				if random.IntN(4) == 0 {
					port = 0
				}
				if random.IntN(2) == 0 {
					b.mapping(machine, protocol, port, 0, 0, func(m *pcp.Message) { m.Nonce = pcp.Nonce{nonce} })
					p.remove(network.PCP, machine, protocol, port, nonce)
				} else {
					r := natpmp.Request{Opcode: map[header.Protocol]natpmp.Opcode{header.UDP: natpmp.MapUDP, header.TCP: natpmp.MapTCP}[protocol], Port: port}
					b.ask(machine, r.Append(nil))
					p.remove(network.NATPMP, machine, protocol, port, 0)
				}
			} else if random.IntN(2) == 0 {
				got := b.mapping(machine, protocol, port, wished, uint32(seconds), func(m *pcp.Message) { m.Nonce, m.PreferFailure = pcp.Nonce{nonce}, exact })
				gotPort, gotLifetime, ok = got.ExternalPort, int(got.Lifetime), got.Result == pcp.Success
				wantPort, wantLifetime, wantOK := p.ask(network.PCP, machine, protocol, port, wished, exact, seconds, nonce)
				if ok != wantOK || ok && (gotPort != wantPort || gotLifetime != wantLifetime) {
					t.Fatalf("seed %d, %d: PCP %s %s/%d as %d: %v %d for %d s, not %v %d for %d", seed, n, machine, protocol, port, wished, got.Result, gotPort, gotLifetime, wantOK, wantPort, wantLifetime)
				}
			} else {
				r := natpmp.Request{Opcode: map[header.Protocol]natpmp.Opcode{header.UDP: natpmp.MapUDP, header.TCP: natpmp.MapTCP}[protocol], Port: port, Wished: wished, Lifetime: uint32(seconds)}
				got, err := natpmp.ParseResponse(b.ask(machine, r.Append(nil)))
				if err != nil {
					t.Fatal(err)
				}
				wantPort, wantLifetime, wantOK := p.ask(network.NATPMP, machine, protocol, port, wished, false, seconds, 0)
				if ok = got.Result == natpmp.Success; ok != wantOK || ok && (got.Mapped != wantPort || int(got.Lifetime) != wantLifetime) {
					t.Fatalf("seed %d, %d: NAT-PMP %s %s/%d as %d: %+v, not %v %d for %d", seed, n, machine, protocol, port, wished, got, wantOK, wantPort, wantLifetime)
				}
			}
			b.pass(time.Duration(1+random.IntN(1<<random.IntN(9))) * time.Second)
			p.list = slices.DeleteFunc(p.list, func(m plainMapping) bool { return !m.until.After(b.at) })
			if len(p.list) != len(b.force) || len(p.list) != len(b.kept) {
				t.Fatalf("seed %d, %d: %d mappings, %d in force, %d kept", seed, n, len(p.list), len(b.force), len(b.kept))
			}
		}
	}
}

// A machine has one share, whatever addresses it takes; those that nobody saw before have a part of the room together; and a link address that is
// not known yet is waited for.
func TestRoomIsSharedByMachines(t *testing.T) {
	b := newBench(t, strings.Replace(shop, "shortest: 2m, lifetime: 1h, at-most: 6", "lifetime: 1h, at-most: 3", 1))
	links := map[string]string{}
	b.options.Host = func(a netip.Addr) string {
		if a == netip.MustParseAddr("fd61:8::52") {
			return "spectro"
		}
		return ""
	}
	b.options.Link = func(_ *network.Interface, a netip.Addr) string { return links[a.String()] }
	grants := func(from string, port uint16) bool {
		t.Helper()
		return b.mapping(from, header.TCP, port, 0, 600, nil).Result == pcp.Success
	}
	wish := (&pcp.Message{Opcode: pcp.Map, Client: netip.MustParseAddr("10.61.8.41"), Protocol: 6, InternalPort: 2000, Lifetime: 600}).Append(nil)
	later := make(chan datagram, 1)
	if got := b.answer([]datagram{{peer: netip.MustParseAddrPort("10.61.8.41:5000"), data: wish}}, func(d datagram) { later <- d }); len(got) > 0 {
		t.Error("it is answered before its link address is looked for")
	}
	select {
	case <-later:
	case <-time.After(5 * time.Second):
		t.Fatal("it is never answered")
	}
	for i := range 20 { // one machine
		links[fmt.Sprint("10.61.8.", 42+i)], links[fmt.Sprintf("fd61:8::%d", i)] = "02:00:00:00:00:01", "02:00:00:00:00:01"
	}
	b.seen["02:00:00:00:00:01"] = time.Time{}
	if !grants("10.61.8.42", 2000) || !grants("10.61.8.43", 2000) || !grants("fd61:8::1", 5000) || grants("10.61.8.44", 2000) {
		t.Error("one machine has not three")
	}
	granted := 0
	for i := range 20 { // many that are made up
		links[fmt.Sprintf("fd61:8::a%d", i)] = fmt.Sprintf("02:00:00:00:01:%02d", i)
		if grants(fmt.Sprintf("fd61:8::a%d", i), 5000) {
			granted++
		}
	}
	if want := (30 - 4) / newcomersPart; granted != want {
		t.Errorf("%d new machines were granted something, not %d", granted, want)
	}
	links["fd61:8::52"] = "02:00:00:00:00:52"
	if !grants("fd61:8::52", 5000) {
		t.Error("a host of the file is new, though its other address may be known")
	}
	b.seen["02:00:00:00:00:11"] = time.Time{}
	links["10.61.8.11"] = "02:00:00:00:00:11" // who is to be approved, and whose link address is forgotten meanwhile
	ask := (&pcp.Message{Opcode: pcp.Map, Client: netip.MustParseAddr("10.61.8.11"), Protocol: 6, InternalPort: 2000, Lifetime: 600}).Append(nil)
	b.answer([]datagram{{peer: netip.MustParseAddrPort("10.61.8.11:5000"), data: ask}}, func(d datagram) { later <- d })
	delete(links, "10.61.8.11")
	if err := b.Settle(b.Waiting()[0].Number, true, "ada"); err != nil {
		t.Error(err)
	}
	if got, err := pcp.ParseResponse((<-later).data); err != nil || got.Result != pcp.Success || got.ExternalPort == 0 {
		t.Errorf("approved: %+v, %v", got, err)
	}
	b.pass(25 * time.Hour)
	if !grants("fd61:8::a1", 5000) || b.table.fresh != 0 {
		t.Error("one that was seen a day ago is new")
	}
}

// A machine that is blocked loses what it has and gets nothing, by any of its addresses and until the time, also after a restart.
func TestABlockedMachineGetsNothing(t *testing.T) {
	b := newBench(t, shop)
	links := map[string]string{"10.61.8.52": "02:00:00:00:00:52", "fd61:8::5": "02:00:00:00:00:52", "10.61.8.53": "02:00:00:00:00:53"}
	b.options.Link = func(_ *network.Interface, a netip.Addr) string { return links[a.String()] }
	var kept []Blocked
	b.options.Block = func(list []Blocked) error { kept = list; return nil }
	asks := func(from string, want bool) {
		t.Helper()
		if got := b.mapping(from, header.TCP, 5000, 0, 600, nil).Result; got == pcp.Success != want {
			t.Errorf("%s: %s", from, got)
		}
	}
	asks("10.61.8.52", true)
	asks("fd61:8::5", true)
	if err := b.Block([]netip.Addr{netip.MustParseAddr("10.61.8.52")}, b.at.Add(time.Hour), "ada"); err != nil {
		t.Fatal(err)
	}
	if n := len(b.List()); n != 0 {
		t.Errorf("it has %d still", n)
	}
	asks("10.61.8.52", false)
	asks("fd61:8::5", false)
	asks("10.61.8.53", true)
	delete(links, "10.61.8.52") // and still it is that one
	b.Server.blocked["02:00:00:00:00:52"] = kept[0]
	if v := b.Try(Trial{By: network.PCP, Asker: netip.MustParseAddr("10.61.8.52"), Protocol: header.TCP, Port: 5000, Lifetime: time.Minute}); v.Granted || !strings.Contains(v.Why, "ada has blocked it until") {
		t.Errorf("%+v", v)
	}
	links["10.61.8.52"] = "02:00:00:00:00:52"
	b.pass(2 * time.Hour)
	asks("10.61.8.52", true)
	if len(b.Blocked()) != 0 {
		t.Error("it is listed when its time is over")
	}
	if err := b.Unblock([]netip.Addr{netip.MustParseAddr("10.61.8.52")}, "ada"); err != ErrNotBlocked {
		t.Error(err)
	}
}

// A server that stops opens no point again, though its interfaces' link-local addresses are others than those that it closed: it would wait
// for ever for whoever listens there.
func TestNothingListensAgainAfterTheEnd(t *testing.T) {
	b := newBench(t, shop)
	b.Stop()
	on := b.setting.policy.On[0].Name
	b.listeners.linkLocal[on] = []netip.Addr{netip.MustParseAddr("fe80::1")}
	b.refresh(b.at)
	if len(b.listeners.linkLocal[on]) != 1 {
		t.Error("it listens again")
	}
}
