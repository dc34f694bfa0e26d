package gateway

import (
	"hollowbridge/core/network"
)

// What a rule has counted is counted for it under a new name as well, see network.RenamedRules. What carries the rules into force may go
// on to tell of the old name, so that is looked up whenever counts are.

// idOf returns what a rule is known by in the counts, whatever the gateway is called by now.
func (s *Service) idOf(r *network.Rule) network.RuleID {
	return network.RuleID{Gateway: s.options.Gateway, List: r.List(), Name: r.Name}
}

// carryCounts notes which rules have other names than before.
func (s *Service) carryCounts(before, now *inForce) {
	if before == nil || before.gateway == nil || now.gateway == nil {
		return
	}
	is, renamed := now.gateway, now.gateway.Renamed(before.gateway)
	names := map[network.RuleID]bool{}
	for r := range is.Rules() {
		names[s.idOf(r)] = true
	}
	s.counting.Lock()
	for old := range s.called {
		if names[old] { // which is somebody's again
			s.settleName(old)
		}
	}
	for from, to := range renamed {
		from.Gateway, to.Gateway = s.options.Gateway, s.options.Gateway
		for old, name := range s.called {
			if name == from {
				s.called[old] = to
			}
		}
		s.called[from] = to
	}
	s.counting.Unlock()
	if len(renamed) > 0 {
		if err := s.storeCounts(); err != nil {
			s.options.Trouble(err)
		}
	}
}

// settleName gives what was counted under an old name to the new one for good. The caller holds counting.
func (s *Service) settleName(old network.RuleID) {
	name := s.called[old]
	delete(s.called, old)
	list, err := s.backend.Hits(false)
	if err != nil {
		s.options.Trouble(err)
		return
	}
	gone := Hit{Gateway: old.Gateway, List: old.List, Rule: old.Name}
	all := s.before[old]
	for _, h := range list {
		if h.Gateway = old.Gateway; h.ID() == old {
			all = all.plus(h)
			gone.Connections, gone.Stopped, gone.Exhausted, gone.Unseen = -h.Connections, -h.Stopped, -h.Exhausted, -h.Unseen
			gone.Forth, gone.Back = Count{}.Minus(h.Forth), Count{}.Minus(h.Back)
		}
	}
	was := s.before[name]
	was.Gateway, was.List, was.Rule = name.Gateway, name.List, name.Name
	s.before[name], s.before[old] = was.plus(all), gone
}

// plus adds what another rule has counted.
func (h Hit) plus(other Hit) Hit {
	h.Connections += other.Connections
	h.Open += other.Open
	h.Stopped += other.Stopped
	h.Exhausted += other.Exhausted
	h.Unseen += other.Unseen
	h.Forth, h.Back = h.Forth.Plus(other.Forth), h.Back.Plus(other.Back)
	if h.Last == nil || other.Last != nil && other.Last.After(*h.Last) {
		h.Last = other.Last
	}
	return h
}

// byTheirNames gives what was counted under old names to the new ones. The caller holds counting.
func (s *Service) byTheirNames(counts map[network.RuleID]Hit) {
	for old, name := range s.called {
		h, counted := counts[old]
		if !counted {
			continue
		}
		delete(counts, old)
		now := counts[name].plus(h)
		now.Gateway, now.List, now.Rule = name.Gateway, name.List, name.Name
		counts[name] = now
	}
}
