package gateway

import (
	"fmt"
	"net/http"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"hollowbridge/internal/kernel"
	"hollowbridge/internal/netfile"
)

// A revision on trial goes back by itself when nobody keeps it in time: because it may have cut off whoever would take it back. So that
// holds whatever else goes wrong. The time is that which goes by since the machine started, whatever is done to its clock; a
// restart of the machine ends the trial. What ran before is put into the tables first, and written down when that is possible.

// sinceBoot returns how long the machine runs, asleep or awake. Tests set it.
var sinceBoot = func() time.Duration {
	var t unix.Timespec
	if unix.ClockGettime(unix.CLOCK_BOOTTIME, &t) != nil {
		return time.Since(started)
	}
	return time.Duration(t.Nano())
}

var started = time.Now()

// bootID names the time since the machine started, among all times. Tests set it.
var bootID = sync.OnceValue(kernel.BootID)

// newPending returns a trial that goes back after a time.
func newPending(after time.Duration, back int) *Pending {
	return &Pending{Until: time.Now().Add(after).UTC(), Back: back, boot: bootID(), deadline: sinceBoot() + after}
}

// left returns how much of the time of a trial is left; nothing of one that a restart of the machine has ended.
func (p *Pending) left() time.Duration {
	if p.boot != bootID() {
		return 0
	}
	return p.deadline - sinceBoot()
}

// asNow returns the trial with its end by the clock as that is now.
func (p *Pending) asNow() *Pending {
	if p == nil {
		return nil
	}
	now := *p
	now.Until = time.Now().Add(max(p.left(), 0)).UTC()
	return &now
}

// refuseOverTrial refuses a revision while another one is on trial: it would make that one's end nobody's decision. One that is on
// trial itself goes back to what ran before the first, and what ran before may be put back at once.
func (s *Service) refuseOverTrial(next *netfile.Bundle) error {
	if s.pending == nil {
		return nil
	}
	if back, err := s.earlier(s.pending.Back); err == nil && back.Bundle.Same(next) {
		return nil
	}
	now := s.current.Load().revision
	return &refused{http.StatusConflict, fmt.Sprintf("revision %d, by %s, is on trial and goes back to %d at %s: keep it first (apply -keep), go back now (revert %d), or let this one be a trial too (-for), which goes back to %d as well",
		now.Number, now.Author, s.pending.Back, s.pending.asNow().Until.Local().Format("15:04:05"), s.pending.Back, s.pending.Back), nil}
}

// earlier returns a revision; 0 is that nothing is in force.
func (s *Service) earlier(number int) (Revision, error) {
	if number == 0 {
		return Revision{}, nil
	}
	return s.state.Revision(number)
}

// endTrial puts into force what ran before a trial of a revision, and writes that down. Where it can't be written, it is in force
// all the same, and the next call writes it.
func (s *Service) endTrial(of int) error {
	if s.unwritten == nil {
		r, err := s.earlier(s.pending.Back)
		if err != nil {
			return err
		}
		why := "was not kept in time"
		if s.pending.lease != nil {
			why = "not all gateways of its apply had in time"
		}
		next, err := s.prepared(Revision{Bundle: r.Bundle, Author: itselfAuthor, Note: fmt.Sprintf("back from %d, which %s", of, why)})
		if err != nil {
			return err
		}
		if s.trialBefore() != nil {
			next.revision.Fate = OnTrial
		}
		next.revision.Number = of + 1
		s.date(next)
		if err := s.use(next); err != nil {
			return err
		}
		s.unwritten = next
		s.wentBack.Add(1)
		s.record(Event{What: revisionEvent, Text: fmt.Sprintf("revision %d, which %s, is taken back: what ran before it is in force again", of, why)})
	}
	before := s.trialBefore()
	written := *s.unwritten
	s.show() // it is in force, written down or not
	if err := s.state.Add(&written.revision, before); err != nil {
		return fmt.Errorf("what ran before %d is in force again, but that can't be written down yet: %w", of, err)
	}
	s.record(Event{What: revisionEvent, Text: fmt.Sprintf("revision %d, by %s: %s", s.unwritten.revision.Number, itselfAuthor, s.unwritten.revision.Note)})
	s.pending, s.unwritten = before, nil
	s.current.Store(&written)
	s.show()
	return nil
}

// trialBefore returns the trial that goes on when what is pending has gone back, or nil.
func (s *Service) trialBefore() *Pending {
	if s.pending.lease == nil {
		return nil
	}
	return s.pending.lease.Before.pending()
}
