package engine

import (
	"strings"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// awaited reports whether a packet that comes to a machine answers an earlier
// connection of its own.
func (w *Walk) awaited(at Place, p *header.Packet) bool {
	if w.back || hasBeginning(p.Protocol) {
		return false
	}
	for i := range w.calls {
		if c := &w.calls[i]; c.from.same(at) && c.packet.Answer() == *p {
			return true
		}
	}
	return false
}

// atHost asks the machine a packet was delivered to: its firewall, its relays,
// whether it serves that port. It returns whether the machine takes the connection, and
// the packet that a relay then sends on to another machine, if it does.
func (w *Walk) atHost(at Place, p header.Packet) (next *header.Packet, taken bool) {
	name := at.Name()
	w.verdict.Outcome, w.verdict.At, w.verdict.Host, w.verdict.Delivered = Reached, name, name, p
	h := at.Host
	if w.awaited(at, &p) {
		if w.trace != nil {
			w.note(at.Name(), StepHost, "takes", "", "the answer it waits for")
		}
		w.settled = true
		return nil, true
	}
	if h == nil {
		if w.trace != nil {
			w.note(at.Name(), StepHost, "takes it", "", "what is there is outside this network")
		}
		return nil, true
	}
	if !w.hostPermits(h, &p) {
		return nil, false
	}
	for range mostRelays {
		r := w.relayFor(h, &p)
		if r == nil {
			w.verdict.Delivered = p
			w.region.deliver()
			return nil, w.hostServes(h, &p)
		}
		before := p
		p.Destination = r.To
		w.region.becomes(flowset.Destination, p.Destination)
		if r.ToPort != 0 {
			p.DestinationPort = r.ToPort
			w.region.becomesPort(flowset.Port, p.DestinationPort)
		}
		if w.trace != nil {
			w.note(h.Name, StepHost, "relays", "", before.To()+" -> "+p.To())
		}
		if !r.To.IsLoopback() && !h.Has(r.To) {
			return w.handOn(h, p)
		}
	}
	w.end(Loop, h.Name, StepHost, nil)
	if w.trace != nil {
		w.why("The relays of %s hand the connection to each other without end.", h.Name)
	}
	return nil, false
}

// handOn begins the connection that a relay makes to another machine, from the
// host's own address.
func (w *Walk) handOn(h *network.Host, p header.Packet) (*header.Packet, bool) {
	from, has := h.AddressOf(header.FamilyOf(p.Destination))
	if !has {
		w.end(Unrouted, h.Name, StepHost, nil)
		if w.trace != nil {
			w.why("%s has no %s address to hand it on from.", h.Name, header.FamilyOf(p.Destination))
		}
		return nil, false
	}
	p.Source = from
	w.region.becomes(flowset.Source, from)
	w.relayed = p
	return &w.relayed, true
}

func (w *Walk) relayFor(h *network.Host, p *header.Packet) *network.Relay {
	for i := range h.Relays {
		if w.matches(h.Relays[i].Listen, p) {
			return &h.Relays[i]
		}
	}
	return nil
}

func (w *Walk) hostPermits(h *network.Host, p *header.Packet) bool {
	if h.Firewall == nil {
		return true
	}
	for i := range h.Firewall.Rules {
		r := &h.Firewall.Rules[i]
		if !w.matches(r.Services, p) {
			continue
		}
		from := r.From.Contains(p.Source)
		w.region.address(flowset.Source, p.Source, r.From, from)
		if !from {
			continue
		}
		if w.trace != nil {
			w.note(h.Name, StepHost, string(r.Verb), "", "its own firewall: "+r.Text)
		}
		if r.Verb == network.Allow {
			return true
		}
		w.end(HostFirewall, h.Name, StepHost, nil)
		if r.Verb == network.Reject {
			w.refusal = refusal{packet: *p, how: refusedBy(p.Protocol)}
		}
		if w.trace != nil {
			w.why("The firewall of %s itself says %s.", h.Name, r.Text)
		}
		return false
	}
	w.end(HostFirewall, h.Name, StepHost, nil)
	if w.trace != nil {
		w.why("The firewall of %s itself has no rule that allows %s from %s.", h.Name, p.Service(), p.Source)
	}
	return false
}

// listener returns the service of the host that answers the packet, or nil.
func (w *Walk) listener(h *network.Host, p *header.Packet) *network.HostService {
	for i := range h.Serves {
		s := &h.Serves[i]
		if s.At.IsValid() {
			here := s.At == p.Destination
			if w.region.address(flowset.Destination, p.Destination, header.Single(s.At), here); !here {
				continue
			}
		}
		if w.matches(s.Services, p) {
			return s
		}
	}
	return nil
}

func (w *Walk) hostServes(h *network.Host, p *header.Packet) bool {
	if p.Protocol == header.ICMP {
		if !h.AnswersPing {
			w.end(Unanswered, h.Name, StepHost, nil)
			if w.trace != nil {
				w.why("%s does not answer pings; what it serves may still be there.", h.Name)
			}
			return false
		}
		if w.trace != nil {
			w.note(h.Name, StepHost, "answers", "", "pings")
		}
		return true
	}
	if s := w.listener(h, p); s != nil {
		if w.trace != nil {
			w.note(h.Name, StepHost, "serves", "", s.Text)
		}
		return true
	}
	w.end(Refused, h.Name, StepHost, nil)
	w.refusal = refusal{packet: w.legs[len(w.legs)-1].delivered, how: refusedBy(p.Protocol)}
	if w.trace != nil {
		w.note(h.Name, StepHost, "refuses", "", "nothing listens on "+p.Service().String())
		w.why("%s is up, but nothing on it listens on %s%s.", h.Name, p.Service(), boundElsewhere(h, p))
		w.why("%s", hostServesText(h))
	}
	return false
}

// boundElsewhere names the address a service is bound to where the port is right.
func boundElsewhere(h *network.Host, p *header.Packet) string {
	for _, s := range h.Serves {
		if s.At.IsValid() && s.Services.Matches(p.Protocol, p.DestinationPort) {
			return " at " + p.Destination.String() + ": the service is bound to " + s.At.String() + " only"
		}
	}
	return ""
}

func hostServesText(h *network.Host) string {
	if len(h.Serves) == 0 {
		return h.Name + " serves nothing."
	}
	var texts []string
	for _, s := range h.Serves {
		texts = append(texts, s.Text)
	}
	return h.Name + " serves " + strings.Join(texts, ", ") + "."
}
