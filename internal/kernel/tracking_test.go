package kernel

import (
	"net"
	"net/netip"
	"testing"

	"github.com/mdlayher/netlink"
	"golang.org/x/sys/unix"

	"hollowbridge/core/header"
)

// message is what the kernel sends of a connection.
func message(f *testing.F, encode func(*netlink.AttributeEncoder)) []byte {
	data, err := body(unix.AF_INET, 0, encode)
	if err != nil {
		f.Fatal(err)
	}
	return data
}

func encodeTuple(from, to netip.Addr, sport, dport uint16) func(*netlink.AttributeEncoder) error {
	return func(e *netlink.AttributeEncoder) error {
		e.Nested(tupleAddresses, func(e *netlink.AttributeEncoder) error {
			e.Bytes(source4, from.AsSlice())
			e.Bytes(destination4, to.AsSlice())
			return nil
		})
		e.Nested(tupleProtocol, func(e *netlink.AttributeEncoder) error {
			e.Uint8(tupleNumber, unix.IPPROTO_TCP)
			e.Uint16(sourcePort, sport)
			e.Uint16(destPort, dport)
			return nil
		})
		return nil
	}
}

// Whatever the kernel sends of a connection, it is read or refused; what it really sends is read.
func FuzzConnections(f *testing.F) {
	client, outside, host := netip.MustParseAddr("203.0.113.7"), netip.MustParseAddr("198.51.100.18"), netip.MustParseAddr("10.61.24.5")
	real := message(f, func(e *netlink.AttributeEncoder) {
		e.Nested(attrOriginal, encodeTuple(client, outside, 40000, 443))
		e.Nested(attrReply, encodeTuple(host, client, 8443, 40000))
		e.Uint32(attrStatus, statusAnswered)
		e.Nested(attrProtocol, func(e *netlink.AttributeEncoder) error {
			e.Nested(tcpInfo, func(e *netlink.AttributeEncoder) error {
				e.Uint8(tcpState, 3)
				return nil
			})
			return nil
		})
		e.Uint32(attrTimeout, 60)
		e.Uint32(attrMark, 0x20)
		e.Uint32(attrID, 77)
		e.Nested(attrCountTo, func(e *netlink.AttributeEncoder) error {
			e.Uint64(countedPackets, 5)
			e.Uint64(countedBytes, 500)
			return nil
		})
	})
	c, ok, err := connectionOf(netlink.Message{Data: real})
	before := header.Packet{Source: client, Destination: outside, SourcePort: 40000, DestinationPort: 443, Protocol: header.TCP}
	after := header.Packet{Source: client, Destination: host, SourcePort: 40000, DestinationPort: 8443, Protocol: header.TCP}
	if err != nil || !ok || c.Before != before || c.After != after || c.State != "established" || c.Uplink() != 2 || c.ID != 77 || c.Forth != (Counted{Packets: 5, Bytes: 500}) || c.Left.Seconds() != 60 {
		f.Fatalf("%+v, %v, %v", c, ok, err)
	}
	f.Add(real)
	f.Fuzz(func(t *testing.T, data []byte) {
		if c, ok, err := connectionOf(netlink.Message{Data: data}); err == nil && ok && (!c.Before.Source.IsValid() || !c.After.Source.IsValid()) {
			t.Errorf("%+v", c)
		}
	})
}

// Whatever stands in the kernel's log, it is read or passed over.
func FuzzLines(f *testing.F) {
	four := append([]byte{0x45, 0, 0, 40, 0, 0, 0, 0, 64, 6, 0, 0, 203, 0, 113, 7, 198, 51, 100, 18}, 0x9c, 0x40, 1, 0xbb)
	six := make([]byte, 48)
	six[0], six[6], six[40], six[41], six[44] = 0x60, unix.IPPROTO_ICMPV6, 128, 0, 7
	for name, data := range map[string][]byte{"203.0.113.7:40000 198.51.100.18:443": four, ":: ::": six} {
		p, ok := headerOf(data)
		if !ok || p.From()+" "+p.To() != name {
			f.Fatalf("%+v, not %s", p, name)
		}
		f.Add(message(f, func(e *netlink.AttributeEncoder) {
			e.Bytes(attrPayload, data)
			e.String(attrPrefix, "filter/web")
			e.Uint32(attrInDevice, 3)
		}))
		f.Add(data)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		if line, ok := lineOf(netlink.Message{Data: data}); ok && !line.Now.Source.IsValid() {
			t.Errorf("%+v", line)
		}
		if p, ok := headerOf(data); ok && !p.Source.IsValid() {
			t.Errorf("%+v", p)
		}
	})
}

// Whatever neighbors send, it is read or passed over; what we say ourselves is read as it is meant.
func FuzzNeighbors(f *testing.F) {
	w := wire{Interface: net.Interface{HardwareAddr: net.HardwareAddr{2, 0, 0, 0, 0, 7}}}
	for _, a := range []netip.Addr{netip.MustParseAddr("198.51.100.20"), netip.MustParseAddr("2001:db8:61::20")} {
		for _, say := range []func(netip.Addr) ([]byte, net.HardwareAddr, error){w.probe, w.announcement} {
			data, _, err := say(a)
			if err != nil {
				f.Fatal(err)
			}
			read := saidByARP
			if a.Is6() {
				read = saidByNeighbor
			}
			if got, link := read(data); got != a || a.Is4() && link.String() != w.HardwareAddr.String() {
				f.Errorf("%s is read as %s of %s", a, got, link)
			}
			f.Add(data)
		}
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		saidByARP(data)
		saidByNeighbor(data)
		addressOf(data)
	})
}
