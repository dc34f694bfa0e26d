package cli

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"hollowbridge/core/network"
)

// A picture draws the network as a tree: the internet, the gateways at its edge,
// their segments with hosts, and the gateways behind those.
type picture struct {
	*call
	widths   [2]int // of the hosts' names and addresses
	net      *network.Network
	gateways map[*network.Gateway]bool // drawn already
	segments map[*network.Segment]bool
}

func (c *call) showMap(n *network.Network) {
	p := picture{c, hostWidths(n), n, map[*network.Gateway]bool{}, map[*network.Segment]bool{}}
	fmt.Fprintln(c.Out)
	edge := func(g *network.Gateway) bool { return slices.ContainsFunc(g.Interfaces, facesInternet) }
	if slices.ContainsFunc(n.Gateways, edge) {
		p.line("", c.bold("the internet"))
		for _, h := range n.Hosts {
			if h.IsAbroad() {
				p.line("│    ", p.hostText(h))
			}
		}
	}
	for _, g := range n.Gateways {
		if !edge(g) || p.gateways[g] {
			continue
		}
		p.line("│", "")
		for _, i := range g.Interfaces {
			if facesInternet(i) {
				p.segment("├─ ", "│  ", i, false)
			}
		}
		p.gateway("", g, nil)
	}
	for _, g := range n.Gateways {
		if !p.gateways[g] {
			p.line("", "")
			p.gateway("", g, nil)
		}
	}
}

func facesInternet(i *network.Interface) bool {
	return i.IsUplink()
}

// line writes a line, cut to the screen.
func (p picture) line(indent, text string) {
	line := []rune(strings.TrimRight(indent+text, " "))
	if len(line) > p.Width && !strings.ContainsAny(text, colors) {
		line = append(line[:p.Width-3], []rune("...")...)
	}
	fmt.Fprintln(p.Out, string(line))
}

// gateway draws a gateway and below it what is behind its interfaces, apart from
// the one it is drawn below and its uplinks.
func (p picture) gateway(indent string, g *network.Gateway, from *network.Interface) {
	p.gateways[g] = true
	if from == nil {
		p.line(indent, p.bold(g.Name))
	}
	var below []*network.Interface
	for _, i := range g.Interfaces {
		if i != from && !facesInternet(i) && len(i.Addresses) > 0 {
			below = append(below, i)
		}
	}
	for n, i := range below {
		branch, trunk := "├─ ", "│  "
		if n == len(below)-1 {
			branch, trunk = "└─ ", "   "
		}
		p.segment(indent+branch, indent+trunk, i, true)
	}
}

// segment draws an interface, the hosts on its segment, and the gateways there.
func (p picture) segment(branch, trunk string, i *network.Interface, follow bool) {
	text := fmt.Sprintf("%s  %s  %s", i.Name, joinPrefixes(i.Addresses), i.Zone)
	if notes := mapNotes(i); notes != "" {
		text += ", " + notes
	}
	if p.segments[i.Segment] {
		p.line(branch, text+", the segment drawn above")
		return
	}
	p.segments[i.Segment] = true
	p.line(branch, text)
	if len(i.Clients) > 0 {
		p.line(trunk+"  ", "VPN clients  "+joinPrefixes(i.Clients))
		for _, h := range p.net.Hosts {
			if h.Clients(h.Addresses[0]) == i {
				p.line(trunk+"  ", p.hostText(h))
			}
		}
	}
	p.hostsOn(trunk+"  ", i.Segment)
	for _, s := range p.net.Segments {
		if s.Behind != nil && s.Behind.Segment == i.Segment {
			p.line(trunk+"  ", fmt.Sprintf("behind %s  %s", s.Router, joinPrefixes(s.Prefixes)))
			p.hostsOn(trunk+"    ", s)
		}
	}
	if !follow {
		return
	}
	for _, other := range i.Segment.Interfaces {
		if other != i && !p.gateways[other.Gateway] {
			p.line(trunk+"  ", p.bold(other.Gateway.Name)+"  by "+other.Name+"  "+joinPrefixes(other.Addresses))
			p.gateway(trunk+"  ", other.Gateway, other)
		}
	}
}

// hostsOn draws the hosts on a segment.
func (p picture) hostsOn(indent string, s *network.Segment) {
	for _, h := range p.net.Hosts {
		if slices.ContainsFunc(h.Addresses, func(a netip.Addr) bool { return h.Segment(a) == s }) {
			p.line(indent, p.hostText(h))
		}
	}
}

func mapNotes(i *network.Interface) string {
	var notes []string
	if !i.IsUp() {
		notes = append(notes, "DOWN")
	}
	if i.Upstream.CarrierNAT {
		notes = append(notes, "behind a carrier's NAT")
	}
	if i.Trunk != nil {
		notes = append(notes, vlanText(i))
	}
	return strings.Join(notes, ", ")
}

func hostWidths(n *network.Network) [2]int {
	var widths [2]int
	for _, h := range n.Hosts {
		widths[0], widths[1] = max(widths[0], len(h.Name)), max(widths[1], len(joinAddresses(h.Addresses)))
	}
	return [2]int{min(widths[0], 24), min(widths[1], 40)}
}

func (p picture) hostText(h *network.Host) string {
	var serves []string
	for _, s := range h.Serves {
		serves = append(serves, s.Text)
	}
	return strings.TrimRight(fmt.Sprintf("%-*s  %-*s  %s", p.widths[0], h.Name, p.widths[1], joinAddresses(h.Addresses), strings.Join(serves, ", ")), " ")
}
