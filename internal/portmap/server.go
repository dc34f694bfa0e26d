package portmap

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"sync"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// Ports are where a server listens and announces, other than the standards' own.
type Ports struct{ PCP, SSDP, HTTP uint16 }

// StandardPorts are those of the standards, and the one of this program for descriptions.
var StandardPorts = Ports{network.PCPPort, network.SSDPPort, network.IGDPort}

// Options are what a server is made of. All functions are called one at a time.
type Options struct {
	Gateway  string                                                          // its name
	Program  string                                                          // its version
	Ports    Ports                                                           //
	Loopback bool                                                            // listen on loopback instead, see onLoopback
	Within   func(do func() error) error                                     // does something where the gateway's sockets are; nil is here
	Device   func(*network.Interface) string                                 // what an interface is called there; nil: sockets are bound to none
	External func(*network.Interface, header.Family) (a netip.Addr, ok bool) // its address now; nil: as the file says
	Records  []Record                                                        // what was kept
	Epoch    time.Time                                                       // since when the mappings are known
	SetEpoch func(time.Time) error                                           // keeps that
	Apply    func(open []*network.Mapping, shut []Shut) error                // puts mappings into force, and takes them out
	Save     func(changed []Record, gone []uint64) error                     // keeps them
	// Bound returns the outside port that sessions of a machine's port have, and IsTaken says
	// whether somebody's sessions have one.
	Bound   func(protocol header.Protocol, inside netip.AddrPort, outside netip.Addr) (port uint16, ok bool)
	IsTaken func(protocol header.Protocol, outside netip.AddrPort) bool
	Packets func(mapping string) (int64, error) // how many packets have come by a mapping; it is called beside the others
	Record  func(Happening)
	Trouble func(error)
	Link    func(*network.Interface, netip.Addr) string         // the link address of a neighbor, empty where it is not known
	Host    func(netip.Addr) string                             // the name of the file's host that has an address, empty where none has
	Seen    map[string]time.Time                                // machines that were seen before, and since when
	Blocked []Blocked                                           // machines that get nothing
	Block   func([]Blocked) error                               // keeps which those are, all of them
	See     func(key string, at time.Time, gone []string) error // keeps that one was seen, and forgets some
}

// A Shut mapping is one that is there no longer.
type Shut struct {
	Protocol header.Protocol
	Outside  netip.AddrPort
}

// A Happening is something that happened to a mapping, or that somebody wished for.
type Happening struct {
	Outcome string // asked, granted, renewed, refused, ended
	Mapping string // its name, empty where there is none
	In      string // the interface by which who asked is reached
	Text    string
}

// Outcomes of happenings.
const (
	Asked   = "asked"
	Granted = "granted"
	Renewed = "renewed"
	Refused = "refused"
	Ended   = "ended"
)

// Outcomes lists them.
var Outcomes = []string{Asked, Granted, Renewed, Refused, Ended}

// A Server answers programs that ask a gateway for mappings. Its methods may be called by many
// goroutines.
type Server struct {
	options Options
	now     func() time.Time

	mutex   sync.Mutex
	setting *setting // nil where mappings are off
	table   *table
	epoch   time.Time
	boot    uint32 // of the UPnP device, grows with each start and each change of the address
	waiting map[waitKey]*waitingWish
	number  uint64 // of the latest that waits
	limits  limiter
	fresh   []*entry // granted since the last flush
	seen    map[string]time.Time
	blocked map[string]Blocked // by machine

	postponed int    // requests, see isOpen
	changes   uint32 // of mappings, since the start (WANIPConnection:2, 2.3.24)

	listeners listeners
	events    eventing
	stop      context.CancelFunc
	ctx       context.Context
	working   sync.WaitGroup
}

// NewServer returns a server that has the mappings that were kept, but lets nobody ask yet; Use does.
func NewServer(o Options) *Server {
	v := &Server{options: o, now: time.Now, table: newTable(), epoch: o.Epoch, boot: uint32(time.Now().Unix()), waiting: map[waitKey]*waitingWish{}, seen: map[string]time.Time{}, blocked: map[string]Blocked{}}
	maps.Copy(v.seen, o.Seen)
	for _, b := range o.Blocked {
		v.blocked[b.Machine] = b
	}
	v.ctx, v.stop = context.WithCancel(context.Background())
	v.events.init(v)
	for _, r := range o.Records {
		v.table.add(r)
	}
	clear(v.table.changed)
	v.working.Go(v.keepTime)
	return v
}

// Use makes the server that of a revision. Mappings that it does not allow end. Where a gateway has
// no mappings, nothing listens any more.
func (v *Server) Use(g *engine.Gateway) error {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	now := v.now()
	if g == nil || g.Mappings == nil {
		if v.setting != nil || len(v.table.numbers) > 0 {
			v.endThose("the gateway has no mappings any more", func(*entry) bool { return true })
		}
		v.waiting = map[waitKey]*waitingWish{}
		err := v.flush(now)
		v.setting = nil
		v.listen(nil)
		return err
	}
	s := &setting{gateway: g, policy: g.Mappings, external: g.Mappings.External, free: map[portKey]*[65536 / 64]uint64{}}
	s.address = v.addresses(s.external)
	first := v.setting == nil
	v.setting = s
	v.endThose("the rules do not allow it any more", func(e *entry) bool { return !v.allows(s, e) })
	for key := range v.table.slots { // the interfaces are others
		v.table.dirty[key] = true
	}
	err := v.flush(now)
	v.listen(s)
	if first {
		v.announce()
	}
	v.events.change()
	return err
}

// Ends returns how many mappings end when a revision comes into force.
func (v *Server) Ends(g *engine.Gateway) int {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	if g == nil || g.Mappings == nil {
		return len(v.table.numbers)
	}
	s := &setting{gateway: g, policy: g.Mappings, external: g.Mappings.External, free: map[portKey]*[65536 / 64]uint64{}}
	s.address = v.addresses(s.external)
	ends := 0
	for _, e := range v.table.numbers {
		if !v.allows(s, e) {
			ends++
		}
	}
	return ends
}

// allows reports whether a mapping that is there could be had today.
func (v *Server) allows(s *setting, e *entry) bool {
	w := wish{by: e.By, asker: e.Owner, machine: e.Inside.Addr(), protocol: e.Protocol, port: e.Inside.Port()}
	r, no := s.rule(&w)
	if no != nil || !r.Ports.Contains(e.Outside.Port()) {
		return false
	}
	if e.Inside.Addr().Is6() {
		return s.address[header.IPv6].IsValid()
	}
	return e.Outside.Addr() == s.address[header.IPv4] && v.mayHave(s, &w, e.Outside) == ""
}

// addresses returns the addresses of the external interface as they are now.
func (v *Server) addresses(i *network.Interface) (list [2]netip.Addr) {
	for _, f := range header.Families {
		if v.options.External != nil {
			if a, ok := v.options.External(i, f); ok {
				list[f] = a
			}
		} else if a, ok := i.Address(f); ok {
			list[f] = a
		}
	}
	return list
}

// refresh looks whether the external address has changed: then the mappings of the old one are
// over, clients learn it by the epoch (RFC 6887, 8.5), and everybody is told.
func (v *Server) refresh(now time.Time) {
	s := v.setting
	if s == nil || v.ctx.Err() != nil { // the points are closed for good then
		return
	}
	if slices.ContainsFunc(s.policy.On, v.hasMoved) {
		v.listen(s)
	}
	if v.options.External == nil {
		return
	}
	if is := v.addresses(s.external); is != s.address {
		s.address = is
		s.free = map[portKey]*[65536 / 64]uint64{}
		v.endThose("the address of "+s.external.Name+" has changed", func(e *entry) bool { return !v.allows(s, e) })
		v.newEpoch(now)
		v.updated()
		v.announce()
		v.events.change()
	}
}

// hasMoved reports whether an interface has other link-local addresses than when the points were opened.
func (v *Server) hasMoved(i *network.Interface) bool {
	return i.IsUp() && !slices.Equal(v.linkLocal(i), v.listeners.linkLocal[i.Name])
}

func (v *Server) newEpoch(now time.Time) {
	v.epoch = now
	if err := v.options.SetEpoch(now); err != nil {
		v.options.Trouble(fmt.Errorf("mappings: %w", err))
	}
}

// seconds returns the epoch as the protocols have it: seconds since the mappings are known.
func (v *Server) seconds(now time.Time) uint32 {
	return uint32(max(0, now.Sub(v.epoch)/time.Second))
}

// endThose ends the mappings for which a function returns true.
func (v *Server) endThose(why string, which func(*entry) bool) int {
	var list []*entry
	for _, e := range v.table.numbers {
		if which(e) {
			list = append(list, e)
		}
	}
	slices.SortFunc(list, func(a, b *entry) int { return int(a.Number) - int(b.Number) })
	for _, e := range list {
		v.end(e, why)
	}
	return len(list)
}

func (v *Server) end(e *entry, why string) {
	v.table.remove(e)
	v.happens(Ended, e, fmt.Sprintf("%s: %s", describe(e), why))
}

// describe says a mapping in words.
func describe(e *entry) string {
	text := fmt.Sprintf("%s by %s, %s", e.Owner, e.By, e.Outside)
	if e.Outside != e.Inside {
		text += fmt.Sprintf(" -> %s", e.Inside)
	}
	text += " " + e.Protocol.String()
	if e.Peer {
		text += " with " + e.Senders[0].From.Addr().String()
	}
	if e.Text != "" {
		text += fmt.Sprintf(" (%s)", e.Text)
	}
	return text
}

func (v *Server) happens(outcome string, e *entry, text string) {
	h := Happening{Outcome: outcome, Text: text}
	if e != nil {
		h.Mapping = network.MappingName(e.Protocol, e.Outside)
		h.In = v.behind(e.Owner)
	}
	v.options.Record(h)
}

// behind returns the name of the interface by which a machine is reached.
func (v *Server) behind(a netip.Addr) string {
	if v.setting == nil {
		return ""
	}
	if i := v.setting.gateway.OutTo(a); i != nil {
		return i.Name
	}
	return ""
}

// grant decides about a wish and notes what became of it. What is granted is not in force before
// flush.
func (v *Server) grant(w *wish, now time.Time) (*entry, *refusal) {
	return v.granted(w, now, "")
}

// granted is grant, of a wish that somebody has approved where that is not empty.
func (v *Server) granted(w *wish, now time.Time, approved string) (*entry, *refusal) {
	before, by := len(v.table.numbers), ""
	if approved != "" {
		by = ", approved by " + approved
	}
	e, no := v.decide(v.setting, w, now, approved != "")
	switch {
	case no != nil && (no.reason == undecided || no.reason == unfound):
	case no != nil:
		v.options.Record(Happening{Outcome: Refused, In: v.behind(w.asker), Text: fmt.Sprintf("%s: %s", w, no.text)})
	case len(v.table.numbers) > before:
		v.fresh = append(v.fresh, e)
		v.see(e.machine(), now)
		v.happens(Granted, e, fmt.Sprintf("%s, for %s%s", describe(e), lifetimeText(e.Until.Sub(now)), by))
	default:
		v.happens(Renewed, e, fmt.Sprintf("%s, for %s%s", describe(e), lifetimeText(e.Until.Sub(now)), by))
	}
	return e, no
}

func lifetimeText(d time.Duration) string { return d.Round(time.Second).String() }

// flush puts what has changed into force and keeps it. Where that fails, what was granted since the
// last time is taken back, and the rest is tried again the next time.
func (v *Server) flush(now time.Time) error {
	t := v.table
	if len(t.dirty) == 0 && len(t.changed) == 0 {
		return nil
	}
	err := v.put(now)
	if err != nil {
		v.options.Trouble(fmt.Errorf("mappings: %w", err))
		for _, e := range v.fresh {
			if t.numbers[e.Number] == e {
				v.end(e, "it could not be put into force")
			}
		}
	}
	v.fresh = v.fresh[:0]
	return err
}

func (v *Server) put(now time.Time) error {
	t := v.table
	var open []*network.Mapping
	var shut []Shut
	for key := range t.dirty {
		if s := t.slots[key]; s != nil && v.setting != nil {
			open = append(open, s.mapping(v.setting.external, now))
		} else {
			shut = append(shut, Shut{key.protocol, key.outside})
		}
	}
	var changed []Record
	var gone []uint64
	for number := range t.changed {
		if e := t.numbers[number]; e != nil {
			changed = append(changed, e.Record)
		} else {
			gone = append(gone, number)
		}
	}
	if err := v.options.Apply(open, shut); err != nil {
		return err
	}
	if err := v.options.Save(changed, gone); err != nil {
		return err
	}
	if len(t.dirty) > 0 {
		if v.changes++; v.changes == 0 { // it begins anew at 1
			v.changes = 1
		}
		v.events.change()
	}
	clear(t.dirty)
	clear(t.changed)
	return nil
}

// watching is how often it is looked whether the external address has changed.
const watching = 2 * time.Second

// keepTime ends what is over, until the server stops.
func (v *Server) keepTime() {
	tick := time.NewTicker(250 * time.Millisecond)
	defer tick.Stop()
	var last time.Time
	for {
		select {
		case <-v.ctx.Done():
			return
		case <-tick.C:
		}
		v.mutex.Lock()
		now := v.now()
		for _, e := range v.table.ended(now) {
			v.happens(Ended, e, describe(e)+": its time is over")
		}
		v.giveUpWaiting(now)
		if now.Sub(last) >= watching {
			v.refresh(now)
			v.limits.forget(now)
			last = now
		}
		v.flush(now) // which tells what goes wrong, and tries again
		v.mutex.Unlock()
	}
}

// Stop ends the server: clients are told that the device is gone, mappings stay in force.
func (v *Server) Stop() {
	v.mutex.Lock()
	v.stop() // before the points are closed: nothing opens them again
	v.listen(nil)
	v.mutex.Unlock()
	v.working.Wait()
}

// A Mapping is one of a server's, for people and programs.
type Mapping struct {
	Record
	Name string
	Left time.Duration
}

// List returns the mappings, in the order in which they were granted.
func (v *Server) List() []Mapping {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	now := v.now()
	list := make([]Mapping, 0, len(v.table.numbers))
	for _, number := range slices.Sorted(maps.Keys(v.table.numbers)) {
		e := v.table.numbers[number]
		list = append(list, Mapping{e.Record, network.MappingName(e.Protocol, e.Outside), e.Until.Sub(now)})
	}
	return list
}

// ErrNoMapping is the error for a mapping that is not there.
var ErrNoMapping = errors.New("no such mapping")

// Remove ends the mappings of a name, as an administrator wants it.
func (v *Server) Remove(name, who string) error {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	if v.endThose("taken away by "+who, func(e *entry) bool { return network.MappingName(e.Protocol, e.Outside) == name }) == 0 {
		return ErrNoMapping
	}
	return v.flush(v.now())
}

// A Trial is a wish that is only tried.
type Trial struct {
	By       string
	Asker    netip.Addr
	Machine  netip.Addr // as Asker where it is invalid
	Protocol header.Protocol
	Port     uint16
	Outside  uint16 // 0 is any
	Exact    bool   // that outside port or none
	Lifetime time.Duration
}

// A Verdict is what would become of a wish.
type Verdict struct {
	Granted  bool
	Asks     bool // once an administrator has approved it
	Outside  netip.AddrPort
	Lifetime time.Duration
	Line     int // of the rule, 0 for none
	Why      string
}

// Try says what would become of a wish, and changes nothing.
func (v *Server) Try(t Trial) Verdict {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	s := v.setting
	switch {
	case s == nil:
		return Verdict{Why: "the gateway has no mappings"}
	case !s.policy.Speaks(t.By):
		return Verdict{Why: "the gateway is not asked by " + t.By}
	}
	w := &wish{again: true, by: t.By, asker: t.Asker, machine: t.Machine, protocol: t.Protocol, port: t.Port, outside: t.Outside, exact: t.Exact, lifetime: t.Lifetime}
	if !w.machine.IsValid() {
		w.machine = w.asker
	}
	r, no := s.rule(w)
	var verdict Verdict
	if r != nil {
		verdict.Line, verdict.Lifetime = r.Place.Line, r.Granted(w.lifetime)
		verdict.Outside, no = v.place(s, w, r)
	}
	if no == nil {
		_, _, no = v.room(s, w, r, v.now())
	}
	if blocked := v.refuseBlocked(s, w, v.now()); blocked != nil {
		no = blocked
	}
	switch {
	case no != nil:
		verdict.Why = no.text
	default:
		verdict.Granted, verdict.Asks = true, r.Ask
	}
	return verdict
}
