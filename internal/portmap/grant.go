package portmap

import (
	"cmp"
	"fmt"
	"math/bits"
	"net/netip"
	"slices"
	"strings"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A setting is the revision in force, as far as mappings are concerned.
type setting struct {
	gateway  *engine.Gateway
	policy   *network.Mappings
	external *network.Interface
	address  [2]netip.Addr                   // of the external interface, of each family; invalid where it has none
	free     map[portKey]*[65536 / 64]uint64 // ports that mappings may have
}

type portKey struct {
	address  netip.Addr
	protocol header.Protocol
}

// freePorts returns the ports of an outside address that the administrator has left to mappings.
func (s *setting) freePorts(protocol header.Protocol, outside netip.Addr) *[65536 / 64]uint64 {
	k := portKey{outside, protocol}
	if s.free[k] == nil {
		s.free[k] = s.gateway.PortsForMapping(s.external, protocol, outside)
	}
	return s.free[k]
}

// rule returns the rule of the policy by which a wish is granted, or why it is not.
func (s *setting) rule(w *wish) (*network.MappingRule, *refusal) {
	in := s.gateway.OutTo(w.asker)
	if in == nil || !slices.Contains(s.policy.On, in) {
		return nil, refused(notInside, "%s is not behind %s", w.asker, strings.Join(network.InterfaceNames(s.policy.On), " or "))
	}
	asked := network.MappingWish{By: w.by, Asker: w.asker, In: in, Machine: w.machine, Protocol: w.protocol, Port: w.port, Lifetime: w.lifetime}
	r := s.policy.Rule(&asked)
	switch {
	case r == nil && w.machine != w.asker:
		return nil, refused(notForOther, "no rule lets %s ask for %s", w.asker, w.machine)
	case r == nil:
		return nil, refused(notAllowed, "no rule is for it")
	case r.Verb == network.Drop:
		return nil, refused(notAllowed, "the rule of line %d says drop", r.Place.Line)
	}
	if behind := s.gateway.OutTo(w.machine); behind == nil || behind == s.external {
		return nil, refused(notForOther, "%s is not inside", w.machine)
	}
	return r, nil
}

// decide grants a wish or refuses it. What it changes is not in force before flush.
func (v *Server) decide(s *setting, w *wish, now time.Time, approved bool) (granted *entry, no *refusal) {
	r, no := s.rule(w)
	if no == nil {
		no = v.refuseBlocked(s, w, now)
	}
	if no != nil {
		return nil, no
	}
	if e := v.ledElsewhere(s, w); e != nil {
		kept := v.table.lift(e)
		defer func() {
			if no != nil {
				v.table.putBack(e, kept)
			} else {
				v.happens(Ended, e, describe(e)+": its owner leads the port elsewhere")
			}
		}()
	}
	until := now.Add(r.Granted(w.lifetime))
	if w.by == network.NATPMP { // RFC 6886, 3.3: no longer than was asked for
		until = now.Add(min(w.lifetime, r.Granted(w.lifetime)))
	}
	if e, no := v.present(w); no != nil {
		return nil, no
	} else if e != nil {
		if e.Peer && e.Until.After(until) { // PEER can't be used to shorten a lifetime (RFC 6887, 12.1)
			until = e.Until
		}
		return v.renew(e, w, until)
	}
	outside, no := v.place(s, w, r)
	if no != nil {
		return nil, no
	}
	whose, isNew, no := v.room(s, w, r, now)
	if no != nil {
		return nil, no
	}
	if r.Ask && !approved {
		return nil, v.ask(w, now)
	}
	senders := w.senders
	if w.peer.IsValid() {
		senders = []network.Sender{{From: netip.PrefixFrom(w.peer.Addr(), w.peer.Addr().BitLen()), Port: w.peer.Port()}}
	}
	return v.table.add(Record{
		Protocol: w.protocol, Outside: outside, Inside: netip.AddrPortFrom(w.machine, w.port), Senders: senders, Peer: w.peer.IsValid(),
		By: w.by, Owner: w.asker, Nonce: w.nonce, Text: w.text, Granted: now, Until: until, Machine: whose, New: isNew,
	}), nil
}

// room looks for room for one more mapping of a machine. It returns whose it is, and whether nobody saw that machine before.
func (v *Server) room(s *setting, w *wish, r *network.MappingRule, now time.Time) (whose string, isNew bool, no *refusal) {
	whose, isNew, found := v.whose(s, w.machine, now)
	if !found && !w.again {
		return "", false, &refusal{unfound, ""}
	}
	all := len(v.table.numbers)
	switch have := v.table.machines[whose]; {
	case r.AtMost > 0 && have >= r.AtMost:
		return "", false, refused(tooMany, "%s has %d already, as many as the rule allows a machine", w.machine, have)
	case all >= s.policy.AtMost:
		return "", false, refused(full, "there are %d already, as many as the gateway has room for", all)
	case isNew && v.table.fresh >= max(1, (s.policy.AtMost-all+v.table.fresh)/newcomersPart):
		return "", false, refused(full, "machines that nobody saw here a day ago have %d already, the part of the room that is theirs together", v.table.fresh)
	}
	return whose, isNew, nil
}

// Machines that are new get one part of so many of the room that is left, all together: whoever makes addresses up is one of them.
const newcomersPart = 4

// A machine is no longer new when it has been seen for so long; so many are remembered.
const (
	newFor   = 24 * time.Hour
	mostSeen = 4096
)

// whose returns the machine that has an address, for both families: on a segment by its link address, behind an inside router, or where that is
// not known, by the host of the file, else by the IPv4 address or the /64. One that the file names is never new. Found is false where the link
// address may be known in a moment.
func (v *Server) whose(s *setting, a netip.Addr, now time.Time) (key string, isNew, found bool) {
	found = true
	if in := s.gateway.OutTo(a); in != nil && v.options.Link != nil && slices.ContainsFunc(in.Addresses, func(p netip.Prefix) bool { return p.Contains(a) }) {
		key = v.options.Link(in, a)
		found = key != ""
	}
	host := ""
	if v.options.Host != nil {
		host = v.options.Host(a)
	}
	switch {
	case key != "":
	case host != "":
		key = host
	case a.Is4():
		key = a.String()
	default:
		key = netip.PrefixFrom(a, 64).Masked().String()
	}
	first, known := v.seen[key]
	return key, host == "" && (!known || now.Sub(first) < newFor), found
}

// see remembers a machine that has been granted something.
func (v *Server) see(key string, now time.Time) {
	if _, known := v.seen[key]; known {
		return
	}
	var gone []string
	if len(v.seen) >= mostSeen { // those that have nothing now
		for other := range v.seen {
			if v.table.machines[other] == 0 && now.Sub(v.seen[other]) < newFor {
				gone = append(gone, other)
				delete(v.seen, other)
			}
		}
		if len(v.seen) >= mostSeen {
			return
		}
	}
	v.seen[key] = now
	if v.options.See != nil {
		if err := v.options.See(key, now, gone); err != nil {
			v.options.Trouble(fmt.Errorf("mappings: %w", err))
		}
	}
}

// ledElsewhere returns the mapping of its asker that a wish by UPnP takes the outside port from, to lead it elsewhere
// (WANIPConnection:2, 2.5.16), or nil.
func (v *Server) ledElsewhere(s *setting, w *wish) *entry {
	if w.by != network.IGD || !w.exact || !w.machine.Is4() {
		return nil
	}
	has := v.table.slots[slotKey{netip.AddrPortFrom(s.address[header.IPv4], w.outside), w.protocol}]
	if has == nil || has.inside == netip.AddrPortFrom(w.machine, w.port) {
		return nil
	}
	if e := has.forEverybody(); e != nil && e.By == network.IGD && e.Owner == w.asker {
		return e
	}
	return nil
}

// present returns the entry that a wish is for again, or nil. One that is somebody else's is a
// refusal.
func (v *Server) present(w *wish) (*entry, *refusal) {
	for _, s := range v.table.inside[insideKey{netip.AddrPortFrom(w.machine, w.port), w.protocol}] {
		for _, e := range s.entries {
			switch {
			case e.Peer != w.peer.IsValid() || e.Peer && (e.Senders[0].From.Addr() != w.peer.Addr() || e.Senders[0].Port != w.peer.Port()):
				continue
			case w.by == network.IGD && e.By == network.IGD && w.exact && e.Outside.Port() != w.outside: // another outside port for the same one inside
				continue
			case e.By == network.PCP && (w.by != network.PCP || e.Nonce != w.nonce):
				return nil, refused(notItsOwn, "it was asked for with another nonce")
			case e.Owner != w.asker:
				return nil, refused(notItsOwn, "%s asked for it", e.Owner)
			case w.exact && (w.outside != 0 && w.outside != e.Outside.Port() || isSome(w.address) && w.address != e.Outside.Addr()):
				return nil, refused(noPort, "it has %s already", e.Outside)
			}
			return e, nil
		}
	}
	return nil, nil
}

// isSome reports whether an address is one that is wished for.
func isSome(a netip.Addr) bool { return a.IsValid() && !a.IsUnspecified() }

// mostSenders is how many senders an entry names at most.
const mostSenders = 16

// renew is what becomes of an entry that is asked for again.
func (v *Server) renew(e *entry, w *wish, until time.Time) (*entry, *refusal) {
	if !e.Peer && (w.anew || len(w.senders) > 0) {
		senders := w.senders
		if !w.anew {
			senders = slices.Clone(e.Senders)
			for _, s := range w.senders {
				if !slices.Contains(senders, s) {
					senders = append(senders, s)
				}
			}
			if len(e.Senders) == 0 { // everybody may use it, and goes on to
				senders = nil
			}
		}
		if len(senders) > mostSenders {
			return nil, refused(tooManyPeers, "at most %d filters", mostSenders)
		}
		if !slices.Equal(senders, e.Senders) {
			e.Senders = senders
			v.table.touch(e)
		}
	}
	if e.By != w.by { // the newer protocol takes it over
		e.By, e.Nonce = w.by, w.nonce
		v.table.touch(e)
	}
	e.Text = w.text
	if first, known := v.seen[e.machine()]; e.New && known && v.now().Sub(first) >= newFor {
		e.New = false
		v.table.fresh--
	}
	v.table.renew(e, until)
	return e, nil
}

// place chooses the outside address and port of a wish: those that its machine's port has already,
// else the wished one, else the machine's own, else the next free one.
func (v *Server) place(s *setting, w *wish, r *network.MappingRule) (netip.AddrPort, *refusal) {
	if w.machine.Is6() {
		return opened(s, w, r)
	}
	address := s.address[header.IPv4]
	if !address.IsValid() {
		return netip.AddrPort{}, refused(noExternal, "%s has no IPv4 address", s.external)
	}
	at := func(port uint16) netip.AddrPort { return netip.AddrPortFrom(address, port) }
	inside := netip.AddrPortFrom(w.machine, w.port)
	known := v.table.inside[insideKey{inside, w.protocol}]
	if len(known) > 0 && w.by != network.IGD {
		return known[0].key.outside, nil
	}
	wished := w.outside
	if w.by != network.IGD {
		if port, ok := v.options.Bound(w.protocol, inside, address); ok && r.Ports.Contains(port) && v.mayHave(s, w, at(port)) == "" {
			wished = port // that of its sessions (RFC 6887, 11.3)
		}
	}
	if w.exact {
		if no := v.exactly(s, w, r, address); no != nil || w.outside != 0 {
			return at(w.outside), no
		}
	}
	for _, port := range []uint16{wished, v.companion(w.protocol, inside), w.port} {
		if port != 0 && r.Ports.Contains(port) && v.mayHave(s, w, at(port)) == "" && (port == wished && wished != w.outside || !v.isTaken(w, at(port))) {
			return at(port), nil
		}
	}
	if port, ok := v.nextFree(s, w, r.Ports, cmp.Or(wished, w.port)); ok {
		return at(port), nil
	}
	return netip.AddrPort{}, refused(noneLeft, "none of the ports %s is free", r.Ports)
}

// opened is place for IPv6: the way is opened, nothing is translated.
func opened(s *setting, w *wish, r *network.MappingRule) (netip.AddrPort, *refusal) {
	outside := netip.AddrPortFrom(w.machine, w.port)
	switch {
	case !s.address[header.IPv6].IsValid():
		return outside, refused(noExternal, "%s has no IPv6 address", s.external)
	case w.exact && (w.outside != 0 && w.outside != w.port || isSome(w.address) && w.address != w.machine):
		return outside, refused(noPort, "addresses and ports of IPv6 are not translated")
	case !r.Ports.Contains(w.port):
		return outside, refused(notAllowed, "the rule of line %d is for ports %s", r.Place.Line, r.Ports)
	}
	return outside, nil
}

// exactly says why a wish can't have the outside address and port that it names, of which it may leave out either.
func (v *Server) exactly(s *setting, w *wish, r *network.MappingRule, address netip.Addr) *refusal {
	switch {
	case isSome(w.address) && w.address != address:
		return refused(noPort, "%s is not the address of %s", w.address, s.external)
	case w.outside == 0:
		return nil
	case !r.Ports.Contains(w.outside):
		return refused(noPort, "the rule of line %d is for ports %s", r.Place.Line, r.Ports)
	}
	outside := netip.AddrPortFrom(address, w.outside)
	if why := v.mayHave(s, w, outside); why != "" || v.isTaken(w, outside) {
		return refused(noPort, "port %d is not to be had: %s", w.outside, cmp.Or(why, "sessions have it"))
	}
	return nil
}

// companion returns the outside port that a machine's port has for the other protocol (RFC 6886, 3.3), or 0.
func (v *Server) companion(protocol header.Protocol, inside netip.AddrPort) (port uint16) {
	for _, other := range []header.Protocol{header.TCP, header.UDP} {
		if of := v.table.inside[insideKey{inside, other}]; other != protocol && len(of) > 0 {
			port = of[0].key.outside.Port()
		}
	}
	return port
}

// mayHave says why a machine may not have an outside port; empty where it may.
func (v *Server) mayHave(s *setting, w *wish, outside netip.AddrPort) string {
	port := outside.Port()
	if s.freePorts(w.protocol, outside.Addr())[port/64]&(1<<(port%64)) == 0 {
		return s.gateway.ForMapping(s.external, w.protocol, outside)
	}
	owner, has := v.table.ownerOf(outside)
	if has && owner != w.machine {
		return "it is that of another machine"
	}
	if other := v.table.slots[slotKey{outside, w.protocol}]; other != nil && other.inside != netip.AddrPortFrom(w.machine, w.port) {
		return "it is that of another port of the machine"
	}
	return ""
}

// isTaken reports whether sessions of somebody else have an outside port.
func (v *Server) isTaken(w *wish, outside netip.AddrPort) bool {
	if !v.options.IsTaken(w.protocol, outside) {
		return false
	}
	port, own := v.options.Bound(w.protocol, netip.AddrPortFrom(w.machine, w.port), outside.Addr())
	return !own || port != outside.Port()
}

// nextFree returns the next port from one on, and round to it, that nobody has: word by word.
func (v *Server) nextFree(s *setting, w *wish, among header.Ports, from uint16) (uint16, bool) {
	address := s.address[header.IPv4]
	free := s.freePorts(w.protocol, address)
	var taken *[65536 / 64]uint64
	if u := v.table.ports[address]; u != nil {
		taken = &u.taken
	}
	if !among.Contains(from) {
		from = among.First
	}
	look := func(first, last int) (uint16, bool) {
		for port := first; port <= last; {
			word := free[port/64]
			if taken != nil {
				word &^= taken[port/64]
			}
			word &= ^uint64(0) << (port % 64)
			if word == 0 {
				port = port/64*64 + 64
				continue
			}
			if port = port/64*64 + bits.TrailingZeros64(word); port > last {
				break
			}
			if !v.isTaken(w, netip.AddrPortFrom(address, uint16(port))) {
				return uint16(port), true
			}
			port++
		}
		return 0, false
	}
	if port, ok := look(int(from), int(among.Last)); ok {
		return port, true
	}
	return look(int(among.First), int(from)-1)
}
