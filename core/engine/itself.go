package engine

import (
	"slices"
	"strings"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// itself is the fourth step: the destination is the gateway's own address, so the
// gateway answers what it serves on the interface, and everything else ends here.
func (w *Walk) itself(g *gateway, in *network.Interface, before header.Packet, p *header.Packet) position {
	if w.back {
		w.end(Unanswered, g.Name, StepItself, nil)
		if w.trace != nil {
			w.why("The answer comes to %s itself, which has no session for it.", g.Name)
		}
		return position{}
	}
	if g.own.of(p.Destination) != nil {
		for i := range g.Serves {
			s := &g.Serves[i]
			if slices.Contains(s.On, in) && w.matches(s.Services, p) {
				if w.trace != nil {
					w.note(g.Name, StepItself, "serves", "", s.Name+", itself")
				}
				w.keep(session{gateway: g, in: in, before: before, after: *p, local: true})
				w.verdict.Outcome, w.verdict.At, w.verdict.Host = Reached, g.Name, g.Name
				return position{kind: answeredByGateway, gateway: g}
			}
		}
	}
	w.end(Itself, g.Name, StepItself, nil)
	if w.trace != nil {
		w.note(g.Name, StepItself, "itself", "", "for "+g.Name+" itself: nothing redirects it")
		w.why("No NAT rule matched, so nothing was redirected and nothing left by another interface: the packet was for %s itself.", g.Name)
		if g.own.of(p.Destination) != nil {
			w.why("%s", g.servesText(in, p))
		} else {
			w.why("%s is only the outside address of a rule: %s itself serves nothing there.", p.Destination, g.Name)
		}
	}
	return position{}
}

// servesText says what the gateway answers on the interface.
func (g *gateway) servesText(in *network.Interface, p *header.Packet) string {
	var names, elsewhere []string
	for _, s := range g.Serves {
		switch {
		case slices.Contains(s.On, in):
			names = append(names, s.Name)
		case s.Services.Matches(p.Protocol, p.DestinationPort):
			for _, i := range s.On {
				elsewhere = append(elsewhere, i.Name)
			}
		}
	}
	text := g.Name + " serves nothing on " + in.Name
	if len(names) > 0 {
		text = g.Name + " serves only " + strings.Join(names, ", ") + " on " + in.Name
	}
	if len(elsewhere) > 0 {
		text += "; it answers this service on " + strings.Join(elsewhere, ", ") + " only"
	}
	return text + "."
}
