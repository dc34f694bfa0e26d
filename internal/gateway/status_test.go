package gateway_test

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/walk"
	"hollowbridge/internal/gateway"
)

// held is a backend that works until it may go on.
type held struct {
	*gateway.Simulated
	in     chan string   // what it works at
	goesOn chan struct{} // closed where nobody holds it
}

func (h *held) wait(what string) {
	select {
	case h.in <- what:
		<-h.goesOn
	case <-h.goesOn:
	}
}

func (h *held) Check(e *walk.Engine, g *engine.Gateway) ([]string, error) {
	h.wait("gets ready")
	return h.Simulated.Check(e, g)
}

func (h *held) Use(e *walk.Engine, g *engine.Gateway) error {
	h.wait("puts a revision into force")
	return h.Simulated.Use(e, g)
}

func (h *held) Begin(e *walk.Engine, g *engine.Gateway) ([]string, error) {
	return nil, h.Use(e, g)
}

// A status, sessions, hits and the log are told while a gateway gets ready for a network and while it puts it into force.
func TestAStatusWaitsForNobody(t *testing.T) {
	b := &bench{T: t, folder: t.TempDir()}
	h := &held{in: make(chan string), goesOn: make(chan struct{})}
	b.start(func(r gateway.Recorder) (gateway.Backend, error) {
		h.Simulated = gateway.NewSimulated(r)
		return h, nil
	})
	defer func() { b.Stop(false) }()
	var working sync.WaitGroup
	working.Go(func() { b.apply(house, nil) })
	for range 2 {
		what := <-h.in
		told := make(chan string, 1)
		go func() {
			_, err1 := b.Sessions(&gateway.Filter{}, 10)
			_, err2 := b.Hits()
			told <- fmt.Sprint(b.Status().Working, err1, err2)
		}()
		select {
		case text := <-told:
			if want := fmt.Sprint(what, nil, nil); text != want {
				t.Errorf("it says %q, not %q", text, want)
			}
		case <-time.After(10 * time.Second):
			t.Errorf("nothing is told while it %s", what)
		}
		h.goesOn <- struct{}{}
	}
	working.Wait()
	close(h.goesOn)
	if r := b.Status().Revision; r == nil || r.Number != 1 {
		t.Errorf("revision %+v", r)
	}
}
