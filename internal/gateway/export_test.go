package gateway

import "hollowbridge/core/network"

// Since makes what is in force that of an earlier day, as if it had been put into force then.
func (s *Service) Since(day network.Date) {
	s.changing.Lock()
	s.current.Load().network.On(day)
	s.changing.Unlock()
	s.wake()
}
