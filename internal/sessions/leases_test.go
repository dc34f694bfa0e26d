package sessions

import (
	"math/rand/v2"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/netfile/netfiletest"
)

const remapped = `network: remapped
gateways:
  rim:
    interfaces:
      fibre: {address: 198.51.100.2/29, zone: outside}
      yard: {address: 10.0.0.1/8, zone: yard}
    routes: [{to: default, via: 198.51.100.1}]
    handling: {mapping: endpoint-independent}
    nat: [{source-nat: out, on: fibre, as: 198.51.100.2-198.51.100.5, ports: 2000-2999}]
    filter: [{allow: all}]
`

// Sessions have their ports as the revision maps that came last, and when all have ended nobody has a
// port, however many goroutines opened and ended them while revisions mapped now so and now otherwise.
func TestNoPortIsLeftBehind(t *testing.T) {
	var revisions []*engine.Gateway
	for _, mapping := range []string{"endpoint-independent", "address-dependent", "address-and-port-dependent"} {
		n := netfiletest.Parse(t, strings.Replace(remapped, "endpoint-independent", mapping, 1))
		revisions = append(revisions, walk.Compile(n, nil).Gateway(n.Gateways[0]))
	}
	store := New(revisions[0].Gateway, func() time.Duration { return 0 })
	running := Start(revisions[0], store)
	held := netip.MustParseAddrPort("198.51.100.3:2500")
	store.Open(network.NewMapping(revisions[0].Interfaces[0], header.TCP, held, netip.MustParseAddrPort("10.0.0.9:80"), nil, network.PCP, netip.Addr{}))

	var workers, swaps sync.WaitGroup
	stop := make(chan struct{})
	for w := range uint64(4) {
		workers.Go(func() {
			random := rand.New(rand.NewPCG(w, 61))
			var log engine.Log
			for range netfiletest.Few(4000, 1500) {
				running.Decide(&engine.Arrival{In: running.Gateway().Interfaces[1], Packet: header.Packet{
					Source: netip.AddrFrom4([4]byte{10, 1, byte(random.IntN(3)), byte(random.IntN(250))}), SourcePort: uint16(2000 + random.IntN(4)),
					Destination: netip.AddrFrom4([4]byte{203, 0, 113, byte(random.IntN(4))}), DestinationPort: uint16(80 + random.IntN(2)), Protocol: header.TCP,
				}, Part: header.Begins}, &log)
				if random.IntN(200) == 0 {
					store.Remove(func(s engine.Session) bool { return s.Before.Source.As4()[3]%3 == 0 })
				}
			}
		})
	}
	swaps.Go(func() {
		for i := 1; ; i++ {
			select {
			case <-stop:
				return
			default:
				running.Swap(revisions[i%len(revisions)])
			}
		}
	})
	workers.Wait()
	close(stop)
	swaps.Wait()
	if store.Count() == 0 {
		t.Error("no sessions")
	}
	names := store.gateway.Load()
	for i := range store.four.sessions {
		bound, _ := store.four.sessions[i].those(func(*entry[four]) bool { return true })
		for k := range bound {
			if !store.four.isBound(names, &bound[k].pair, bound[k].ticket) {
				t.Fatalf("session %d has not its port as the last revision maps", bound[k].serial)
			}
		}
	}
	store.Remove(func(engine.Session) bool { return true })
	store.Shut(header.TCP, held)
	for i := range store.four.leases {
		store.four.leases[i].waiting = nil
		for n := range store.four.leases[i].uses.size {
			if u := store.four.leases[i].uses.at(n); u.sessions > 0 || u.held > 0 {
				t.Errorf("%+v", *u)
			} else if u.leased > 0 { // for a connection that came to nothing
				u.leased = 0
				store.four.end(&store.four.leases[i], n)
			}
		}
		if left := store.four.leases[i].table.count; left > 0 {
			t.Errorf("%d uses are found", left)
		}
	}
	for i := range store.four.groups {
		if left := store.four.groups[i].table.count; left > 0 {
			t.Errorf("%d groups are found", left)
		}
	}
}

// A mapping that was opened while a revision came has its port once, and gives it back.
func TestMappingsAreHeldOnce(t *testing.T) {
	n := netfiletest.Parse(t, remapped)
	store := New(n.Gateways[0], func() time.Duration { return 0 })
	at := netip.MustParseAddrPort("198.51.100.3:2500")
	store.Open(network.NewMapping(n.Gateways[0].Interfaces[0], header.TCP, at, netip.MustParseAddrPort("10.0.0.9:80"), nil, network.PCP, netip.Addr{}))
	store.holdAll(store.gateway.Load()) // as Use does behind it
	if !store.IsTaken(header.TCP, at) {
		t.Error("the mapping does not have its port")
	}
	if store.Shut(header.TCP, at); store.IsTaken(header.TCP, at) {
		t.Error("the port is left behind")
	}
}

// The position of the nth address of a set is n, in both families, and nothing else has one.
func TestPositionsAreOfTheNth(t *testing.T) {
	for seed := range netfiletest.Few(uint64(300), 60) {
		comparePositions[four](t, seed, netip.MustParseAddr("198.51.100.0"))
		comparePositions[six](t, seed, netip.MustParseAddr("2001:db8::ffff:ffff:ffff:ff80"))
	}
}

func comparePositions[A address](t *testing.T, seed uint64, base netip.Addr) {
	random := rand.New(rand.NewPCG(seed, 67))
	var set header.Addresses
	var plain []netip.Addr
	behind := make([]netip.Addr, 500) // the base
	for i := range behind {
		if behind[i] = base; i > 0 {
			behind[i] = behind[i-1].Next()
		}
	}
	for at := 1 + random.IntN(9); at < 400; at += 2 + random.IntN(9) {
		first := at
		at += random.IntN(60)
		set = set.Union(header.AddressesOf(header.Range{First: behind[first], Last: behind[at]}))
		plain = append(plain, behind[first:at+1]...)
	}
	for n, a := range plain {
		was, ok := nth[A](set, n)
		if got, has := position(set, a); addrOf(was) != a || !ok || got != n || !has {
			t.Fatalf("seed %d: address %d of %v is %v, and %v is %d", seed, n, set, addrOf(was), a, got)
		}
	}
	_, has := position(set, base)
	if _, ok := nth[A](set, len(plain)); ok || has {
		t.Fatalf("seed %d: %v has more than %d addresses", seed, set, len(plain))
	}
}

// What is decided by the revision before, while another takes its place, is of the interface of that name.
func TestInterfacesAreKnownAcrossARevision(t *testing.T) {
	old := netfiletest.Parse(t, remapped).Gateways[0]
	store := New(old, func() time.Duration { return 0 })
	next := netfiletest.Parse(t, strings.Replace(remapped, "      fibre:", "      spare: {address: 192.0.2.1/24, zone: spare}\n      fibre:", 1)).Gateways[0]
	store.Use(next)
	names := store.gateway.Load()
	for _, i := range old.Interfaces {
		if got := names.at(names.number(i)); got != next.Interface(i.Name) || got == nil {
			t.Errorf("%s is %v", i.Name, got)
		}
	}
	gone := netfiletest.Parse(t, strings.Replace(remapped, "      yard:", "      lane:", 1)).Gateways[0]
	store.Use(gone)
	if got := store.gateway.Load().number(old.Interface("yard")); got != -1 {
		t.Errorf("an interface that is no more has number %d", got)
	}
}
