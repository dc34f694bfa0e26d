package gateway

import (
	"errors"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

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
//
// Its methods may be called by many goroutines. What changes the machine's rules waits for what does (mutex); nobody holds that while a
// program is compiled, but where mappings came while one was. Count, Missed, Table and Before do not wait for it.
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
	outdated   int       // how many times programs that were compiled before became of no use
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

// getReady compiles the program of a gateway, and keeps it for whoever puts it into force next. Nobody waits for that but the caller: where
// mappings come or go meanwhile, it is thrown away.
func (k *Kernel) getReady(g *engine.Gateway) ([]*kernel.Unable, error) {
	k.mutex.Lock()
	ready, from := k.ready, k.sources()
	k.mutex.Unlock()
	if ready.of == g {
		return ready.unable, nil
	}
	ready, err := readyOf(g, from)
	if err != nil {
		return nil, err
	}
	k.mutex.Lock()
	defer k.mutex.Unlock()
	if ready.number == k.outdated {
		k.ready = ready
	}
	return ready.unable, nil
}

// sources are what a program is made of beside its gateway. The caller holds the mutex.
func (k *Kernel) sources() sources {
	return sources{kernel.Options{Device: k.Device, LeaveOut: k.Lab, Mappings: slices.Collect(maps.Values(k.opened)), Middle: !k.middle.IsZero()}, k.outdated}
}

type sources struct {
	options kernel.Options
	number  int // of times that they have changed
}

// ready is a program that was compiled and is not in force.
type ready struct {
	of      *engine.Gateway
	program *kernel.Program
	unable  []*kernel.Unable
	number  int // of its sources
}

func readyOf(g *engine.Gateway, from sources) (ready, error) {
	p, unable, err := kernel.Compile(g, from.options)
	return ready{g, p, unable, from.number}, err
}

// outdate says that the sources of programs have changed. The caller holds the mutex.
func (k *Kernel) outdate() {
	k.ready = ready{}
	k.outdated++
}

// Check is Backend's: what the kernel can't do is an error, and so is what the machine has
// otherwise than the file says, where rules would mean something else.
func (k *Kernel) Check(e *walk.Engine, g *engine.Gateway) (notes []string, err error) {
	var wrongs []string
	unable, err := k.getReady(g)
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
	if _, err := k.getReady(g); err != nil {
		return err
	}
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
	if k.ready.of != g {
		var err error
		if k.ready, err = readyOf(g, k.sources()); err != nil {
			return err
		}
	}
	p := k.ready.program
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

// fresh is how long a list of connections answers IsTaken: many are asked at once.
const fresh = time.Second

// sayAgain is how long nothing is said again of what comes faster than it is read: it is counted.
const sayAgain = time.Minute
