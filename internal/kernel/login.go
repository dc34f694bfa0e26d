package kernel

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
)

// Whoever is logged in on the machine that is changed may cut off the own login. Where that comes from is found in three ways: the
// environment of the login says it; else the processes that the command was started by hold the login's socket (sudo clears the
// environment); else, behind a terminal multiplexer, other processes of the same login session do. Somebody at the console, or who has no
// terminal at all, has none.

// A Login is where the one comes from that a command is typed in.
type Login struct {
	From, To netip.AddrPort // of its connection, where it has one
	Device   string         // by which that comes, where an address is link-local
	Unknown  bool           // it has one, and nobody knows which
}

// FindLogin finds the login of this process, of which the environment may say the connection, as address and port of the client,
// then of the server.
func FindLogin(environment string) Login {
	words := strings.Fields(environment)
	if len(words) == 4 {
		from, err1 := netip.ParseAddrPort(net.JoinHostPort(words[0], words[1]))
		to, err2 := netip.ParseAddrPort(net.JoinHostPort(words[2], words[3]))
		if err1 == nil && err2 == nil {
			return Login{From: plainEnd(from), To: plainEnd(to), Device: to.Addr().Zone()}
		}
	}
	return processes("/proc").login(os.Getpid())
}

// IsLinkLocal reports whether the login comes from an address of the segment alone.
func (l Login) IsLinkLocal() bool {
	return l.To.IsValid() && (l.To.Addr().IsLinkLocalUnicast() || l.From.Addr().IsLinkLocalUnicast())
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
func (p processes) login(pid int) Login {
	terminal := p.terminal(pid)
	if terminal == "" || terminal == "console" {
		return Login{}
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
	return Login{Unknown: true}
}

// loginOf returns the connection of a process that somebody else began: one whose own end is a port that is listened on.
func (p processes) loginOf(pid int, connections map[string]streamOf) (Login, bool) {
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
			return Login{From: c.remote, To: c.local}, true
		}
	}
	return Login{}, false
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

// A streamOf is a TCP connection of the machine.
type streamOf struct {
	local, remote netip.AddrPort
	accepted      bool // its own end is a port that is listened on
}

// connections returns the established TCP connections of the machine, by the inodes of their sockets.
func (p processes) connections() map[string]streamOf {
	found, listens := map[string]streamOf{}, map[uint16]bool{}
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
				found[fields[9]] = streamOf{local: local, remote: remote}
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
