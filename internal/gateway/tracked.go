package gateway

import (
	"net/netip"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/kernel"
)

// Count is Backend's.
func (k *Kernel) Count() int {
	n, err := kernel.ConnectionCount(k.Namespace)
	if err != nil {
		k.Trouble(err)
	}
	return n
}

// Sessions is Backend's.
func (k *Kernel) Sessions(f *Filter, each func(*Session) bool) error {
	g := k.current.Load()
	if g == nil {
		return nil
	}
	list, err := k.connections()
	if err != nil {
		return err
	}
	own := k.own(g)
	for i := range list {
		t := &list[i]
		if !f.matches(t.Before, t.After) {
			continue
		}
		s := k.session(g, t)
		if s.Own = isOwn(t, own); !f.matchesRules(&s) || each(&s) {
			continue
		}
		break
	}
	return nil
}

// Hidden is Backend's.
func (k *Kernel) Hidden(each func(Hidden)) error {
	list, err := k.connections()
	for i := range list {
		if t := &list[i]; isHidden(t.Before, t.After) {
			each(hiddenOf(t.Before, t.After))
		}
	}
	return err
}

func (k *Kernel) connectionsFrom(protocol header.Protocol, inside netip.AddrPort) ([]kernel.Tracked, error) {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	return k.machine.ConnectionsFrom(protocol, inside)
}

func (k *Kernel) connections() ([]kernel.Tracked, error) {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	return k.machine.Connections()
}

// session returns a connection of the kernel for the wire.
func (k *Kernel) session(g *engine.Gateway, t *kernel.Tracked) Session {
	d := k.decide(g, t)
	s := Session{
		Gateway: g.Name, Number: uint64(t.ID), Before: PacketOf(t.Before), After: PacketOf(t.After), State: t.State,
		Redirect: nameOf(d.Redirect), Permit: nameOf(d.Permit), Source: nameOf(d.Source),
		Age: -1, Idle: -1, Left: t.Left.Seconds(), Forth: counted(t.Forth), Back: counted(t.Back),
	}
	if !t.Began.IsZero() {
		s.Age = time.Since(t.Began).Seconds()
	}
	if in := cameBy(g, t); in != nil {
		s.In, s.InZone = in.Name, in.Zone
	}
	out := d.Out
	if d.Action == engine.Stops { // by the rules of now
		out = g.OutTo(t.After.Destination)
	}
	if out != nil {
		s.Out, s.OutZone = out.Name, out.Zone
	}
	return s
}

func counted(c kernel.Counted) Count { return Count{int64(c.Packets), int64(c.Bytes)} }

// cameBy returns the interface that a connection came in by: the uplink that its mark names, or
// the one that leads back; nil for one of the machine's own.
func cameBy(g *engine.Gateway, t *kernel.Tracked) *network.Interface {
	if list := g.Stays(); t.Uplink() > 0 && t.Uplink() <= len(list) {
		return list[t.Uplink()-1]
	}
	return g.OutTo(t.Before.Source)
}

// decide says by which rules a connection goes, by those that are in force.
func (k *Kernel) decide(g *engine.Gateway, t *kernel.Tracked) engine.Decision {
	in := cameBy(g, t)
	if in == nil {
		return engine.Decision{Action: engine.Stops}
	}
	var log engine.Log
	return *g.Decide(&engine.Arrival{In: in, Packet: t.Before, At: g.MomentAt(time.Now())}, &again{t.After, &k.mapped}, &log)
}

// End is Backend's.
func (k *Kernel) End(numbers map[uint64]bool) (int, error) {
	list, err := k.connections()
	if err != nil {
		return 0, err
	}
	k.mutex.Lock()
	defer k.mutex.Unlock()
	ended := 0
	for i := range list {
		if !numbers[uint64(list[i].ID)] {
			continue
		}
		if err := k.machine.End(&list[i]); err != nil {
			return ended, err
		}
		ended++
	}
	return ended, nil
}
