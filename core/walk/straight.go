package walk

import (
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// Machines beside an uplink need no provider to reach a gateway: they hand it any packet, also one for an inside
// address. So can the next hop there, and with the addresses of the internet too, for which it forwards. What the
// internet sends to the gateway by that uplink anyway, and what stays on the segment, is not among it.

// A Straight way is what machines beside an uplink, or its next hop, can hand to the gateway there.
type Straight struct {
	From    network.Place    // Through is the uplink's interface
	Sources header.Addresses // of one family
	To      header.Addresses
	Blocked header.Addresses // what the provider sends there too, but for some services; of these it is asked as well
}

// StraightWays returns the straight ways to all gateways.
func (e *Engine) StraightWays() []Straight { return e.straight() }

// findStraight returns the straight ways to all gateways.
func (e *Engine) findStraight() (all []Straight) {
	for _, g := range e.gateways {
		for _, i := range g.Interfaces {
			if i.Upstream.NoBeside || !i.IsUp() {
				continue
			}
			enters := e.enteringBy(i)
			for _, family := range header.Families {
				if !i.FacesInternet(family) {
					continue
				}
				entering, own := enters.Intersect(family.All()), e.prefixesOf(i).Intersect(family.All())
				elsewhere := family.All().Minus(own)
				beside := Straight{From: network.Place{Segment: i.Segment, Through: i}, Sources: e.net.Beside(i).Intersect(family.All()), To: elsewhere.Minus(entering), Blocked: entering.Minus(own)}
				if i.Upstream.CarrierNAT && family == header.IPv4 {
					beside.To, beside.Blocked = elsewhere, header.Addresses{}
				}
				hop := Straight{From: network.Place{Internet: true, Through: i}, Sources: e.abroadSources().Intersect(family.All()), To: elsewhere.Minus(e.internet.Addresses).Minus(entering)}
				for _, s := range []Straight{beside, hop} {
					if !s.Sources.Empty() && !s.To.Empty() {
						all = append(all, s)
					}
				}
			}
		}
	}
	return all
}

// enteringBy returns the addresses that the internet sends to the network by an uplink.
func (e *Engine) enteringBy(i *network.Interface) header.Addresses {
	var ranges []header.Range
	for addresses, r := range e.entries.Stretches() {
		if r.Out == i {
			ranges = append(ranges, addresses)
		}
	}
	return header.AddressesOf(ranges...)
}

// abroadSources returns the addresses of machines on the internet that are beside no uplink.
func (e *Engine) abroadSources() (abroad header.Addresses) {
	for _, p := range e.places() {
		if p.Place == (network.Place{Internet: true}) {
			abroad = abroad.Union(p.Sources)
		}
	}
	return abroad
}
