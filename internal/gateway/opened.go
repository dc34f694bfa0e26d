package gateway

import (
	"errors"
	"maps"
	"net/netip"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/portmap"
)

// Open is Backend's.
func (k *Kernel) Open(open []*network.Mapping, shut []portmap.Shut) error {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	k.outdate()
	var out []*network.Mapping
	for _, s := range shut {
		if m := k.opened[s]; m != nil {
			out = append(out, m)
		}
	}
	for _, m := range open {
		if before := k.opened[portmap.Shut{Protocol: m.Protocol, Outside: m.Outside}]; before != nil {
			out = append(out, before)
		}
	}
	if k.maps {
		err := k.machine.OpenMappings(out, open)
		if errors.Is(err, unix.ENOENT) { // the kernel has timed one out itself
			after := maps.Clone(k.opened)
			for _, s := range shut {
				delete(after, s)
			}
			for _, m := range open {
				after[portmap.Shut{Protocol: m.Protocol, Outside: m.Outside}] = m
			}
			err = k.machine.ReplaceMappings(slices.Collect(maps.Values(after)))
		}
		if err != nil {
			return err
		}
	}
	for _, s := range shut {
		delete(k.opened, s)
		k.mapped.Remove(s.Protocol, s.Outside)
	}
	for _, m := range open {
		k.opened[portmap.Shut{Protocol: m.Protocol, Outside: m.Outside}] = m
		k.mapped.Put(m)
	}
	return nil
}

// ends returns the ends that connections have outside, as they were a moment ago.
func (k *Kernel) ends() *connectionEnds {
	k.asking.Lock()
	defer k.asking.Unlock()
	if time.Since(k.known.at) < fresh {
		return &k.known
	}
	k.known = connectionEnds{at: time.Now(), outside: map[protocolEnd]bool{}}
	list, err := k.connections()
	if err != nil {
		k.Trouble(err)
	}
	for i := range list {
		t := &list[i]
		k.known.outside[protocolEnd{t.Before.Protocol, netip.AddrPortFrom(t.After.Source, t.After.SourcePort)}] = true
	}
	return &k.known
}

type protocolEnd struct {
	protocol header.Protocol
	at       netip.AddrPort
}

type connectionEnds struct {
	at      time.Time
	outside map[protocolEnd]bool
}

// Bound is Backend's.
func (k *Kernel) Bound(protocol header.Protocol, inside netip.AddrPort, outside netip.Addr) (port uint16, ok bool) {
	list, err := k.connectionsFrom(protocol, inside)
	if err != nil {
		k.Trouble(err)
	}
	for i := range list {
		if t := &list[i]; t.After.Source == outside && t.Before.Protocol == protocol && netip.AddrPortFrom(t.Before.Source, t.Before.SourcePort) == inside { // a kernel before 5.8 picks none out
			port, ok = t.After.SourcePort, true
		}
	}
	return port, ok
}

// IsTaken is Backend's.
func (k *Kernel) IsTaken(protocol header.Protocol, outside netip.AddrPort) bool {
	return k.ends().outside[protocolEnd{protocol, outside}]
}
