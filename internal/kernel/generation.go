package kernel

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"

	"github.com/mdlayher/netlink"
	"golang.org/x/sys/unix"
)

// Generation returns the number of the packet tables' state, which is another one after every change that anybody makes of any
// table. It costs next to nothing to ask.
func (m *Machine) Generation() (uint32, error) {
	data, err := body(unix.AF_UNSPEC, 0, nil)
	if err != nil {
		return 0, err
	}
	answers, err := m.conn.Execute(netlink.Message{
		Header: netlink.Header{Type: typeOf(unix.NFNL_SUBSYS_NFTABLES, unix.NFT_MSG_GETGEN), Flags: netlink.Request}, Data: data,
	})
	if err != nil {
		return 0, fmt.Errorf("the kernel's packet tables: %w", err)
	}
	var number uint32
	for _, a := range answers {
		if err := decode(a, func(d *netlink.AttributeDecoder) {
			if d.Type() == unix.NFTA_GEN_ID {
				number = d.Uint32()
			}
		}); err != nil {
			return 0, err
		}
	}
	return number, nil
}

// A Digest is what the chains and rules of our table say, in a few bytes; the zero Digest is that of no table.
type Digest [sha256.Size]byte

// Digest returns that of what stands in our table on the machine. What rules count, and the mappings, are not in it.
func (m *Machine) Digest() (Digest, error) {
	sum, found := sha256.New(), false
	for _, kind := range []struct {
		message, table uint16
		passed         map[uint16]bool // what the kernel numbers, or counts
	}{
		{unix.NFT_MSG_GETCHAIN, unix.NFTA_CHAIN_TABLE, map[uint16]bool{unix.NFTA_CHAIN_HANDLE: true, unix.NFTA_CHAIN_USE: true, unix.NFTA_CHAIN_COUNTERS: true}},
		{unix.NFT_MSG_GETRULE, unix.NFTA_RULE_TABLE, map[uint16]bool{unix.NFTA_RULE_HANDLE: true, unix.NFTA_RULE_POSITION: true}},
	} {
		data, err := body(unix.NFPROTO_INET, 0, func(e *netlink.AttributeEncoder) { e.String(kind.table, Table) })
		if err != nil {
			return Digest{}, err
		}
		answers, err := m.dump(int(kind.message), data)
		if err != nil {
			return Digest{}, err
		}
		for _, a := range answers {
			ours, part := false, []byte(nil)
			if err := decode(a, func(d *netlink.AttributeDecoder) {
				if d.Type() == kind.table && d.String() == Table {
					ours = true
				}
				if !kind.passed[d.Type()] {
					part = binary.BigEndian.AppendUint16(part, d.Type())
					part = binary.BigEndian.AppendUint32(part, uint32(len(d.Bytes())))
					part = append(part, d.Bytes()...)
				}
			}); err != nil {
				return Digest{}, err
			}
			if ours {
				found = true
				sum.Write(part)
			}
		}
	}
	if !found {
		return Digest{}, nil
	}
	return Digest(sum.Sum(nil)), nil
}
