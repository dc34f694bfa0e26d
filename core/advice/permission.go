// Package advice says what a network probably lacks, and tries it.
package advice

import (
	"net/netip"
	"slices"
	"strings"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
)

// A Permission is the filter rule that a forward needs, in the words of the file.
type Permission struct {
	From, To, Service string
	Redirected        bool // only what the forward led there, where it has to be said
}

// PermissionFor returns the filter rule that lets through what the forward
// redirects, on the side of the translation that the gateway's filter sees.
func PermissionFor(g *network.Gateway, r *network.NATRule) Permission {
	p := Permission{From: r.From.Text, To: r.TargetIs, Redirected: !g.Handling.FilterSeesOriginal}
	if r.From.IsAny() {
		var zones []string
		for _, i := range r.On {
			if len(zones) == 0 || zones[len(zones)-1] != i.Zone {
				zones = append(zones, i.Zone)
			}
		}
		p.From = strings.Join(zones, ",")
	}
	if g.Handling.FilterSeesOriginal {
		p.To = r.AtText
		if r.AtOwn {
			var names []string
			for _, i := range r.On {
				names = append(names, i.String())
			}
			p.To = strings.Join(names, ",")
		}
	}
	changed := slices.ContainsFunc(r.Ports, func(m network.PortMap) bool { return m.ToFirst != m.Ports.First })
	if g.Handling.FilterSeesOriginal || !changed {
		p.Service = strings.ReplaceAll(r.Service, ", ", ",")
		return p
	}
	var services []string
	for _, m := range r.Ports {
		ports := header.Ports{First: m.ToFirst, Last: m.ToFirst + (m.Ports.Last - m.Ports.First)}
		services = append(services, header.Service{Protocol: m.Protocol, Ports: ports}.String())
	}
	p.Service = strings.Join(services, ",")
	return p
}

// PermitFor is the filter rule that a forward needs for some of its ports, where connections through it were stopped by its gateway's filter.
func PermitFor(r *network.NATRule, ports []network.PortMap, stopped []*words.Trace) network.Edit {
	some := *r
	if len(ports) < len(r.Ports) || !slices.Equal(ports, r.Ports) {
		some.Ports, some.Service = ports, portMapsText(ports)
	}
	e := allowEdit(filterNames(r.Gateway), r.Gateway, r.Name, PermissionFor(r.Gateway, &some))
	e.Settings = append(e.Settings, ofForward(r)...)
	first := 0
	for _, t := range stopped {
		if t.Rule != nil && (first == 0 || t.Rule.Number < first) {
			e.Before, first = t.Rule.Name, t.Rule.Number
		}
	}
	return e
}

// ofForward are the settings that the filter rule of a forward has from it: whose it is, why, and when it is over.
func ofForward(r *network.NATRule) (list []network.Setting) {
	for _, s := range []network.Setting{{Key: "owner", Value: r.Owner}, {Key: "until", Value: string(r.Until)}, {Key: network.KeyNote, Value: r.Note}} {
		if s.Value != "" {
			list = append(list, s)
		}
	}
	return list
}

// portMapsText writes what outsiders connect to.
func portMapsText(maps []network.PortMap) string {
	texts := make([]string, len(maps))
	for i, m := range maps {
		texts[i] = header.Service{Protocol: m.Protocol, Ports: m.Ports}.String()
	}
	return strings.Join(texts, ",")
}

// Sample returns a connection that a forward is meant for: from the first address
// that may use it, to the first address and port it listens on. It returns false
// where there is none.
func Sample(e *walk.Engine, r *network.NATRule, at network.Moment) (walk.Connection, bool) {
	m := network.PortMap{Protocol: header.TCP}
	if len(r.Ports) > 0 {
		m = r.Ports[0]
	}
	return SampleOf(e, r, m, at)
}

// SampleOf is Sample of one of the ranges of ports that the forward has.
func SampleOf(e *walk.Engine, r *network.NATRule, m network.PortMap, at network.Moment) (walk.Connection, bool) {
	for _, family := range header.Families {
		c := walk.Connection{Moment: at}
		to, ok := outsideAddress(e, r, family)
		if !ok {
			continue
		}
		if c.Packet.Source, ok = client(e, r, family); !ok {
			continue
		}
		c.Packet.Destination, c.Packet.Protocol, c.Packet.DestinationPort = to, m.Protocol, m.Ports.First
		if c.Packet.Protocol.Numbered() {
			c.Packet.SourcePort = header.UsualSourcePort
		}
		c.From = e.Behind(r.On[0], c.Packet.Source)
		return c, true
	}
	return walk.Connection{}, false
}

func outsideAddress(e *walk.Engine, r *network.NATRule, family header.Family) (netip.Addr, bool) {
	if len(r.On) == 0 {
		return netip.Addr{}, false
	}
	if _, ok := r.Target.Families().FirstOf(family); !ok {
		return netip.Addr{}, false
	}
	if r.AtOwn {
		return r.On[0].Address(family)
	}
	if a, ok := e.Stranger(family); ok && r.At.Contains(a) { // it is for anything
		return a, true
	}
	return r.At.FirstOf(family)
}

// client returns an address that may use the forward, where it arrives.
func client(e *walk.Engine, r *network.NATRule, family header.Family) (netip.Addr, bool) {
	in := r.On[0]
	from := r.From.In(in.Zone)
	if in.FacesInternet(family) {
		if a, ok := e.Stranger(family); ok && from.Contains(a) {
			return a, true
		}
		return from.Intersect(e.Network().Internet()).FirstOf(family)
	}
	var own []header.Range
	for _, p := range in.Addresses {
		own = append(own, header.Range{First: p.Addr(), Last: p.Addr()}, header.Range{First: p.Masked().Addr(), Last: p.Masked().Addr()})
	}
	return from.Intersect(header.AddressesOfPrefixes(in.Addresses...)).Minus(header.AddressesOf(own...)).FirstOf(family)
}
