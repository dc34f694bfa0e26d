package portmap

import (
	"errors"
	"math"
	"net/netip"
	"time"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/portmap/natpmp"
	"hollowbridge/internal/portmap/pcp"
)

// A datagram is what came to the port of PCP and NAT-PMP, or goes from there.
type datagram struct {
	peer   netip.AddrPort
	data   []byte
	client netip.Addr // of one that came: whose it is
	again  bool       // it was postponed
}

// A reply is the answer to a datagram: nothing where data is empty. Where what was granted can't be
// put into force, fails is said instead.
type reply struct {
	datagram
	fails []byte
}

// answer takes what clients ask by PCP and NAT-PMP and returns the answers; all that is granted is
// in force and kept by then. Send sends what is to be said later.
func (v *Server) answer(asked []datagram, send func(datagram)) []datagram {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	now := v.now()
	answers := make([]datagram, 0, len(asked))
	fails := make([][]byte, 0, len(asked))
	for _, d := range asked {
		if v.setting == nil || !v.limits.allows(d.peer.Addr(), now) {
			continue
		}
		d.client = v.real(d.peer.Addr())
		r := v.one(d, now, send)
		if len(r.data) > 0 {
			answers, fails = append(answers, datagram{peer: d.peer, data: r.data}), append(fails, r.fails)
		}
	}
	if err := v.flush(now); err != nil {
		for i := range answers {
			if fails[i] != nil {
				answers[i].data = fails[i]
			}
		}
	}
	return answers
}

// one answers one datagram. The version says which protocol it is; one that is not spoken is
// answered in its own words with the version that is (RFC 6887, 9 and appendix A; RFC 6886, 3.5).
func (v *Server) one(d datagram, now time.Time, send func(datagram)) reply {
	if len(d.data) < 2 || d.data[1]&0x80 != 0 || !d.client.IsLinkLocalUnicast() && !v.isInside(d.client) { // what is link-local came by an interface where they may be
		return reply{}
	}
	speaksPCP, speaksNATPMP := v.setting.policy.Speaks(network.PCP), v.setting.policy.Speaks(network.NATPMP)
	switch isOld := d.data[0] == natpmp.Version; {
	case isOld && speaksNATPMP && d.peer.Addr().Is4():
		return v.oneNATPMP(d, now, send)
	case speaksPCP:
		return v.onePCP(d, now, send)
	case speaksNATPMP && d.peer.Addr().Is4():
		return reply{datagram: datagram{data: natpmp.Refuse(d.data, natpmp.UnsupportedVersion, v.seconds(now))}}
	}
	return reply{}
}

// isInside reports whether an address is reached by an interface where clients may be.
func (v *Server) isInside(a netip.Addr) bool {
	i := v.setting.gateway.OutTo(a)
	for _, on := range v.setting.policy.On {
		if on == i {
			return true
		}
	}
	return false
}

func (v *Server) onePCP(d datagram, now time.Time, send func(datagram)) reply {
	refuse := func(result pcp.Result) reply {
		return reply{datagram: datagram{data: pcp.Refuse(d.data, result, v.seconds(now))}}
	}
	m, err := pcp.ParseRequest(d.data)
	var no *pcp.Refusal
	switch {
	case errors.As(err, &no):
		return refuse(no.Result)
	case err != nil:
		return reply{}
	case m.Client != d.peer.Addr():
		return refuse(pcp.AddressMismatch)
	}
	m.Client = d.client
	m.Response, m.Epoch = true, v.seconds(now)
	if m.Opcode == pcp.Announce {
		m.Lifetime = 0
		return reply{datagram: datagram{data: m.Append(nil)}}
	}
	if result := checkPCP(m); result != pcp.Success {
		return refuse(result)
	}
	if m.Lifetime == 0 && m.Opcode == pcp.Map {
		if result := v.deletePCP(m); result != pcp.Success {
			return refuse(result)
		}
		return reply{datagram: datagram{data: m.Append(nil)}, fails: pcp.Refuse(d.data, pcp.NoResources, m.Epoch)}
	}
	protocol := header.Protocol(m.Protocol)
	if protocol != header.TCP && protocol != header.UDP || m.InternalPort == 0 {
		return refuse(pcp.UnsupportedProtocol)
	}
	w := &wish{
		by: network.PCP, asker: m.Client, machine: m.Client, protocol: protocol, port: m.InternalPort, address: m.External, outside: m.ExternalPort,
		exact: m.PreferFailure, lifetime: time.Duration(m.Lifetime) * time.Second, nonce: m.Nonce,
	}
	if m.Party.IsValid() {
		if m.Party == m.Client { // RFC 6887, 13.1
			return refuse(pcp.MalformedRequest)
		}
		w.machine = m.Party
	}
	if m.Opcode == pcp.Peer {
		w.peer = netip.AddrPortFrom(m.Peer, m.PeerPort)
		if m.Lifetime == 0 {
			return v.undeletedPeer(m, d.data, w, now)
		}
	}
	for _, f := range m.Filters {
		if f.From.Bits() == 0 && f.Port == 0 { // RFC 6887, 13.3: away with those that there are
			w.senders, w.anew = nil, true
			continue
		}
		w.senders = append(w.senders, network.Sender{From: f.From, Port: f.Port})
	}
	if len(w.senders) > mostSenders {
		return refuse(pcp.ExcessiveRemotePeers)
	}
	request := d.data
	w.again = d.again
	w.later = func(e *entry, no *refusal) {
		send(datagram{peer: d.peer, data: v.answerPCP(m, request, e, no, v.now())})
	}
	e, refused := v.grant(w, now)
	if refused != nil && v.isOpen(refused, d, send) {
		return reply{}
	}
	return reply{datagram: datagram{data: v.answerPCP(m, request, e, refused, now)}, fails: pcp.Refuse(request, pcp.NoResources, m.Epoch)}
}

// undeletedPeer answers who wants to delete what PEER has made: PEER can't be used to shorten or delete a mapping (RFC 6887, 12.1), so it
// stays for as long as it has.
func (v *Server) undeletedPeer(m *pcp.Message, request []byte, w *wish, now time.Time) reply {
	e, no := v.present(w)
	if e == nil && no == nil {
		m.External, m.ExternalPort = netip.Addr{}, 0
		return reply{datagram: datagram{data: m.Append(nil)}}
	}
	return reply{datagram: datagram{data: v.answerPCP(m, request, e, no, now)}}
}

// mostPostponed is how many requests wait at a time until a link address is found, and untilFound for how long.
const (
	mostPostponed = 256
	untilFound    = 30 * time.Millisecond
)

// isOpen reports whether there is no answer yet. One that was not decided because the link address of its machine is being looked for is looked
// at again, whether that was found or not.
func (v *Server) isOpen(no *refusal, d datagram, send func(datagram)) bool {
	if no.reason == unfound && v.postponed < mostPostponed { // what is more is asked again
		v.postponed++
		d.again = true
		time.AfterFunc(untilFound, func() {
			answers := v.answer([]datagram{d}, send)
			v.mutex.Lock()
			v.postponed--
			v.mutex.Unlock()
			for _, a := range answers {
				send(a)
			}
		})
	}
	return no.reason == unfound || no.reason == undecided
}

// checkPCP looks at what a request may not say (RFC 6887, 11.1 and 12.1).
func checkPCP(m *pcp.Message) pcp.Result {
	protocol := header.Protocol(m.Protocol)
	switch {
	case m.Protocol == 0 && m.InternalPort != 0:
		return pcp.MalformedRequest
	case m.Opcode == pcp.Peer && (m.Protocol == 0 || m.PeerPort == 0 && protocol.HasPorts() || m.InternalPort == 0 && protocol.HasPorts()):
		return pcp.MalformedRequest
	case m.Opcode == pcp.Peer && (m.Peer.IsUnspecified() || m.Peer.IsMulticast() || m.Peer.Is4() != m.Client.Is4()):
		return pcp.MalformedRequest
	}
	for _, f := range m.Filters {
		if f.From.Bits() > 0 && f.From.Addr().Is4() != m.Client.Is4() {
			return pcp.MalformedOption
		}
	}
	return pcp.Success
}

// answerPCP is what a client is told.
func (v *Server) answerPCP(m *pcp.Message, request []byte, e *entry, no *refusal, now time.Time) []byte {
	if no != nil {
		return pcp.Refuse(request, pcpResults[no.reason], v.seconds(now))
	}
	told := *m
	told.Epoch = v.seconds(now)
	told.Lifetime = wholeSeconds(e.Until.Sub(now))
	told.External, told.ExternalPort = e.Outside.Addr(), e.Outside.Port()
	return told.Append(nil)
}

// wholeSeconds is a lifetime for the wire.
func wholeSeconds(d time.Duration) uint32 {
	return uint32(min(max(d.Round(time.Second)/time.Second, 1), math.MaxUint32))
}

// pcpResults are the codes of the reasons.
var pcpResults = [...]pcp.Result{
	notAllowed: pcp.NotAuthorized, notInside: pcp.NotAuthorized, notItsOwn: pcp.NotAuthorized, notForOther: pcp.NotAuthorized,
	noExternal: pcp.NetworkFailure, noPort: pcp.CannotProvideExternal, noneLeft: pcp.NoResources, tooMany: pcp.UserExceedsQuota,
	full: pcp.NoResources, tooManyPeers: pcp.ExcessiveRemotePeers, undecided: pcp.NoResources, unfound: pcp.NoResources, failed: pcp.NoResources,
}

// deletePCP takes mappings away (RFC 6887, 15.1): that of a port, those of all ports of a protocol,
// or all. Only those go whose nonce is known; that of somebody else is not authorized, and none at
// all is no error.
func (v *Server) deletePCP(m *pcp.Message) pcp.Result {
	machine := m.Client
	if m.Party.IsValid() {
		machine = m.Party
	}
	result := pcp.Success
	all := m.InternalPort == 0
	var gone []*entry
	for _, e := range v.table.of(machine, all, netip.AddrPortFrom(machine, m.InternalPort)) {
		switch {
		case m.Protocol != 0 && e.Protocol != header.Protocol(m.Protocol):
		case e.Peer: // which ends by itself
		case e.By != network.PCP || e.Nonce != m.Nonce || e.Owner != m.Client:
			if !all {
				result = pcp.NotAuthorized
			}
		default:
			gone = append(gone, e)
		}
	}
	m.ExternalPort, m.External = 0, netip.Addr{}
	if result != pcp.Success {
		return result
	}
	for _, e := range gone {
		if !all {
			m.External, m.ExternalPort = e.Outside.Addr(), e.Outside.Port()
		}
		v.end(e, "taken away by its owner")
	}
	return pcp.Success
}

// of returns the entries of a machine, or those of one of its ports.
func (t *table) of(machine netip.Addr, all bool, inside netip.AddrPort) (list []*entry) {
	if !all {
		for _, protocol := range []header.Protocol{header.TCP, header.UDP} {
			for _, s := range t.inside[insideKey{inside, protocol}] {
				list = append(list, s.entries...)
			}
		}
		return list
	}
	if t.at[machine] == 0 {
		return nil
	}
	for _, e := range t.numbers {
		if e.Inside.Addr() == machine {
			list = append(list, e)
		}
	}
	return list
}

func (v *Server) oneNATPMP(d datagram, now time.Time, send func(datagram)) reply {
	epoch := v.seconds(now)
	r, err := natpmp.ParseRequest(d.data)
	var no *natpmp.Refusal
	switch {
	case errors.As(err, &no):
		return reply{datagram: datagram{data: natpmp.Refuse(d.data, no.Result, epoch)}}
	case err != nil:
		return reply{}
	}
	told := natpmp.Response{Opcode: r.Opcode, Epoch: epoch, Port: r.Port}
	external := v.setting.address[header.IPv4]
	client := d.client
	protocol := header.TCP
	if r.Opcode == natpmp.MapUDP {
		protocol = header.UDP
	}
	switch {
	case !external.IsValid():
		told.Result = natpmp.NetworkFailure
	case r.Opcode == natpmp.ExternalAddress:
		told.External = external
	case r.Lifetime == 0:
		told.Result = v.deleteNATPMP(client, protocol, &r)
	case r.Port == 0:
		told.Result = natpmp.NotAuthorized
	default:
		w := &wish{by: network.NATPMP, asker: client, machine: client, protocol: protocol, port: r.Port, outside: r.Wished, lifetime: time.Duration(r.Lifetime) * time.Second}
		answer := func(e *entry, no *refusal, at time.Time) []byte {
			said := told
			said.Epoch = v.seconds(at)
			if no != nil {
				said.Result = natpmpResults[no.reason]
			} else {
				said.Mapped, said.Lifetime = e.Outside.Port(), wholeSeconds(e.Until.Sub(at))
			}
			return said.Append(nil)
		}
		w.later = func(e *entry, no *refusal) { send(datagram{peer: d.peer, data: answer(e, no, v.now())}) }
		w.again = d.again
		e, no := v.grant(w, now)
		if no != nil && v.isOpen(no, d, send) {
			return reply{}
		}
		return reply{datagram: datagram{data: answer(e, no, now)}, fails: natpmp.Refuse(d.data, natpmp.OutOfResources, epoch)}
	}
	return reply{datagram: datagram{data: told.Append(nil)}, fails: natpmp.Refuse(d.data, natpmp.OutOfResources, epoch)}
}

// natpmpResults are the codes of the reasons.
var natpmpResults = [...]natpmp.Result{
	notAllowed: natpmp.NotAuthorized, notInside: natpmp.NotAuthorized, notItsOwn: natpmp.NotAuthorized, notForOther: natpmp.NotAuthorized,
	noExternal: natpmp.NetworkFailure, noPort: natpmp.OutOfResources, noneLeft: natpmp.OutOfResources, tooMany: natpmp.OutOfResources,
	full: natpmp.OutOfResources, tooManyPeers: natpmp.OutOfResources, undecided: natpmp.OutOfResources, unfound: natpmp.OutOfResources, failed: natpmp.OutOfResources,
}

// deleteNATPMP takes the mapping of a port away, or, where that is 0, all of the protocol
// (RFC 6886, 3.4). Where there is none, that is as it was wished for; one that was asked for by
// another protocol is not its own.
func (v *Server) deleteNATPMP(client netip.Addr, protocol header.Protocol, r *natpmp.Request) natpmp.Result {
	result := natpmp.Success
	for _, e := range v.table.of(client, r.Port == 0, netip.AddrPortFrom(client, r.Port)) {
		switch {
		case e.Protocol != protocol || e.Peer:
		case e.By == network.NATPMP && e.Owner == client:
			v.end(e, "taken away by its owner")
		case r.Port != 0:
			result = natpmp.NotAuthorized
		}
	}
	return result
}
