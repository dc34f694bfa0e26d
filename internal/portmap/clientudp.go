package portmap

import (
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"net"
	"net/netip"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/portmap/natpmp"
	"hollowbridge/internal/portmap/pcp"
)

// A schedule says when a request is sent again that nobody has answered.
type schedule struct {
	first, longest time.Duration
	times          int  // at most, 0 is on and on
	random         bool // a tenth more or less
}

// The schedules of the protocols (RFC 6887, 8.1.1; RFC 6886, 3.1).
var (
	schedulePCP    = schedule{3 * time.Second, 1024 * time.Second, 0, true}
	scheduleNATPMP = schedule{250 * time.Millisecond, time.Hour, 9, false}
)

// waits returns how long is waited for an answer after each time that a request is sent.
func (s schedule) waits(yield func(time.Duration) bool) {
	wait := s.first
	for n := 0; s.times == 0 || n < s.times; n++ {
		this := wait
		if s.random {
			this += time.Duration((rand.Float64()*0.2 - 0.1) * float64(wait))
		}
		if !yield(this) {
			return
		}
		wait = min(2*wait, s.longest)
	}
}

// source returns the address of this machine to ask from; invalid is the one that the kernel takes. A link-local gateway is asked from an
// address that is known beyond the link, where there is one: a mapping leads to it.
func (c *Client) source() netip.Addr {
	if c.From.IsValid() || c.Gateway.Zone() == "" {
		return c.From
	}
	device, err := net.InterfaceByName(c.Gateway.Zone())
	if err != nil {
		return c.From
	}
	addresses, _ := device.Addrs() // where there are none it is asked link-locally
	for _, a := range addresses {
		if p, err := netip.ParsePrefix(a.String()); err == nil && p.Addr().Is6() && !p.Addr().IsLinkLocalUnicast() {
			return p.Addr()
		}
	}
	return c.From
}

// exchange sends a request from a socket of its own until a function takes an answer, which must
// come from the gateway.
func (c *Client) exchange(ctx context.Context, by string, s schedule, request func(from netip.Addr) []byte, takes func([]byte) bool) error {
	dialer := net.Dialer{}
	if from := c.source(); from.IsValid() {
		dialer.LocalAddr = net.UDPAddrFromAddrPort(netip.AddrPortFrom(from, 0))
	}
	conn, err := dialer.DialContext(ctx, "udp", netip.AddrPortFrom(c.Gateway, c.Ports.PCP).String())
	if err != nil {
		return fmt.Errorf("%s: %w", by, err)
	}
	defer conn.Close()
	own, err := netip.ParseAddrPort(conn.LocalAddr().String())
	if err != nil {
		return err
	}
	data := request(own.Addr().WithZone(""))
	defer context.AfterFunc(ctx, func() { conn.SetReadDeadline(time.Now()) })()
	answer := make([]byte, pcp.MostSize+4)
	refusals := 0
	for wait := range s.waits {
		until := time.Now().Add(wait)
		_, err := conn.Write(data)
		for err == nil {
			conn.SetReadDeadline(until)
			if ctx.Err() != nil { // which may have come just before
				break
			}
			var n int
			if n, err = conn.Read(answer); err == nil && takes(answer[:n]) {
				return nil
			}
		}
		if errors.Is(err, syscall.ECONNREFUSED) { // it may be about to start
			if refusals++; refusals > 1 {
				return &Unanswered{by, c.Gateway, true}
			}
			until = time.Now().Add(200 * time.Millisecond)
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Until(until)):
		}
		if ctx.Err() != nil { // it is not asked once more
			return &Unanswered{by, c.Gateway, false}
		}
	}
	return &Unanswered{by, c.Gateway, false}
}

// advicePCP is what to do about a refusal.
var advicePCP = map[pcp.Result]string{
	pcp.UnsupportedVersion: "it does not speak PCP; try -by nat-pmp", pcp.NotAuthorized: "its rules do not let this machine have it, or it is somebody else's; its administrator can tell with mapping try",
	pcp.UnsupportedOption: "it does not know an option; ask without -machine, -exact or -only", pcp.NetworkFailure: "it has no outside address now; try again when its uplink is there",
	pcp.NoResources: "it has no port left, or no room; try again later", pcp.UnsupportedProtocol: "it maps tcp and udp ports only",
	pcp.UserExceedsQuota: "this machine has as many as it may have; take one away with mapping remove", pcp.CannotProvideExternal: "that port is taken; ask without -exact, or for another one with -outside",
	pcp.AddressMismatch: "another NAT is between this machine and the gateway; name the nearer one with -gateway", pcp.ExcessiveRemotePeers: "it takes fewer senders; name fewer with -only",
}

func (c *Client) addPCP(ctx context.Context, a Ask) (*Got, error) {
	m := &pcp.Message{
		Opcode: pcp.Map, Lifetime: uint32(min(a.Lifetime/time.Second, math.MaxUint32)), Nonce: c.nonce(&a), Protocol: uint8(a.Protocol), InternalPort: a.Port,
		ExternalPort: a.Outside, PreferFailure: a.Exact && a.Lifetime > 0,
	}
	if a.Peer.IsValid() {
		m.Opcode, m.Peer, m.PeerPort, m.PreferFailure = pcp.Peer, a.Peer.Addr(), a.Peer.Port(), false
	}
	for _, p := range a.Only {
		m.Filters = append(m.Filters, pcp.Filter{From: p})
	}
	if a.Lifetime == 0 {
		m.ExternalPort, m.Filters = 0, nil
	}
	got, own, err := c.askPCP(ctx, m, a.Machine)
	if err != nil {
		return nil, err
	}
	inside := own
	if a.Machine.IsValid() {
		inside = a.Machine
	}
	return &Got{By: network.PCP, Protocol: a.Protocol, Outside: netip.AddrPortFrom(got.External, got.ExternalPort), Inside: netip.AddrPortFrom(inside, a.Port), Lifetime: time.Duration(got.Lifetime) * time.Second, Epoch: got.Epoch}, nil
}

// askPCP sends a message and returns its answer.
func (c *Client) askPCP(ctx context.Context, m *pcp.Message, machine netip.Addr) (got *pcp.Message, own netip.Addr, err error) {
	var denied error
	err = c.exchange(ctx, network.PCP, schedulePCP, func(from netip.Addr) []byte {
		own = from
		m.Client = from
		if machine.IsValid() && machine != from {
			m.Party = machine
		}
		if m.External = netip.IPv4Unspecified(); from.Is6() {
			m.External = netip.IPv6Unspecified()
		}
		return m.Append(nil)
	}, func(data []byte) bool {
		answer, err := pcp.ParseResponse(data)
		switch {
		case answer != nil && answer.Result == pcp.UnsupportedVersion:
		case err != nil || answer.Opcode != m.Opcode:
			return false
		case answer.Opcode != pcp.Announce && (answer.Nonce != m.Nonce || answer.Protocol != m.Protocol || answer.InternalPort != m.InternalPort):
			return false // it answers something else
		}
		got = answer
		if got.Result != pcp.Success {
			denied = &Denied{By: network.PCP, Code: got.Result.String(), Advice: advicePCP[got.Result], Lasts: time.Duration(got.Lifetime) * time.Second}
		}
		return true
	})
	return got, own, errors.Join(err, denied)
}

// findPCP asks whether a gateway speaks PCP, which tells its outside address only with a mapping.
func (c *Client) findPCP(ctx context.Context) (Found, error) {
	got, _, err := c.askPCP(ctx, &pcp.Message{Opcode: pcp.Announce}, netip.Addr{})
	if err != nil {
		return Found{}, err
	}
	return Found{Gateway: c.Gateway, By: network.PCP, Epoch: got.Epoch}, nil
}

// adviceNATPMP is what to do about a refusal.
var adviceNATPMP = map[natpmp.Result]string{
	natpmp.UnsupportedVersion: "it does not speak NAT-PMP; try -by pcp", natpmp.NotAuthorized: advicePCP[pcp.NotAuthorized],
	natpmp.NetworkFailure: advicePCP[pcp.NetworkFailure], natpmp.OutOfResources: "it has no port left, or this machine has as many as it may have",
	natpmp.UnsupportedOpcode: "it does not map that",
}

func (c *Client) addNATPMP(ctx context.Context, a Ask) (*Got, error) {
	if a.Machine.IsValid() || a.Peer.IsValid() || len(a.Only) > 0 || c.Gateway.Is6() || a.Exact {
		return nil, fmt.Errorf("nat-pmp %w: it knows no other machines, no senders, no exact port and no IPv6", ErrCannot)
	}
	request := natpmp.Request{Opcode: natpmp.MapTCP, Port: a.Port, Wished: a.Outside, Lifetime: uint32(min(a.Lifetime/time.Second, math.MaxUint32))}
	if a.Protocol == header.UDP {
		request.Opcode = natpmp.MapUDP
	}
	if request.Wished == 0 {
		request.Wished = a.Port
	}
	if a.Lifetime == 0 {
		request.Wished = 0
	}
	var external natpmp.Response
	if a.Lifetime > 0 {
		var err error
		if external, _, err = c.askNATPMP(ctx, natpmp.Request{Opcode: natpmp.ExternalAddress}); err != nil {
			return nil, err // before there is a mapping that nobody knows of
		}
	}
	answer, own, err := c.askNATPMP(ctx, request)
	if err != nil || a.Lifetime == 0 {
		return nil, err
	}
	return &Got{By: network.NATPMP, Protocol: a.Protocol, Outside: netip.AddrPortFrom(external.External, answer.Mapped), Inside: netip.AddrPortFrom(own, a.Port), Lifetime: time.Duration(answer.Lifetime) * time.Second, Epoch: answer.Epoch}, nil
}

func (c *Client) askNATPMP(ctx context.Context, r natpmp.Request) (got natpmp.Response, own netip.Addr, err error) {
	var denied error
	err = c.exchange(ctx, network.NATPMP, scheduleNATPMP, func(from netip.Addr) []byte {
		own = from
		return r.Append(nil)
	}, func(data []byte) bool {
		answer, err := natpmp.ParseResponse(data)
		switch {
		case err != nil && answer.Result == natpmp.UnsupportedVersion:
		case err != nil || answer.Opcode != r.Opcode || r.Opcode != natpmp.ExternalAddress && answer.Port != r.Port:
			return false
		}
		got = answer
		if got.Result != natpmp.Success {
			denied = &Denied{By: network.NATPMP, Code: got.Result.String(), Advice: adviceNATPMP[got.Result]}
		}
		return true
	})
	return got, own, errors.Join(err, denied)
}

func (c *Client) findNATPMP(ctx context.Context) (Found, error) {
	if c.Gateway.Is6() {
		return Found{}, fmt.Errorf("nat-pmp %w: it knows no IPv6", ErrCannot)
	}
	got, _, err := c.askNATPMP(ctx, natpmp.Request{Opcode: natpmp.ExternalAddress})
	if err != nil {
		return Found{}, err
	}
	return Found{Gateway: c.Gateway, By: network.NATPMP, External: got.External, Epoch: got.Epoch}, nil
}

// Lost tells when a gateway says that it has lost its mappings, or that its outside address is
// another, as it does by PCP and NAT-PMP to all hosts when it starts (RFC 6887, 14.1.3; RFC 6886,
// 3.2.1): then the mapping that is held is to be asked for anew. It listens until the context
// ends; where it can't, nothing is told.
func (c *Client) Lost(ctx context.Context, held *atomic.Pointer[Got]) <-chan struct{} {
	lost := make(chan struct{}, 1)
	granted := held.Load()
	if granted.By == network.IGD || c.Gateway.Is6() {
		return lost
	}
	config := net.ListenConfig{Control: func(_, _ string, conn syscall.RawConn) error {
		var failure error
		err := conn.Control(func(fd uintptr) {
			if failure = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEADDR, 1); failure == nil {
				failure = unix.SetsockoptIPMreq(int(fd), unix.IPPROTO_IP, unix.IP_ADD_MEMBERSHIP, &unix.IPMreq{Multiaddr: allHosts4.As4(), Interface: granted.Inside.Addr().As4()})
			}
		})
		return errors.Join(err, failure)
	}}
	packet, err := config.ListenPacket(ctx, "udp4", netip.AddrPortFrom(netip.IPv4Unspecified(), noticePort).String())
	if err != nil {
		return lost
	}
	conn := packet.(*net.UDPConn)
	go func() {
		<-ctx.Done()
		conn.Close()
	}()
	go func() {
		data := make([]byte, pcp.MostSize+1)
		for {
			n, from, err := conn.ReadFromUDPAddrPort(data)
			if err != nil {
				return
			}
			if from.Addr().Unmap() != c.Gateway || from.Port() != c.Ports.PCP {
				continue
			}
			if granted := held.Load(); isLost(granted, data[:n], int64(time.Since(granted.At)/time.Second)) {
				select {
				case lost <- struct{}{}:
				default:
				}
			}
		}
	}()
	return lost
}

// isLost reports whether a notice says that a mapping is lost which was granted some seconds before.
func isLost(granted *Got, notice []byte, ago int64) bool {
	if m, err := pcp.ParseResponse(notice); err == nil && m.Opcode == pcp.Announce && m.Result == pcp.Success {
		var e pcp.Epochs
		e.Lost(granted.Epoch, 0)
		return e.Lost(m.Epoch, ago)
	}
	if r, err := natpmp.ParseResponse(notice); err == nil && r.Opcode == natpmp.ExternalAddress && r.Result == natpmp.Success {
		return natpmp.Lost(granted.Epoch, r.Epoch, ago) || r.External != granted.Outside.Addr()
	}
	return false
}
