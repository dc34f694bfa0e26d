package gateway

import (
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/kernel"
	"hollowbridge/internal/portmap"
)

// A Kernel is a gateway that the kernel of the machine runs. The kernel decides, counts and
// remembers; what it does not say of a connection, by which interfaces and rules it goes, the
// engine says by the rules that are in force.
type Kernel struct {
	KernelOptions
	recorder Recorder

	mutex      sync.Mutex // of the machine
	machine    *kernel.Machine
	past       map[string]kernel.Counted // what counters had when the rules were replaced last
	opened     map[portmap.Shut]*network.Mapping
	mapped     engine.MappingTable // the same, for what the engine is asked
	maps       bool                // what is in force has the maps for them
	ready      ready
	middle     time.Time // until when connections go on that nobody saw begin; zero where that is over
	current    atomic.Pointer[engine.Gateway]
	guarded    guard
	shownTable atomic.Pointer[Table] // as it was when somebody asked last
	outside    holding
	stopped    chan struct{} // closed by Close

	asking   sync.Mutex
	known    connectionEnds
	counting counting
	watcher  *kernel.Watcher
	listener *kernel.Listener
	working  sync.WaitGroup
	closed   atomic.Bool
}

// KernelOptions say where a Kernel is.
type KernelOptions struct {
	Namespace int                             // as in kernel.OpenMachine
	Device    func(*network.Interface) string // what interfaces are called there; nil is kernel.DeviceOf
	Lab       bool                            // it is that of a lab: what the kernel can't do is left out, and said
	Trouble   func(error)
}

// NewKernel returns the gateway of a kernel. What is in force there stays so.
func NewKernel(recorder Recorder, o KernelOptions) (*Kernel, error) {
	namespace := o.Namespace
	k := &Kernel{KernelOptions: o, recorder: recorder, past: map[string]kernel.Counted{}, opened: map[portmap.Shut]*network.Mapping{}, stopped: make(chan struct{})}
	k.counting.rules = map[network.RuleID]*ofRule{}
	if k.Device == nil {
		k.Device = kernel.DeviceOf
	}
	var err error
	if k.machine, err = kernel.OpenMachine(namespace); err != nil {
		return nil, err
	}
	if owning {
		k.machine.Own()
	}
	if err = k.openOutside(); err == nil {
		if k.watcher, err = kernel.Watch(namespace); err == nil {
			if k.listener, err = kernel.Listen(namespace); err != nil {
				k.watcher.Close()
			}
		}
		if err != nil {
			k.closeOutside()
		}
	}
	if err != nil {
		k.machine.Close()
		return nil, err
	}
	k.working.Go(k.watch)
	k.working.Go(k.listen)
	k.working.Go(k.guards)
	k.working.Go(k.holds)
	k.working.Go(k.watchOutside)
	return k, nil
}

// Close is Backend's.
func (k *Kernel) Close() error {
	k.closed.Store(true)
	close(k.stopped)
	err := errors.Join(k.watcher.Close(), k.listener.Close(), k.outside.watcher.Close())
	k.working.Wait()
	return errors.Join(err, k.outside.addresses.Close(), k.machine.Close())
}

// Name is Backend's.
func (k *Kernel) Name() string { return "kernel" }

// compile makes the program of a gateway. It is kept for whoever puts it into force, unless mappings come or go meanwhile. The caller
// holds the mutex.
func (k *Kernel) compile(g *engine.Gateway) (*kernel.Program, []*kernel.Unable, error) {
	if k.ready.of != g {
		p, unable, err := kernel.Compile(g, kernel.Options{Device: k.Device, LeaveOut: k.Lab, Mappings: slices.Collect(maps.Values(k.opened)), Middle: !k.middle.IsZero()})
		if err != nil {
			return nil, nil, err
		}
		k.ready = ready{g, p, unable}
	}
	return k.ready.program, k.ready.unable, nil
}

// ready is a program that was compiled and is not in force.
type ready struct {
	of      *engine.Gateway
	program *kernel.Program
	unable  []*kernel.Unable
}

// Check is Backend's: what the kernel can't do is an error, and so is what the machine has
// otherwise than the file says, where rules would mean something else.
func (k *Kernel) Check(e *walk.Engine, g *engine.Gateway) (notes []string, err error) {
	var wrongs []string
	k.mutex.Lock()
	_, unable, err := k.compile(g)
	k.mutex.Unlock()
	if err != nil {
		wrongs = append(wrongs, err.Error())
	} else {
		for _, u := range unable {
			notes = append(notes, "left out: "+u.Error())
		}
	}
	if !k.Lab { // which was made of the file
		notes = append(notes, uncounted()...)
		host, err := kernel.ReadHost(k.Namespace)
		if err != nil {
			return nil, err
		}
		for _, d := range host.Compare(g.Gateway, k.Device) {
			if d.Matters {
				wrongs = append(wrongs, d.Text)
			} else {
				notes = append(notes, d.Text)
			}
		}
	}
	if len(wrongs) == 0 { // the devices are there
		said, wrong, err := k.checkOutside(&inForceOn{g, e}, time.Now())
		if err != nil {
			return nil, err
		}
		notes, wrongs = append(notes, said...), wrong
	}
	if len(wrongs) > 0 {
		return nil, errors.New(strings.Join(wrongs, "; "))
	}
	return notes, nil
}

// Differs says what the machine has otherwise than a gateway of the file.
func (k *Kernel) Differs(g *engine.Gateway) []string {
	list := []string{}
	if k.Lab { // which was made of the file
		return list
	}
	host, err := kernel.ReadHost(k.Namespace)
	if err != nil {
		return append(list, err.Error())
	}
	for _, d := range host.Compare(g.Gateway, k.Device) {
		list = append(list, d.Text)
	}
	return list
}

// Use is Backend's.
func (k *Kernel) Use(e *walk.Engine, g *engine.Gateway) error {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	if err := k.use(g); err != nil {
		return err
	}
	if err := k.settleOutside(&inForceOn{g, e}, time.Now()); err != nil { // the rules are in force by now
		k.Trouble(err)
	}
	if g.Handling.RestartsOnApply {
		if err := k.restart(g); err != nil {
			k.Trouble(err)
		}
	}
	return nil
}

// restart ends all sessions but the machine's own. The caller holds the mutex.
func (k *Kernel) restart(g *engine.Gateway) error {
	list, err := k.machine.Connections()
	if err != nil {
		return err
	}
	own := k.own(g)
	if !slices.ContainsFunc(list, func(t kernel.Tracked) bool { return isOwn(&t, own) }) {
		return k.machine.EndSessions()
	}
	for i := range list {
		if !isOwn(&list[i], own) {
			err = errors.Join(err, k.machine.End(&list[i]))
		}
	}
	return err
}

// isOwn reports whether a machine of some addresses has begun a connection itself. What is said to all on a link is kept for nobody else.
func isOwn(t *kernel.Tracked, own header.Addresses) bool {
	return own.Contains(t.Before.Source) || t.Before.Source.IsLinkLocalUnicast() && t.Before.Destination.IsMulticast()
}

// own returns the addresses of the machine itself.
func (k *Kernel) own(g *engine.Gateway) header.Addresses {
	own := []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8"), netip.MustParsePrefix("::1/128")}
	host, err := kernel.ReadHost(k.Namespace)
	if err != nil {
		k.Trouble(err)
		return g.Own().Union(header.AddressesOfPrefixes(own...))
	}
	for _, d := range host.Devices {
		for _, p := range d.Addresses {
			own = append(own, netip.PrefixFrom(p.Addr(), p.Addr().BitLen()))
		}
	}
	return g.Own().Union(header.AddressesOfPrefixes(own...))
}

// use puts a gateway into force. The caller holds the mutex.
func (k *Kernel) use(g *engine.Gateway) error {
	p, _, err := k.compile(g)
	if err != nil {
		return err
	}
	before, err := k.machine.Counters()
	if err != nil {
		return err
	}
	for _, c := range before {
		k.past[c.Name] = c
	}
	p.Resume(slices.Collect(maps.Values(k.past)))
	if err := k.machine.Apply(p); err != nil {
		return err
	}
	k.current.Store(g)
	k.maps, k.ready = p.HasMappings(), ready{}
	// It is in force by now, whatever goes wrong besides.
	k.beginCounting(g, p.Counters())
	if err := k.remember(); err != nil {
		k.Trouble(err)
	}
	return nil
}

// Clear is Backend's.
func (k *Kernel) Clear() error {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	k.current.Store(nil)
	k.maps = false
	return errors.Join(k.machine.Clear(), k.settleOutside(nil, time.Now()))
}

// AddressOf returns the address that an interface has on the machine: that of the file where it has
// that, else its first one.
func (k *Kernel) AddressOf(i *network.Interface, f header.Family) (a netip.Addr, ok bool) {
	host, err := kernel.ReadHost(k.Namespace)
	if err != nil {
		k.Trouble(err)
		return i.Address(f)
	}
	return host.AddressOf(k.Device(i), f, i)
}

// LinkOf returns the link address of a neighbor, empty where the machine does not know it.
func (k *Kernel) LinkOf(i *network.Interface, a netip.Addr) string {
	link, err := kernel.LinkOf(k.Namespace, k.Device(i), a)
	if err != nil {
		k.Trouble(err)
	}
	return link
}

// Open is Backend's.
func (k *Kernel) Open(open []*network.Mapping, shut []portmap.Shut) error {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	k.ready = ready{}
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

// fresh is how long a list of connections answers IsTaken: many are asked at once.
const fresh = time.Second

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

// sayAgain is how long nothing is said again of what comes faster than it is read: it is counted.
const sayAgain = time.Minute

// readAll does something with what the kernel sends by itself, until the backend is closed.
func readAll[T any](k *Kernel, what string, next func() ([]T, error), missed func(), do func(*engine.Gateway, []T)) {
	var said time.Time
	for {
		list, err := next()
		if k.closed.Load() {
			return
		}
		if isMissed := errors.Is(err, kernel.ErrMissed); err != nil {
			if !isMissed || time.Since(said) > sayAgain {
				said = time.Now()
				k.Trouble(fmt.Errorf("%s: %w", what, err))
			}
			if !isMissed {
				return
			}
			missed()
		}
		if g := k.current.Load(); g != nil {
			do(g, list)
		}
	}
}

// uncounted says of a machine that does not count what passes.
func uncounted() []string {
	if kernel.CountsSessions() {
		return nil
	}
	return []string{"the machine does not count the packets of sessions: sysctl net.netfilter.nf_conntrack_acct=1 makes it"}
}

// listen records what rules write into the kernel's log.
func (k *Kernel) listen() {
	names := map[int]string{}
	readAll(k, "reading the kernel's log", k.listener.Next, func() {}, func(g *engine.Gateway, lines []kernel.Line) {
		now := time.Now()
		for i := range lines {
			k.recorder.Record(k.event(g, &lines[i], now, names))
		}
	})
}

// event returns a line of the kernel's log as an event.
func (k *Kernel) event(g *engine.Gateway, l *kernel.Line, now time.Time, names map[int]string) Event {
	e := Event{Time: now, Gateway: g.Name, What: connectionEvent, Outcome: Passes}
	e.In, e.InDevice = k.interfaceOf(g, l.In, names)
	e.Out, e.OutDevice = k.interfaceOf(g, l.Out, names)
	where, name, isRule := strings.Cut(l.Mark, "/")
	switch {
	case l.Mark == kernel.ItselfMark:
		e.Outcome, e.Text = engine.Itself.String(), nothingRedirects
	case !isRule:
		e.Outcome, e.Text = engine.Dropped.String(), noRuleMatches
	default:
		e.Rule = l.Mark
	}
	if where == "nat" {
		e.Outcome, e.Text = Translated, filterComesAfter // what becomes of it, its rule does not know
		if l.Out != 0 {                                  // a rule for the source
			e.Text = filterCameBefore
		}
	}
	if where == "filter" {
		for _, r := range g.Filter {
			if r.Name != name {
				continue
			}
			e.Text = says(&r.Rule)
			switch r.Verb {
			case network.Drop:
				e.Outcome = engine.Dropped.String()
			case network.Reject:
				e.Outcome = engine.Rejected.String()
			}
		}
	}
	before := PacketOf(l.Before)
	e.Before = &before
	if e.Outcome == Passes || e.Outcome == Translated && l.Now != l.Before {
		after := PacketOf(l.Now)
		e.After = &after
	}
	return e
}

// interfaceOf returns the names of a device, ours and the machine's.
func (k *Kernel) interfaceOf(g *engine.Gateway, index int, names map[int]string) (ours, theirs string) {
	if index == 0 {
		return "", ""
	}
	if _, ok := names[index]; !ok {
		host, err := kernel.ReadHost(k.Namespace)
		if err != nil {
			k.Trouble(err)
			return "", ""
		}
		for _, d := range host.Devices {
			names[d.Index] = d.Name
		}
	}
	theirs = names[index]
	for _, i := range g.Interfaces {
		if k.Device(i) == theirs {
			return i.Name, theirs
		}
	}
	return theirs, theirs
}
