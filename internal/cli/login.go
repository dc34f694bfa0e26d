package cli

import (
	"bufio"
	"encoding/hex"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
)

// Whoever is logged in on the gateway that is changed may cut off the own login. Where that comes from is found in three ways: the
// environment of the login says it; else the processes that the command was started by hold the login's socket (sudo clears the
// environment); else, behind a terminal multiplexer, other processes of the same login session do. Somebody at the console, or who has no
// terminal at all, has none.

// A login is where the one comes from that a command is typed in.
type login struct {
	from, to netip.AddrPort // of its connection, where it has one
	device   string         // by which that comes, where an address is link-local
	unknown  bool           // it has one, and nobody knows which
}

// findLogin finds the login of this process.
func (c *call) findLogin() login {
	words := strings.Fields(c.Getenv("SSH_CONNECTION")) // address and port of the client, then of the server
	if len(words) == 4 {
		from, err1 := netip.ParseAddrPort(net.JoinHostPort(words[0], words[1]))
		to, err2 := netip.ParseAddrPort(net.JoinHostPort(words[2], words[3]))
		if err1 == nil && err2 == nil {
			return login{from: plainEnd(from), to: plainEnd(to), device: to.Addr().Zone()}
		}
	}
	return processes("/proc").login(os.Getpid())
}

// isLinkLocal reports whether the login comes from an address of the segment alone.
func (l login) isLinkLocal() bool {
	return l.to.IsValid() && (l.to.Addr().IsLinkLocalUnicast() || l.from.Addr().IsLinkLocalUnicast())
}

// plainEnd is an end of a connection without the zone of a link-local address, and with IPv4 written as that.
func plainEnd(a netip.AddrPort) netip.AddrPort {
	return netip.AddrPortFrom(a.Addr().Unmap().WithZone(""), a.Port())
}

// processes is where the kernel tells of them (proc(5)).
type processes string

// mostParents is how many processes have started one another at most, between a login and a command.
const mostParents = 64

// login finds the login of a process.
func (p processes) login(pid int) login {
	terminal := p.terminal(pid)
	if terminal == "" || terminal == "console" {
		return login{}
	}
	connections := p.connections()
	for at, n := pid, 0; at > 1 && n < mostParents; at, n = p.parent(at), n+1 {
		if l, ok := p.loginOf(at, connections); ok {
			return l
		}
	}
	if session := p.session(pid); session != "" {
		for _, other := range p.all() {
			if other != pid && p.session(other) == session {
				if l, ok := p.loginOf(other, connections); ok {
					return l
				}
			}
		}
	}
	return login{unknown: true}
}

// loginOf returns the connection of a process that somebody else began: one whose own end is a port that is listened on.
func (p processes) loginOf(pid int, connections map[string]connectionOf) (login, bool) {
	entries, _ := os.ReadDir(filepath.Join(string(p), strconv.Itoa(pid), "fd"))
	for _, e := range entries {
		target, err := os.Readlink(filepath.Join(string(p), strconv.Itoa(pid), "fd", e.Name()))
		if err != nil {
			continue
		}
		inode, is := strings.CutPrefix(target, "socket:[")
		if !is {
			continue
		}
		if c, ok := connections[strings.TrimSuffix(inode, "]")]; ok && c.accepted {
			return login{from: c.remote, to: c.local}, true
		}
	}
	return login{}, false
}

// stat returns the fields of a process behind its name, which may hold anything.
func (p processes) stat(pid int) []string {
	data, err := os.ReadFile(filepath.Join(string(p), strconv.Itoa(pid), "stat"))
	at := strings.LastIndexByte(string(data), ')')
	if err != nil || at < 0 {
		return nil
	}
	return strings.Fields(string(data[at+1:]))
}

// parent returns the process that started one; 0 where nobody knows.
func (p processes) parent(pid int) int {
	if fields := p.stat(pid); len(fields) > 1 {
		parent, _ := strconv.Atoi(fields[1])
		return parent
	}
	return 0
}

// terminal returns the kind of a process's terminal: console, or another one; empty where it has none.
func (p processes) terminal(pid int) string {
	fields := p.stat(pid)
	if len(fields) < 5 {
		return ""
	}
	number, _ := strconv.Atoi(fields[4])
	switch major := number >> 8 & 0xfff; { // of the device, as the kernel numbers them (Documentation/admin-guide/devices.txt)
	case number == 0:
		return ""
	case slices.Contains([]int{4, 5, 166, 188, 204, 229}, major): // virtual consoles and serial lines
		return "console"
	}
	return "other"
}

// session returns the number that the kernel gave the login of a process (audit), empty where it has none.
func (p processes) session(pid int) string {
	data, _ := os.ReadFile(filepath.Join(string(p), strconv.Itoa(pid), "sessionid"))
	if text := strings.TrimSpace(string(data)); text != "4294967295" {
		return text
	}
	return ""
}

// all returns the processes that there are.
func (p processes) all() (list []int) {
	entries, _ := os.ReadDir(string(p))
	for _, e := range entries {
		if pid, err := strconv.Atoi(e.Name()); err == nil {
			list = append(list, pid)
		}
	}
	slices.Sort(list)
	return list
}

// A connectionOf is a TCP connection of the machine.
type connectionOf struct {
	local, remote netip.AddrPort
	accepted      bool // its own end is a port that is listened on
}

// connections returns the established TCP connections of the machine, by the inodes of their sockets.
func (p processes) connections() map[string]connectionOf {
	found, listens := map[string]connectionOf{}, map[uint16]bool{}
	for _, name := range []string{"tcp", "tcp6"} {
		f, err := os.Open(filepath.Join(string(p), "net", name))
		if err != nil {
			continue
		}
		lines := bufio.NewScanner(f)
		for lines.Scan() {
			fields := strings.Fields(lines.Text())
			if len(fields) < 10 {
				continue
			}
			local, err1 := socketEnd(fields[1])
			remote, err2 := socketEnd(fields[2])
			const established, listening = "01", "0A"
			switch {
			case err1 != nil || err2 != nil:
			case fields[3] == listening:
				listens[local.Port()] = true
			case fields[3] == established && !remote.Addr().IsLoopback():
				found[fields[9]] = connectionOf{local: local, remote: remote}
			}
		}
		f.Close()
	}
	for inode, c := range found {
		c.accepted = listens[c.local.Port()]
		found[inode] = c
	}
	return found
}

// socketEnd reads an address and a port as the kernel lists them: words of 32 bits in the machine's byte order, in hexadecimal.
func socketEnd(text string) (netip.AddrPort, error) {
	address, port, _ := strings.Cut(text, ":")
	data, err := hex.DecodeString(address)
	number, err2 := strconv.ParseUint(port, 16, 16)
	if err != nil || err2 != nil || len(data) != 4 && len(data) != 16 {
		return netip.AddrPort{}, fmt.Errorf("%s: not the end of a socket", text)
	}
	for at := 0; at < len(data); at += 4 { // both kinds of machine that there are programs for have it the other way round
		slices.Reverse(data[at : at+4])
	}
	a, _ := netip.AddrFromSlice(data)
	return plainEnd(netip.AddrPortFrom(a, uint16(number))), nil
}

// throughGateways returns the connections by which a login to a machine behind gateways may come, by a network: to that machine itself, or to an
// outside address that a rule leads to it.
func throughGateways(n *network.Network, l login) (list []header.Packet) {
	if !l.to.IsValid() || l.isLinkLocal() {
		return nil
	}
	add := func(to netip.Addr, port uint16) {
		if header.FamilyOf(to) == header.FamilyOf(l.from.Addr()) {
			list = append(list, header.Packet{Source: l.from.Addr(), SourcePort: l.from.Port(), Destination: to, DestinationPort: port, Protocol: header.TCP})
		}
	}
	add(l.to.Addr(), l.to.Port())
	for _, g := range n.Gateways {
		for _, r := range g.NAT {
			switch {
			case r.Off():
			case r.Does == network.OneToOne && r.Inside.First.BitLen() == l.to.Addr().BitLen() && !l.to.Addr().Less(r.Inside.First) && !r.Inside.Last.Less(l.to.Addr()):
				add(header.Shift(l.to.Addr(), r.Inside.First, r.Outside.First), l.to.Port())
			case r.Does.RewritesDestination() && (r.Target.V4 == l.to.Addr() || r.Target.V6 == l.to.Addr()):
				for _, port := range outsidePorts(r, l.to.Port()) {
					for _, in := range r.On {
						for _, outside := range r.Listens(in).Ranges() {
							add(outside.First, port)
						}
					}
				}
			}
		}
	}
	return list
}

// outsidePorts returns the ports from which a rule leads to a port.
func outsidePorts(r *network.NATRule, to uint16) (list []uint16) {
	if len(r.Ports) == 0 {
		return []uint16{to}
	}
	for _, m := range r.Ports {
		for port := int(m.Ports.First); port <= int(m.Ports.Last); port++ {
			if m.Matches(header.TCP, uint16(port)) && m.Apply(uint16(port)) == to {
				list = append(list, uint16(port))
			}
		}
	}
	return list
}

// cutOffBehind says by which way a login to a machine behind gateways, which works now, would not come there any more; else nothing.
func cutOffBehind(before *network.Network, after *walk.Engine, l login) string {
	if before == nil || slices.ContainsFunc(before.Gateways, func(g *network.Gateway) bool { return owns(g, l.to.Addr()) }) {
		return ""
	}
	var now *walk.Engine
	for _, p := range throughGateways(before, l) {
		comes := func(e *walk.Engine) (*words.Trace, bool) {
			from, err := e.Locate(p.Source)
			if err != nil {
				return nil, false
			}
			t := words.TraceOf(e.NewWalk(), walk.Connection{Packet: p, From: from, Moment: e.Network().MomentAt(time.Now())})
			return t, len(t.Passed) > 0 && t.Ended.Destination == l.to.Addr() && t.Ended.DestinationPort == l.to.Port() && (t.Outcome == engine.Reached || t.Outcome == engine.Refused) // what a host serves, a file need not say
		}
		if now == nil {
			now = walk.Compile(before, nil)
		}
		if _, ok := comes(now); !ok {
			continue
		}
		if t, ok := comes(after); !ok && t != nil {
			return fmt.Sprintf("your own login may be cut off: %s -> %s, which leads to %s now, is %s at %s", p.From(), p.To(), l.to, t.Outcome, t.At.Name())
		}
	}
	return ""
}
