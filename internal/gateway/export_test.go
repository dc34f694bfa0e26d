package gateway

import (
	"time"

	"hollowbridge/core/network"
)

// Since makes what is in force that of an earlier moment, as if it had been put into force then.
func (s *Service) Since(at network.Moment) {
	s.changing.Lock()
	s.current.Load().network.On(at)
	s.changing.Unlock()
	s.wake()
}

// Heeds makes a client wait another time for answers than ten seconds.
func (c *Client) Heeds(wait time.Duration) { c.heeded = wait }

// Boot makes machines run for some other time, since another start, until the function it returns is called.
func Boot(since func() time.Duration, id string) (back func()) {
	realTime, realID := sinceBoot, bootID
	sinceBoot, bootID = since, func() string { return id }
	return func() { sinceBoot, bootID = realTime, realID }
}

// Stalled does something while nobody reads which connections begin.
func (k *Kernel) Stalled(do func()) {
	k.counting.Lock()
	defer k.counting.Unlock()
	do()
}

// EverybodysTables makes gateways do as on a kernel that has no tables of one program alone, until the function it returns is called.
func EverybodysTables() (back func()) {
	owning = false
	return func() { owning = true }
}

// MiddleIsOver makes the time be over in which connections go on that nobody saw begin.
func (k *Kernel) MiddleIsOver() error { return k.endMiddle(time.Now().Add(goingOn)) }
