package gateway

import (
	"context"
	"crypto/rand"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/internal/netfile"
)

// A staged proposal waits for its commit.
type staged struct {
	base  int
	made  *inForce
	until time.Time
}

// patience is how long a proposal waits for its commit: somebody reads what it says first.
const patience = time.Hour

// mostStaged is how many proposals wait at most; the oldest goes first.
const mostStaged = 8

// A Refused call says why, with a status of HTTP.
type refused struct {
	status   int
	message  string
	revision *Revision
}

func (r *refused) Error() string { return r.message }

// Prepare gets ready for a network: it is checked and compiled, and nothing is touched.
func (s *Service) Prepare(p Proposal) (made Prepared, err error) {
	defer func() {
		if err != nil {
			s.refused.Add(1)
		}
	}()
	if p.Bundle == nil {
		return Prepared{}, &refused{http.StatusBadRequest, "the network is missing", nil}
	}
	s.preparing.Lock() // and not what is in force: that can be asked about, and kept, meanwhile
	defer s.preparing.Unlock()
	defer s.works("gets ready")()
	s.changing.Lock()
	err = s.overtaken(p.Base)
	trials := maps.Clone(s.trials)
	s.changing.Unlock()
	if err != nil {
		return Prepared{}, err
	}
	next, err := s.preparedWith(Revision{Bundle: p.Bundle}, trials)
	if err != nil {
		return Prepared{}, &refused{http.StatusBadRequest, err.Error(), nil}
	}
	notes, err := s.backend.Check(next.engine, next.gateway)
	if err != nil {
		return Prepared{}, &refused{http.StatusConflict, err.Error(), nil}
	}
	made = Prepared{Token: rand.Text(), Notes: slices.Concat(silent(next.gateway.Gateway), crowded(next.gateway.Gateway), notes), First: []Session{}}
	if n := s.mapping.Ends(next.gateway); n > 0 {
		made.Notes = append(made.Notes, fmt.Sprintf("%d of the mappings that programs have end: the new network does not allow them", n))
	}
	if made.Notes == nil {
		made.Notes = []string{}
	}
	if made.Ends = next.gateway.Handling.RestartsOnApply; made.Ends {
		made.Changed = s.backend.Count()
	} else if err := s.changedSessions(next, func(session *Session) {
		if made.Changed++; len(made.First) < mostFirst {
			made.First = append(made.First, *session)
		}
	}); err != nil {
		return Prepared{}, err
	}
	s.changing.Lock()
	defer s.changing.Unlock()
	s.dropStaged()
	s.staged[made.Token] = &staged{p.Base, next, time.Now().Add(patience)}
	return made, nil
}

// mostFirst is how many of the sessions that change are shown.
const mostFirst = 5

// dropStaged makes room for another proposal.
func (s *Service) dropStaged() {
	for token, p := range s.staged {
		if time.Now().After(p.until) {
			delete(s.staged, token)
		}
	}
	for len(s.staged) >= mostStaged {
		oldest := ""
		for token, p := range s.staged {
			if oldest == "" || p.until.Before(s.staged[oldest].until) {
				oldest = token
			}
		}
		delete(s.staged, oldest)
	}
}

// overtaken says that another revision is in force than the one that a proposal was compared
// with.
func (s *Service) overtaken(base int) error {
	now := s.number()
	if now == base {
		return nil
	}
	if now == 0 {
		return &refused{http.StatusConflict, fmt.Sprintf("nothing is in force here, so there is no revision %d", base), nil}
	}
	r := s.current.Load().revision
	r.Bundle = nil
	text := fmt.Sprintf("revision %d is in force by now, not %d: %s applied it at %s", now, base, r.Author, r.Time.Local().Format("15:04:05"))
	if r.Note != "" {
		text += " (" + r.Note + ")"
	}
	return &refused{http.StatusConflict, text, &r}
}

// silent says of rules that are to be logged while the gateway's logging is off.
func silent(g *network.Gateway) []string {
	if g.Logging.Enabled {
		return nil
	}
	var names []string
	for r := range g.Rules() {
		if r.Log && !r.Off() {
			names = append(names, r.Name)
		}
	}
	if len(names) == 0 {
		return nil
	}
	if more := len(names) - 3; more > 0 {
		names = append(names[:3], fmt.Sprintf("%d more", more))
	}
	return []string{fmt.Sprintf("%s: log: true writes nothing while the gateway's logging is off; logging: {enabled: true} turns it on", strings.Join(names, ", "))}
}

// crowded says of a gateway that it has more port forwards than there is room for, by its limits.
func crowded(g *network.Gateway) []string {
	if n := g.Forwards(); g.Limits.PortForwards > 0 && n > g.Limits.PortForwards {
		return []string{fmt.Sprintf("%d port forwards, and by its limits there is room for %d", n, g.Limits.PortForwards)}
	}
	return nil
}

// changedSessions calls a function with each session that what is to be in force would not have
// made so: it translates otherwise, or stops the connection.
func (s *Service) changedSessions(next *inForce, each func(*Session)) error {
	if next.gateway == nil {
		return nil
	}
	at := next.network.MomentAt(time.Now())
	var log engine.Log
	now := func(name string) *network.Interface { // sessions are told by the names that are in force
		if running := s.current.Load(); running != nil && running.gateway != nil {
			if i := running.gateway.Interface(name); i != nil {
				return next.gateway.Same(i)
			}
		}
		return next.gateway.Interface(name)
	}
	return s.backend.Sessions(&Filter{}, func(session *Session) bool {
		before, err1 := session.Before.Header()
		after, err2 := session.After.Header()
		in := now(session.In)
		if err1 != nil || err2 != nil || session.Own {
			return true
		}
		if in == nil {
			each(session)
			return true
		}
		d := next.gateway.Decide(&engine.Arrival{In: in, Packet: before, At: at}, &again{after, s.opened}, &log)
		if d.Action == engine.Stops || d.Packet != after || (d.Out == nil) != (session.Out == "") || d.Out != nil && d.Out != now(session.Out) {
			each(session)
		}
		return true
	})
}

// Again is a state in which one session is made once more: it gets the address and port that it
// has, where the rule still gives such.
type again struct {
	after    header.Packet
	mappings *engine.MappingTable
}

// Find is engine.State's.
func (a *again) Find(*header.Packet, header.Part, int, *engine.Session) (engine.Direction, bool) {
	return engine.Forth, false
}

// Mapped is engine.State's.
func (a *again) Mapped(in *network.Interface, p *header.Packet) *engine.Mapping {
	return a.mappings.Find(in, p)
}

// Take is engine.State's.
func (a *again) Take(l *engine.Lease, grant *engine.Grant) bool {
	*grant = engine.Grant{Address: l.Pool.Ranges()[0].First, Port: l.Packet.SourcePort, Alone: true}
	if l.Pool.Contains(a.after.Source) {
		grant.Address = a.after.Source
	}
	if l.Ports == (header.Ports{}) || l.Ports.Contains(a.after.SourcePort) {
		grant.Port = a.after.SourcePort
	}
	return true
}

// Distinct is engine.State's.
func (a *again) Distinct(final header.Packet, _ header.Ports, _ network.MappingBehavior) (uint16, bool) {
	if final.Source == a.after.Source {
		return a.after.SourcePort, true
	}
	return final.SourcePort, true
}

// Keep is engine.State's.
func (a *again) Keep(*engine.Session) bool { return true }

// mostFor is the longest time after which a revision goes back by itself.
const mostFor = 30 * 24 * time.Hour

// mostText is how long an author's name or a note may be, in bytes.
const mostText = 500

// plainText refuses names and notes that are long, or that would do something to the terminal on
// which somebody reads them.
func plainText(texts ...string) error {
	for _, text := range texts {
		if len(text) > mostText || !utf8.ValidString(text) || strings.ContainsFunc(text, unicode.IsControl) {
			return &refused{http.StatusBadRequest, fmt.Sprintf("a name or a note is plain text of at most %d bytes, on one line", mostText), nil}
		}
	}
	return nil
}

// Commit puts what was prepared into force. When it returns without an error, that is so, also
// after a restart.
func (s *Service) Commit(c Commit) (Committed, error) {
	if err := plainText(c.Author, c.Note); err != nil {
		return Committed{}, err
	}
	switch back := seconds(c.For); {
	case c.For < 0 || c.For > mostFor.Seconds() || c.For > 0 && back < time.Second:
		return Committed{}, &refused{http.StatusBadRequest, "it can go back by itself after 1s to 30d", nil}
	}
	s.changing.Lock()
	defer s.changing.Unlock()
	p := s.staged[c.Token]
	if p == nil || time.Now().After(p.until) {
		return Committed{}, &refused{http.StatusNotFound, "this proposal is not known, or waited too long; prepare it again", nil}
	}
	defer s.works("puts a revision into force")()
	if s.unwritten != nil {
		if err := s.endTrial(s.number()); err != nil {
			return Committed{}, err
		}
	}
	if err := s.refuseOverLease(); err != nil {
		return Committed{}, err
	}
	if err := s.overtaken(p.base); err != nil {
		return Committed{}, err
	}
	var pending *Pending
	if c.For > 0 {
		pending = newPending(seconds(c.For), p.base)
		if s.pending != nil {
			pending.Back = s.pending.Back // what is on trial itself is not gone back to
		}
	} else if err := s.refuseOverTrial(p.made.revision.Bundle); err != nil {
		return Committed{}, err
	}
	if pending != nil {
		p.made.revision.Fate = OnTrial
	}
	applied, pending, err := s.leased(c, p, pending)
	if err != nil {
		return Committed{}, err
	}
	p.made.revision.Applied = applied
	delete(s.staged, c.Token)
	p.made.revision.Author, p.made.revision.Note = c.Author, c.Note
	numbers := map[uint64]bool{}
	if c.Clear {
		if err := s.changedSessions(p.made, func(session *Session) { numbers[session.Number] = true }); err != nil {
			return Committed{}, err
		}
	}
	cut, err := s.become(p.made, pending)
	if err != nil {
		s.refused.Add(1)
		return Committed{}, err
	}
	s.applied.Add(1)
	made := Committed{Revision: p.made.revision, Cut: append([]string{}, cut[:min(len(cut), mostCut)]...), Cuts: len(cut)}
	made.Revision.Bundle = nil
	if len(numbers) > 0 {
		var err error
		if made.Ended, err = s.backend.End(numbers); err != nil {
			return made, fmt.Errorf("revision %d is in force, but its sessions could not be ended: %w", made.Revision.Number, err)
		}
	}
	return made, nil
}

// mostCut is how many of the connections are named that a first revision cuts.
const mostCut = 10

// become puts a revision into force and then keeps it; where that fails, what was before is in
// force again. It returns the connections that it cut because nothing was in force before.
func (s *Service) become(next *inForce, pending *Pending) (cut []string, err error) {
	before := s.current.Load()
	s.date(next)
	if (before == nil || before.gateway == nil) && next.gateway != nil {
		cut, err = s.beginUse(next)
	} else {
		err = s.use(next)
	}
	if err != nil {
		return nil, err
	}
	written := *next // whoever asks meanwhile reads the other
	if err := s.state.Add(&written.revision, pending); err != nil {
		if before == nil {
			before = &inForce{}
		}
		if again := s.use(before); again != nil {
			return nil, fmt.Errorf("the revision can't be kept (%w), and what was before can't be put back: %w", err, again)
		}
		if before.gateway == nil {
			s.current.Store(nil)
		}
		return nil, fmt.Errorf("the revision can't be kept, so it was taken back: %w", err)
	}
	s.pending = pending
	s.current.Store(&written)
	s.show()
	next.revision.Number = written.revision.Number
	text := fmt.Sprintf("revision %d, by %s", next.revision.Number, next.revision.Author)
	if next.revision.Note != "" {
		text += ": " + next.revision.Note
	}
	switch {
	case pending == nil:
	case pending.lease != nil:
		text += fmt.Sprintf("; goes back at %s unless all of %s have it", pending.Until.Local().Format("15:04:05"), strings.Join(next.revision.Applied.Gateways, ", "))
	default:
		text += fmt.Sprintf("; goes back at %s unless it is kept", pending.Until.Local().Format("15:04:05"))
	}
	s.record(Event{What: revisionEvent, Text: text})
	s.wake()
	return cut, nil
}

// date says of a revision when it comes into force, and in what it differs from the one that is.
func (s *Service) date(next *inForce) {
	next.revision.Time = time.Now().UTC()
	next.revision.Empty = next.revision.Bundle == nil
	var was *netfile.Bundle
	if before := s.current.Load(); before != nil {
		was = before.revision.Bundle
	}
	next.revision.Added, next.revision.Removed = lines(was, next.revision.Bundle)
}

// wake makes whoever waits for a time look again.
func (s *Service) wake() {
	select {
	case s.woken <- struct{}{}:
	default:
	}
}

// lines returns how many lines of a network file and its lists are new, and how many are gone.
func lines(before, after *netfile.Bundle) (added, removed int) {
	count := map[string]int{}
	note := func(b *netfile.Bundle, by int) {
		if b == nil {
			return
		}
		for text := range strings.Lines(b.Text) {
			count[strings.TrimRight(text, "\r\n")] += by
		}
		for name, list := range b.Lists {
			for text := range strings.Lines(list) {
				count[name+"\n"+strings.TrimRight(text, "\r\n")] += by
			}
		}
	}
	note(after, 1)
	note(before, -1)
	for _, n := range count {
		added, removed = added+max(n, 0), removed+max(-n, 0)
	}
	return added, removed
}

// itselfAuthor is the author of revisions that nobody applied.
const itselfAuthor = "hollowbridge"

// goBack makes an earlier revision the latest one; 0 is that nothing is in force. It is on trial where one is given.
func (s *Service) goBack(to int, note string, trial *Pending) error {
	r, err := s.earlier(to)
	if err != nil {
		return err
	}
	next, err := s.prepared(Revision{Bundle: r.Bundle, Author: itselfAuthor, Note: note})
	if err != nil {
		return err
	}
	if trial != nil {
		next.revision.Fate = OnTrial
	}
	_, err = s.become(next, trial)
	return err
}

// Undo takes the revision in force back.
func (s *Service) Undo(u Undo) error {
	s.changing.Lock()
	defer s.changing.Unlock()
	if err := plainText(u.Note); err != nil {
		return err
	}
	defer s.works("goes back")()
	if u.Token != "" {
		return s.forget(u.Token, u.Note)
	}
	if err := s.refuseOverLease(); err != nil {
		return err
	}
	if s.number() != u.Revision || u.Revision == 0 {
		return &refused{http.StatusConflict, fmt.Sprintf("revision %d is not in force", u.Revision), nil}
	}
	trial := s.pending
	if trial != nil && trial.Back == u.Revision-1 {
		trial = nil // that is what ran before the trial
	}
	return s.goBack(u.Revision-1, u.Note, trial) // what was on trial itself still is
}

// Keep makes the revision in force stay that would go back by itself.
func (s *Service) Keep() error {
	s.changing.Lock()
	defer s.changing.Unlock()
	if s.pending == nil || s.unwritten != nil {
		return &refused{http.StatusConflict, "nothing goes back by itself: there is nothing to keep", nil}
	}
	if err := s.refuseOverLease(); err != nil {
		return err
	}
	if err := s.state.Keep(); err != nil {
		return err
	}
	s.pending = nil
	kept := *s.current.Load()
	kept.revision.Fate = Kept
	s.current.Store(&kept)
	s.show()
	s.record(Event{What: revisionEvent, Text: fmt.Sprintf("revision %d is kept", s.number())})
	return nil
}

// Try logs one rule for a while.
func (s *Service) Try(t Trial) error {
	s.changing.Lock()
	defer s.changing.Unlock()
	now := s.current.Load()
	if now == nil || now.gateway == nil {
		return &refused{http.StatusConflict, errNothingInForce.Error(), nil}
	}
	if t.For < 1 || t.For > mostFor.Seconds() {
		return &refused{http.StatusBadRequest, "a trial lasts 1s to 30d", nil}
	}
	var found []*network.Rule
	var names []string
	for r := range now.gateway.Rules() {
		names = append(names, r.Name)
		if r.Name == t.Rule || r.List()+"/"+r.Name == t.Rule {
			found = append(found, r)
		}
	}
	if len(found) == 0 {
		return &refused{http.StatusNotFound, fmt.Sprintf("%s: %s has no such rule%s", t.Rule, s.options.Gateway, netfile.DidYouMean(t.Rule, names)), nil}
	}
	until := time.Now().Add(seconds(t.For))
	for _, r := range found {
		s.trials[r.ID()] = until
	}
	if err := s.recompile(); err != nil {
		return err
	}
	s.record(Event{What: trialEvent, Rule: found[0].List() + "/" + found[0].Name, Text: "is logged until " + until.Format("15:04:05")})
	s.wake()
	return nil
}

// recompile puts the revision in force there again, with the trials that there are now.
func (s *Service) recompile() error {
	next, err := s.prepared(s.current.Load().revision)
	if err != nil {
		return err
	}
	return s.use(next)
}

// keepTime does what is to be done at a time: a revision that was not kept goes back, a trial
// ends, the last day of a rule is over.
func (s *Service) keepTime(ctx context.Context) {
	for {
		timer := time.NewTimer(s.nextWait())
		select {
		case <-ctx.Done():
			timer.Stop()
			return
		case <-s.woken:
			timer.Stop()
			continue
		case <-timer.C:
		}
		if err := s.onTime(); err != nil {
			s.options.Trouble(err)
			select { // and tries again
			case <-ctx.Done():
				return
			case <-time.After(5 * time.Second):
			}
		}
	}
}

// mostAsleep is how long nobody looks at the time while a revision is on trial: a machine may sleep meanwhile.
const mostAsleep = 30 * time.Second

// nextWait returns how long it is until something is to be done.
func (s *Service) nextWait() time.Duration {
	s.changing.Lock()
	defer s.changing.Unlock()
	times := []time.Time{time.Now().Add(time.Hour)}
	if s.pending != nil {
		times = append(times, time.Now().Add(min(s.pending.left(), mostAsleep)))
	}
	for _, until := range s.trials {
		times = append(times, until)
	}
	if now := s.current.Load(); now != nil && now.network != nil {
		if next, ok := now.network.NextExpiry(now.network.Now); ok {
			times = append(times, next.Time(now.network.Location()))
		}
	}
	return time.Until(slices.MinFunc(times, time.Time.Compare))
}

func (s *Service) onTime() error {
	s.changing.Lock()
	defer s.changing.Unlock()
	now := time.Now()
	if s.pending != nil && s.pending.left() <= 0 {
		if err := s.endTrial(s.number()); err != nil {
			return err
		}
	}
	ended := false
	for id, until := range s.trials {
		if !now.Before(until) {
			delete(s.trials, id)
			s.record(Event{What: trialEvent, Rule: id.List + "/" + id.Name, Text: "is logged on trial no longer"})
			ended = true
		}
	}
	if f := s.current.Load(); f != nil && f.network != nil {
		if next, ok := f.network.NextExpiry(f.network.Now); ok && next <= f.network.MomentAt(now) {
			s.record(Event{What: serviceEvent, Text: "rules that were for the time until " + string(network.DeadlineOf(next)) + " take no part any more"})
			ended = true
		}
	}
	if ended && s.current.Load() != nil {
		return s.recompile()
	}
	return nil
}
