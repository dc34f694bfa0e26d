package network

import (
	"crypto/sha256"
	"encoding/binary"
	"hash"
	"net/netip"
	"slices"

	"hollowbridge/core/header"
)

// A Digest stands for all that something says: what has the same one says the same.
type Digest [16]byte

// Digests are what a network is compared with an earlier one by, so that what did not change
// is not compiled again.
type Digests struct {
	Hosts    Digest // the hosts' addresses, in their order, and where each is
	Gateways []GatewayDigests
}

// GatewayDigests are those of one gateway.
type GatewayDigests struct {
	Interfaces  Digest   // what rules depend on besides themselves: interfaces, zones, addresses, the way to the internet
	NAT, Filter []Digest // of each rule, but for its name, note and place
}

// Seal computes the digests of a network that is to be followed by other revisions of it. A
// network that was not sealed is compiled as a whole.
func (n *Network) Seal() { n.Digests = n.DigestsOf() }

// DigestsOf returns the digests of a network, sealed or not.
func (n *Network) DigestsOf() *Digests {
	if n.Digests != nil {
		return n.Digests
	}
	d := digester{Hash: sha256.New(), sets: map[setKey]Digest{}}
	all := &Digests{}
	for _, h := range n.Hosts {
		d.number(len(h.Addresses))
		for i, a := range h.Addresses {
			d.address(a)
			d.number(slices.Index(n.Segments, h.locations[i].segment))
			if c := h.locations[i].clients; c != nil {
				d.number(c.Gateway.Index, c.Index)
			}
		}
	}
	all.Hosts = d.sum()
	for _, g := range n.Gateways {
		var digests GatewayDigests
		for _, i := range g.Interfaces {
			d.text(i.Zone)
			d.flag(i.internet[0], i.internet[1])
			d.number(len(i.Addresses), slices.Index(n.Segments, i.Segment))
			for _, p := range slices.Concat(i.Addresses, i.Upstream.Routes, i.Clients) {
				d.address(p.Addr())
				d.number(p.Bits())
			}
		}
		d.flag(g.Handling.SpecificFirst)
		digests.Interfaces = d.sum()
		for _, r := range g.NAT {
			digests.NAT = append(digests.NAT, d.nat(r))
		}
		for _, r := range g.Filter {
			d.rule(&r.Rule)
			d.text(string(r.Verb))
			d.expression(&r.From)
			d.expression(&r.To)
			d.services(r.Services)
			d.ports(r.SourcePorts...)
			d.flag(r.Redirected)
			digests.Filter = append(digests.Filter, d.sum())
		}
		all.Gateways = append(all.Gateways, digests)
	}
	return all
}

// A digester writes values one after the other; lists begin with their length.
type digester struct {
	hash.Hash
	sets   map[setKey]Digest // of sets, which never change, by where they are stored
	buffer []byte
}

type setKey struct {
	first *header.Range
	count int
}

// fewRanges is how many ranges are written out: a digest of them is no shorter.
const fewRanges = 3

func (d *digester) sum() Digest {
	d.Write(d.buffer)
	var whole [sha256.Size]byte
	sum := Digest(d.Sum(whole[:0])[:16])
	d.Reset()
	d.buffer = d.buffer[:0]
	return sum
}

func (d *digester) number(list ...int) {
	for _, n := range list {
		d.buffer = binary.AppendVarint(d.buffer, int64(n))
	}
}

func (d *digester) flag(list ...bool) {
	for _, f := range list {
		n := 0
		if f {
			n = 1
		}
		d.number(n)
	}
}

func (d *digester) text(s string) {
	d.number(len(s))
	d.buffer = append(d.buffer, s...)
}

func (d *digester) address(a netip.Addr) {
	if !a.IsValid() {
		d.number(0)
		return
	}
	d.number(a.BitLen())
	d.buffer = append(d.buffer, a.AsSlice()...)
}

func (d *digester) set(set header.Addresses) {
	ranges := set.Ranges()
	d.number(len(ranges))
	if len(ranges) == 0 {
		return
	}
	if len(ranges) <= fewRanges {
		for _, r := range ranges {
			d.address(r.First)
			d.address(r.Last)
		}
		return
	}
	key := setKey{&ranges[0], len(ranges)}
	known, ok := d.sets[key]
	if !ok {
		var bytes []byte
		for _, r := range ranges {
			bytes = append(append(bytes, r.First.AsSlice()...), r.Last.AsSlice()...)
		}
		sum := sha256.Sum256(bytes)
		known = Digest(sum[:16])
		d.sets[key] = known
	}
	d.buffer = append(d.buffer, known[:]...)
}

func (d *digester) expression(e *Expression) {
	if e == nil {
		d.number(-1)
		return
	}
	d.items(e.Items)
}

func (d *digester) items(list []Item) {
	d.number(len(list))
	for i := range list {
		d.text(list[i].Zone)
		d.flag(list[i].Whole)
		d.set(list[i].Set)
		d.items(list[i].List)
		d.expression(list[i].Except)
	}
}

func (d *digester) services(list header.Services) {
	d.number(len(list))
	for _, s := range list {
		d.number(int(s.Protocol))
		d.ports(s.Ports)
	}
}

func (d *digester) ports(list ...header.Ports) {
	d.number(len(list))
	for _, p := range list {
		d.number(int(p.First), int(p.Last))
	}
}

func (d *digester) rule(r *Rule) {
	d.text(r.Kind)
	d.flag(r.Off())
	h := r.Hours()
	d.flag(h.days[:]...)
	d.number(h.first, h.last, int(h.over))
	d.flag(h.always)
}

func (d *digester) nat(r *NATRule) Digest {
	d.rule(&r.Rule)
	d.number(len(r.On))
	for _, i := range r.On {
		d.number(i.Index)
	}
	d.expression(&r.From)
	d.expression(&r.To)
	d.set(r.At)
	d.flag(r.AtOwn, r.Hairpin, r.As.Interface)
	d.number(len(r.Ports))
	for _, m := range r.Ports {
		d.number(int(m.Protocol), int(m.ToFirst))
		d.ports(m.Ports)
	}
	for _, a := range []netip.Addr{r.Target.V4, r.Target.V6, r.Outside.First, r.Outside.Last, r.Inside.First, r.Inside.Last, r.Destination} {
		d.address(a)
	}
	d.services(r.Services)
	d.set(r.As.Set)
	d.ports(r.SourcePorts)
	d.number(int(r.DestPort))
	return d.sum()
}
