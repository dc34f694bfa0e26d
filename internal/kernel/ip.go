package kernel

import (
	"net"
	"net/netip"

	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
)

// An IPHeader is what is read of the header of a packet (RFC 791, RFC 8200). Extension headers of IPv6 are what follows.
type IPHeader struct {
	Source, Destination netip.Addr
	Protocol            byte   // of what follows
	Service             int    // which service it asks of the network (RFC 2474), 0 to 63
	Rest                []byte // what follows
}

// ParseIP reads the header with which a packet begins. ok is false where it is none, or not whole.
func ParseIP(b []byte) (h IPHeader, ok bool) {
	if len(b) == 0 {
		return h, false
	}
	switch b[0] >> 4 {
	case ipv4.Version:
		p, err := ipv4.ParseHeader(b)
		if err != nil || p.Len < ipv4.HeaderLen {
			return h, false
		}
		return IPHeader{fourOf(p.Src), fourOf(p.Dst), byte(p.Protocol), p.TOS >> 2, b[p.Len:]}, true
	case ipv6.Version:
		p, err := ipv6.ParseHeader(b)
		if err != nil {
			return h, false
		}
		source, _ := netip.AddrFromSlice(p.Src) // also one of IPv4 in IPv6
		destination, _ := netip.AddrFromSlice(p.Dst)
		return IPHeader{source, destination, byte(p.NextHeader), p.TrafficClass >> 2, b[ipv6.HeaderLen:]}, true
	}
	return h, false
}

// fourOf returns an address of IPv4.
func fourOf(ip net.IP) netip.Addr {
	a, _ := netip.AddrFromSlice(ip.To4())
	return a
}
