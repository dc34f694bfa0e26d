package gateway

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"
)

// An apply of several gateways is all or none, whoever dies meanwhile: what each of them commits is a lease, which ends by itself. When
// all have committed, whoever applies says so to each, and only that makes it stay. Whoever dies before that leaves nothing changed.
// Whoever dies between two of these words leaves some that have it and some that go back, which no lease prevents: each knows of which
// gateways the apply was, so that the next command can say it, and finish it or take it back.

// leaseTime is how long a gateway waits to hear that all gateways of an apply have it.
const leaseTime = time.Minute

// A lease is that a revision waits for the other gateways of its apply.
type lease struct {
	ID     string    `json:"id"`    // of the apply
	Token  string    `json:"token"` // of the proposal
	Trial  *trialFor `json:"trial"` // that it is on when all have it; nil where it stays then
	Before *trialFor `json:"before"`
}

// trialFor is a trial as a lease remembers it.
type trialFor struct {
	Until    time.Time     `json:"until"`
	Back     int           `json:"back"`
	Boot     string        `json:"boot"`
	Deadline time.Duration `json:"deadline"`
}

func leasedTrial(p *Pending) *trialFor {
	if p == nil {
		return nil
	}
	return &trialFor{p.Until, p.Back, p.boot, p.deadline}
}

func (t *trialFor) pending() *Pending {
	if t == nil {
		return nil
	}
	return &Pending{Until: t.Until, Back: t.Back, boot: t.Boot, deadline: t.Deadline}
}

// leased returns what a revision is that is committed for an apply: on lease where other gateways have a part in it.
func (s *Service) leased(c Commit, p *staged, trial *Pending) (*Applied, *Pending, error) {
	if c.Apply == nil {
		return nil, trial, nil
	}
	const most = 10_000
	a := c.Apply
	if err := plainText(append(slices.Clone(a.Gateways), a.ID)...); err != nil {
		return nil, nil, err
	}
	if a.ID == "" || len(a.Gateways) > most || !slices.Contains(a.Gateways, s.options.Gateway) && (p.made.gateway == nil || !slices.Contains(a.Gateways, p.made.gateway.Name)) {
		return nil, nil, &refused{http.StatusBadRequest, "an apply has an id, and this gateway among its gateways", nil}
	}
	if len(a.Gateways) == 1 {
		return &Applied{*a, Whole}, trial, nil
	}
	waits := newPending(leaseTime, p.base)
	waits.lease = &lease{a.ID, c.Token, leasedTrial(trial), leasedTrial(s.pending)}
	return &Applied{*a, Leased}, waits, nil
}

// refuseOverLease refuses what would come between the parts of an apply.
func (s *Service) refuseOverLease() error {
	if s.pending == nil || s.pending.lease == nil {
		return nil
	}
	r := s.current.Load().revision
	return &refused{http.StatusConflict, fmt.Sprintf("revision %d, by %s, waits for the other gateways of its apply (%s); at %s it goes back by itself, unless that is finished",
		r.Number, r.Author, strings.Join(r.Applied.Gateways, ", "), s.pending.asNow().Until.Local().Format("15:04:05")), nil}
}

// Confirm makes the revision stay that an apply has put here, or go on trial, because all of the gateways have it.
func (s *Service) Confirm(c Confirm) error {
	s.changing.Lock()
	defer s.changing.Unlock()
	now := s.current.Load()
	if now == nil || now.revision.Applied == nil || now.revision.Applied.ID != c.ID || s.unwritten != nil {
		return &refused{http.StatusConflict, fmt.Sprintf("what is in force here, revision %d, is not of this apply: that went back, or another followed", s.number()), nil}
	}
	confirmed := *now
	applied := *now.revision.Applied
	confirmed.revision.Applied = &applied
	pending := s.pending
	waits := pending != nil && pending.lease != nil
	if waits {
		pending = pending.lease.Trial.pending()
	}
	switch {
	case c.Whole && applied.State != Whole:
		applied.State = Whole
	case waits:
		applied.State = Confirmed
	default:
		return nil // it is so already
	}
	if err := s.state.Confirm(&confirmed.revision, pending); err != nil {
		return err
	}
	if waits {
		s.confirmed = s.pending.lease.Token
	}
	s.pending = pending
	s.current.Store(&confirmed)
	s.show()
	if waits {
		s.record(Event{What: revisionEvent, Text: fmt.Sprintf("revision %d is confirmed: %s have it", confirmed.revision.Number, strings.Join(applied.Gateways, ", "))})
	}
	s.wake()
	return nil
}

// forget takes a proposal back, whatever has become of it.
func (s *Service) forget(token, note string) error {
	delete(s.staged, token)
	if token == s.confirmed {
		return &refused{http.StatusConflict, fmt.Sprintf("revision %d is confirmed by now, and stays", s.number()), nil}
	}
	if s.pending == nil || s.pending.lease == nil || s.pending.lease.Token != token || s.unwritten != nil {
		return nil
	}
	return s.goBack(s.pending.Back, note, s.pending.lease.Before.pending())
}

// shown is what is in force, and goes back by itself, for whoever asks meanwhile.
type shown struct {
	revision Revision // without its bundle
	pending  *Pending
}

// show shows what is in force, once that is written down.
func (s *Service) show() {
	now := s.current.Load()
	if now == nil {
		s.shown.Store(nil)
		return
	}
	r := now.revision
	r.Bundle = nil
	s.shown.Store(&shown{r, s.pending})
}
