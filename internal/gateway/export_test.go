package gateway

import "hollowbridge/core/network"

// Since makes what is in force that of an earlier moment, as if it had been put into force then.
func (s *Service) Since(at network.Moment) {
	s.changing.Lock()
	s.current.Load().network.On(at)
	s.changing.Unlock()
	s.wake()
}
