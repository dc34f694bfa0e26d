package gateway

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/portmap"
)

// Options are what a service is made of.
type Options struct {
	Gateway     string // its name
	Folder      string // of its state
	Program     string // the version of this program
	Backend     func(Recorder) (Backend, error)
	Keeping     Keeping
	Restarts    bool          // whoever runs it heeds Restored
	Authorities string        // a file with the certificates by which a collector is known over TLS; empty: the machine's
	Asking      portmap.Ports // where programs ask for mappings, other than the standards' ports
	Loopback    bool          // as portmap.Options has it
	Within      func(do func() error) error
	Device      func(*network.Interface) string // what sockets for programs are bound to; nil: to no device
	Trouble     func(error)                     // is told what goes wrong without anybody asking
}

// A Service runs one gateway. Its methods may be called by many goroutines.
type Service struct {
	options Options
	state   *State
	backend Backend
	journal *journal
	away    *syslog
	mapping *portmap.Server
	opened  *engine.MappingTable // what that has, for what the engine is asked
	since   time.Time

	backing   sync.Mutex // backups
	restored  chan struct{}
	preparing sync.Mutex              // what may come into force; locked before changing
	changing  sync.Mutex              // whatever changes what is in force
	current   atomic.Pointer[inForce] // nil where nothing is
	staged    map[string]*staged
	trials    map[network.RuleID]time.Time // until when
	pending   *Pending                     // a trial, or what waits for other gateways
	shown     atomic.Pointer[shown]        // nil where nothing is in force
	working   atomic.Pointer[string]       // what it does that takes its time
	confirmed string                       // the token of what was confirmed last
	unwritten *inForce                     // what is in force after a trial, where that is not written down yet

	counting     sync.Mutex
	before       map[network.RuleID]Hit            // what was counted before the backend was started
	called       map[network.RuleID]network.RuleID // what rules are called now, by names that they had
	countedSince time.Time
	saved        map[network.RuleID]Hit

	applied, refused, wentBack atomic.Int64 // proposals, and revisions that went back by themselves

	woken  chan struct{} // whoever waits for a time looks again
	stop   context.CancelFunc
	ending sync.WaitGroup
}

// An inForce revision is what the backend has.
type inForce struct {
	revision Revision // with its bundle
	network  *network.Network
	engine   *walk.Engine
	gateway  *engine.Gateway
}

// Start starts a gateway with the revision that was last in force, or the one before where that
// was to go back meanwhile. When it returns, that is in force; without one, nothing is touched.
func Start(o Options) (*Service, error) {
	s := &Service{
		options: o, since: time.Now(), staged: map[string]*staged{}, trials: map[network.RuleID]time.Time{},
		called: map[network.RuleID]network.RuleID{}, woken: make(chan struct{}, 1), restored: make(chan struct{}, 1),
	}
	var err error
	if s.state, err = OpenState(o.Folder, o.Gateway); err != nil {
		return nil, err
	}
	if err := s.begin(); err != nil {
		s.state.Close()
		return nil, err
	}
	var ctx context.Context
	ctx, s.stop = context.WithCancel(context.Background())
	s.ending.Go(func() { s.keepTime(ctx) })
	s.ending.Go(func() { s.saveCounts(ctx) })
	s.record(Event{What: serviceEvent, Text: "gateway starts, " + s.backend.Name()})
	return s, nil
}

func (s *Service) begin() error {
	var err error
	if s.before, s.countedSince, err = s.state.Counts(); err != nil {
		return err
	}
	s.saved = maps.Clone(s.before)
	if s.away, err = newSyslog(s.options.Gateway, s.options.Authorities); err != nil {
		return err
	}
	if s.journal, err = openJournal(s.state, s.options.Keeping, s.away.send, s.options.Trouble); err != nil {
		s.away.Close()
		return err
	}
	if s.backend, err = s.options.Backend(s.journal); err == nil {
		if err = s.beginMapping(); err == nil {
			if err = s.resume(); err == nil {
				s.show()
				err = s.countOn()
			}
			if err != nil {
				s.mapping.Stop()
			}
		}
		if err != nil {
			s.backend.Close()
		}
	}
	if err != nil {
		s.journal.Close()
		s.away.Close()
	}
	return err
}

// resume puts the latest revision into force, or the one before, where the latest was to go back
// by now.
func (s *Service) resume() error {
	r, err := s.state.Revision(0)
	if errors.Is(err, errNoRevision) {
		return nil
	}
	if err != nil {
		return err
	}
	pending, err := s.state.Pending()
	if err != nil {
		return err
	}
	s.pending = pending
	if s.pending != nil && s.pending.left() <= 0 {
		if err := s.endTrial(r.Number); err != nil {
			if s.unwritten == nil {
				return err
			}
			s.options.Trouble(err)
		}
		return nil
	}
	next, err := s.prepared(r)
	if err != nil {
		return fmt.Errorf("revision %d, which was in force: %w", r.Number, err)
	}
	return s.use(next)
}

// countOn goes on from what was counted before: a machine that has gone on counting meanwhile has
// that in what it counts now.
func (s *Service) countOn() error {
	now, err := s.backend.Hits(false)
	if err != nil {
		return err
	}
	for _, h := range now {
		h.Gateway = s.options.Gateway
		if was, ok := s.before[h.ID()]; ok && was.Raw <= h.Raw {
			was.Connections -= was.Raw
			s.before[h.ID()] = was
		}
	}
	return nil
}

// prepared compiles a revision.
func (s *Service) prepared(r Revision) (*inForce, error) { return s.preparedWith(r, s.trials) }

// preparedWith compiles a revision while some rules are on trial.
func (s *Service) preparedWith(r Revision, trials map[network.RuleID]time.Time) (*inForce, error) {
	f := &inForce{revision: r}
	if r.Bundle == nil {
		return f, nil
	}
	n, err := r.Bundle.Network()
	if err != nil {
		return nil, err
	}
	return f, s.compile(f, n, trials)
}

// compile compiles a network for what is to be in force, with the rules logged that are on trial.
func (s *Service) compile(f *inForce, n *network.Network, trials map[network.RuleID]time.Time) error {
	g := n.Called(s.options.Gateway)
	if g == nil {
		var names []string
		for _, g := range n.Gateways {
			names = append(names, g.Name)
		}
		return fmt.Errorf("%s: there is no such gateway in it; there are %s", s.options.Gateway, strings.Join(names, ", "))
	}
	for _, i := range g.Interfaces {
		if i.Dynamic {
			return fmt.Errorf("%s: the provider gives its address, and a gateway that runs has to know it; write the one that it has now", i)
		}
	}
	logTrials(g, trials)
	var previous *walk.Engine
	if now := s.current.Load(); now != nil {
		previous = now.engine
	}
	n.Seal()
	f.network, f.engine = n, walk.Compile(n, previous)
	f.gateway = f.engine.Gateway(g)
	return nil
}

// logTrials makes rules write what they do that are on trial; where a gateway's logging is off,
// only these.
func logTrials(g *network.Gateway, trials map[network.RuleID]time.Time) {
	if len(trials) == 0 {
		return
	}
	if !g.Logging.Enabled {
		g.Logging = network.Logging{Enabled: true, Syslog: g.Logging.Syslog}
		for r := range g.Rules() {
			r.Log = false
		}
	}
	for r := range g.Rules() {
		if _, ok := trials[r.ID()]; ok {
			r.Log = true
		}
	}
}

// use puts what was compiled into force. Whoever calls holds changing, or is alone.
func (s *Service) use(f *inForce) error {
	if f.gateway == nil {
		return s.used(f, s.backend.Clear())
	}
	return s.used(f, s.backend.Use(f.engine, f.gateway))
}

// beginUse puts what was compiled into force where nothing was, and returns which connections that ended.
func (s *Service) beginUse(f *inForce) (ended []string, err error) {
	ended, err = s.backend.Begin(f.engine, f.gateway)
	return ended, s.used(f, err)
}

// used notes that something is in force, unless that failed.
func (s *Service) used(f *inForce, err error) error {
	if err != nil {
		return err
	}
	before := s.current.Load()
	s.current.Store(f)
	s.carryCounts(before, f)
	address := ""
	if f.gateway != nil {
		address = f.gateway.Logging.Syslog
	}
	s.away.to(address)
	// It is in force by now, whatever mappings do.
	if err := s.mapping.Use(f.gateway); err != nil {
		s.options.Trouble(err)
	}
	return nil
}

// Stop stops the service. What is in force stays so, unless it is to be cleared.
func (s *Service) Stop(clear bool) error {
	s.stop()
	s.ending.Wait()
	s.changing.Lock()
	defer s.changing.Unlock()
	s.mapping.Stop()
	err := s.storeCounts()
	if clear {
		err = errors.Join(err, s.backend.Clear())
	}
	err = errors.Join(err, s.backend.Close())
	text := "gateway stops"
	if clear {
		text = "gateway stops, and its rules are taken away"
	}
	s.record(Event{What: serviceEvent, Text: text})
	s.journal.Close()
	s.away.Close()
	return errors.Join(err, s.state.Close())
}

// name is what the gateway is called: by what is in force, or else on its machine.
func (s *Service) name() string {
	if now := s.current.Load(); now != nil && now.gateway != nil {
		return now.gateway.Name
	}
	return s.options.Gateway
}

// record notes an event that is no connection.
func (s *Service) record(e Event) {
	e.Time, e.Gateway = time.Now(), s.name()
	s.journal.Record(e)
}

// Status returns what the gateway says of itself.
func (s *Service) Status() Status {
	status := Status{
		Gateway: s.name(), On: s.backend.Name(), Program: s.options.Program, Since: s.since,
		Sessions: s.backend.Count(), Lost: s.journal.lost.Load(), Collector: s.away.status(), Differs: []string{},
	}
	connections, lines := s.backend.Missed()
	status.Lost += connections + lines
	if k, ok := s.backend.(*Kernel); ok {
		table := k.Table()
		status.Table = &table
		outside := k.Outside()
		status.Outside = &outside
		if s.current.Load() == nil {
			status.Before = k.Before()
		}
	}
	if working := s.working.Load(); working != nil {
		status.Working = *working
	}
	if now := s.shown.Load(); now != nil {
		r := now.revision
		status.Revision, status.Pending = &r, now.pending.asNow()
	}
	if now := s.current.Load(); now != nil && now.gateway != nil {
		status.Limit = now.gateway.Limits.Sessions
		if k, ok := s.backend.(*Kernel); ok {
			status.Differs = k.Differs(now.gateway)
		}
	}
	status.Scarce = s.scarce(status.Sessions)
	return status
}

// works says what the service does that takes its time, until the function it returns is called.
func (s *Service) works(what string) (done func()) {
	s.working.Store(&what)
	return func() { s.working.CompareAndSwap(&what, nil) }
}

// number returns the number of the revision that is in force; 0 is none.
func (s *Service) number() int {
	if now := s.current.Load(); now != nil {
		return now.revision.Number
	}
	return 0
}

// network returns the network that is in force, or nil.
func (s *Service) network() *network.Network {
	if now := s.current.Load(); now != nil {
		return now.network
	}
	return nil
}

// Sessions returns the sessions that match, the most of them that carried most.
func (s *Service) Sessions(f *Filter, most int) (Sessions, error) {
	found := Sessions{Sessions: []Session{}}
	top := topSessions{most: most}
	err := s.backend.Sessions(f, func(session *Session) bool {
		found.Count++
		top.add(session)
		return true
	})
	found.Sessions = append(found.Sessions, top.sorted()...)
	s.sayOrigins(found.Sessions)
	return found, err
}

// EndSessions ends the sessions that match.
func (s *Service) EndSessions(f *Filter) (int, error) {
	numbers := map[uint64]bool{}
	if err := s.backend.Sessions(f, func(session *Session) bool {
		numbers[session.Number] = true
		return true
	}); err != nil {
		return 0, err
	}
	return s.backend.End(numbers)
}

// reopens says of sessions that were ended what they may do.
func (s *Service) reopens(ended int) string {
	if now := s.current.Load(); ended == 0 || now == nil || now.gateway == nil || !now.gateway.Handling.TCPLoose {
		return ""
	}
	return "tcp-state: loose: a TCP connection that goes on is a session again with its next packet, where the rules let that through, with the translation that they give it now"
}

// Hits returns what each rule of the gateway has counted, in their order, then those of rules
// that are no more.
func (s *Service) Hits() (Hits, error) {
	counts, since, err := s.counts(true)
	if err != nil {
		return Hits{}, err
	}
	found := Hits{Since: since, Hits: []Hit{}}
	if now := s.current.Load(); now != nil && now.gateway != nil {
		for r := range now.gateway.Rules() {
			h := counts[s.idOf(r)]
			delete(counts, s.idOf(r))
			h.Gateway, h.List, h.Rule = r.Gateway.Name, r.List(), r.Name
			h.Kind, h.Place, h.Disabled = r.Kind, r.Number, r.Off()
			found.Hits = append(found.Hits, h)
		}
	}
	for _, m := range s.mapping.List() { // those are rules that are there
		id := network.RuleID{Gateway: s.options.Gateway, List: network.MappingKind, Name: m.Name}
		h, hit := counts[id]
		if !hit {
			continue
		}
		delete(counts, id)
		h.Kind, h.Mapping = network.MappingKind, originOf(&m)
		found.Hits = append(found.Hits, h)
	}
	for i := range found.Hits {
		found.Hits[i].Gateway = s.name()
	}
	gone := slices.SortedFunc(maps.Values(counts), func(a, b Hit) int { return strings.Compare(a.List+"/"+a.Rule, b.List+"/"+b.Rule) })
	found.Hits = append(found.Hits, gone...)
	return found, nil
}

// counts returns what was counted before and since the backend was started, with or without the
// sessions that are open.
func (s *Service) counts(open bool) (map[network.RuleID]Hit, time.Time, error) {
	s.counting.Lock()
	defer s.counting.Unlock()
	now, err := s.backend.Hits(open)
	if err != nil {
		return nil, time.Time{}, err
	}
	counts := maps.Clone(s.before)
	for _, h := range now {
		h.Gateway = s.options.Gateway
		was := counts[h.ID()]
		h.Connections += was.Connections
		h.Stopped += was.Stopped
		h.Exhausted += was.Exhausted
		h.Unseen += was.Unseen
		h.Forth, h.Back = h.Forth.Plus(was.Forth), h.Back.Plus(was.Back)
		if h.Connections == 0 {
			h.Last = nil
		} else if h.Last == nil || was.Last != nil && was.Last.After(*h.Last) {
			h.Last = was.Last
		}
		counts[h.ID()] = h
	}
	s.byTheirNames(counts)
	maps.DeleteFunc(counts, func(_ network.RuleID, h Hit) bool {
		return h.Connections == 0 && h.Open == 0 && h.Stopped == 0 && h.Forth == Count{} && h.Back == Count{}
	})
	return counts, s.countedSince, nil
}

// ResetHits makes all rules count from nothing.
func (s *Service) ResetHits() error {
	s.counting.Lock()
	defer s.counting.Unlock()
	now, err := s.backend.Hits(true)
	if err != nil {
		return err
	}
	at := time.Now()
	if err := s.state.ResetCounts(at); err != nil {
		return err
	}
	s.before, s.countedSince, s.saved = map[network.RuleID]Hit{}, at, map[network.RuleID]Hit{}
	for _, h := range now { // what the backend has counted so far counts no more
		h.Gateway = s.options.Gateway
		s.before[h.ID()] = Hit{
			Gateway: h.Gateway, List: h.List, Rule: h.Rule, Connections: -h.Connections, Stopped: -h.Stopped, Exhausted: -h.Exhausted, Unseen: -h.Unseen,
			Forth: Count{}.Minus(h.Forth), Back: Count{}.Minus(h.Back),
		}
	}
	return nil
}

// saving is how often what the rules have counted is kept, but where looking at all of them takes long: it takes at most one part in
// savingPart of the time.
const (
	saving     = time.Second
	savingPart = 300
)

func (s *Service) saveCounts(ctx context.Context) {
	next := time.NewTimer(saving)
	defer next.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case began := <-next.C:
			if err := s.storeCounts(); err != nil {
				s.options.Trouble(err)
			}
			next.Reset(max(saving, savingPart*time.Since(began)))
		}
	}
}

// storeCounts keeps what has changed.
func (s *Service) storeCounts() error {
	counts, _, err := s.counts(false)
	if err != nil {
		return err
	}
	s.counting.Lock()
	defer s.counting.Unlock()
	var changed []Hit
	for id, h := range counts {
		if was := s.saved[id]; was.Connections != h.Connections || was.Stopped != h.Stopped || was.Exhausted != h.Exhausted || was.Forth != h.Forth || was.Back != h.Back {
			changed = append(changed, h)
		}
	}
	var gone []network.RuleID
	for old := range s.called {
		if _, saved := s.saved[old]; saved {
			gone = append(gone, old)
		}
	}
	if len(changed)+len(gone) == 0 {
		return nil
	}
	if err := s.state.SaveCounts(changed, gone); err != nil {
		return err
	}
	for _, h := range changed {
		s.saved[h.ID()] = h
	}
	for _, id := range gone {
		delete(s.saved, id)
	}
	return nil
}

// topSessions are the ones that carried most of those that are added: a heap whose root carried
// least.
type topSessions struct {
	most int
	heap []Session
}

func carried(s *Session) int64 { return s.Forth.Bytes + s.Back.Bytes }

// less orders sessions by what they carried, and of equals the later ones first.
func less(a, b *Session) bool {
	if carried(a) != carried(b) {
		return carried(a) < carried(b)
	}
	return a.Number > b.Number
}

func (t *topSessions) add(s *Session) {
	switch {
	case len(t.heap) < t.most:
		t.heap = append(t.heap, *s)
		for i := len(t.heap) - 1; i > 0 && less(&t.heap[i], &t.heap[(i-1)/2]); i = (i - 1) / 2 {
			t.heap[i], t.heap[(i-1)/2] = t.heap[(i-1)/2], t.heap[i]
		}
	case t.most > 0 && less(&t.heap[0], s):
		t.heap[0] = *s
		for i := 0; ; {
			least := i
			for _, child := range []int{2*i + 1, 2*i + 2} {
				if child < len(t.heap) && less(&t.heap[child], &t.heap[least]) {
					least = child
				}
			}
			if least == i {
				return
			}
			t.heap[i], t.heap[least] = t.heap[least], t.heap[i]
			i = least
		}
	}
}

func (t *topSessions) sorted() []Session {
	slices.SortFunc(t.heap, func(a, b Session) int {
		if less(&b, &a) {
			return -1
		}
		return 1
	})
	return t.heap
}
