package flow

import (
	"math/rand/v2"
	"net/netip"
	"testing"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// randomCondition returns a condition for few addresses and ports.
func randomCondition(random *rand.Rand) table.Condition {
	some := func() table.Matcher {
		a, b := randomAddress(random), randomAddress(random)
		if b.Less(a) {
			a, b = b, a
		}
		if random.IntN(4) == 0 || a.BitLen() != b.BitLen() {
			return table.MatcherOf(header.AllAddresses())
		}
		return table.MatcherOf(header.AddressesOf(header.Range{First: a, Last: b}))
	}
	ports := func() header.Ports {
		first := uint16(1 + random.IntN(60))
		return header.Ports{First: first, Last: first + uint16(random.IntN(20))}
	}
	c := table.Condition{Rule: &network.Rule{Disabled: random.IntN(20) == 0}, From: some(), To: some()}
	for range random.IntN(3) {
		c.Services = append(c.Services, header.Service{Protocol: []header.Protocol{header.TCP, header.UDP}[random.IntN(2)], Ports: ports()})
	}
	if random.IntN(3) == 0 {
		c.SourcePorts = []header.Ports{ports(), ports()}
	}
	return c
}

func randomAddress(random *rand.Rand) netip.Addr {
	if random.IntN(4) == 0 {
		return netip.AddrFrom16([16]byte{0: byte(random.IntN(2)), 15: byte(random.IntN(64))})
	}
	return netip.AddrFrom4([4]byte{10, 0, byte(random.IntN(2)), byte(random.IntN(64))})
}

func randomPacket(random *rand.Rand) header.Packet {
	p := header.Packet{Source: randomAddress(random), Destination: randomAddress(random), Protocol: header.Protocols()[random.IntN(len(header.Protocols()))]}
	if p.Protocol.HasPorts() {
		p.SourcePort, p.DestinationPort = uint16(1+random.IntN(80)), uint16(1+random.IntN(80))
	}
	return p
}

// A packet meets a condition just where it is in its set; turned, where its answer is.
func TestAConditionIsTheSameForAPacketAndForASet(t *testing.T) {
	met := 0
	for seed := range uint64(2000) {
		random := rand.New(rand.NewPCG(seed, 10))
		c := randomCondition(random)
		x := NewViews(flowset.NewSpace(1<<20, 1), network.Times{}, nil)
		in := table.Scope{}
		set, turned := x.SetOf(&c, 1, View{In: in}), x.SetOf(&c, 1, View{In: in, Turned: true})
		for range 50 {
			p := randomPacket(random)
			q := table.NewQuery(&p, in)
			meets := c.Meets(&q, table.AllAspects)
			if meets {
				met++
			}
			if meets != x.Space.Contains(set, flowset.Member{Packet: p}) {
				t.Fatalf("seed %d: %v: meets %v, in the set %v", seed, p, meets, x.Space.Contains(set, flowset.Member{Packet: p}))
			}
			p.Source, p.Destination, p.SourcePort, p.DestinationPort = p.Destination, p.Source, p.DestinationPort, p.SourcePort
			if meets != x.Space.Contains(turned, flowset.Member{Packet: p}) {
				t.Fatalf("seed %d: %v turned: meets %v", seed, p, meets)
			}
		}
	}
	if met < 1000 {
		t.Fatalf("only %d packets met their condition", met)
	}
}
