package gateway_test

import (
	"context"
	"math/rand/v2"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/gateway"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile/netfiletest"
	"hollowbridge/internal/sessions"
)

// Connections that go through gateways by their control API fare as those that go through their
// engines, packet by packet, on networks that hold all that the file can say.
func TestGatewaysDecideOverTheAPIAsTheirEngines(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for running gateways")
	}
	for seed := range netfiletest.Few(uint64(40), 8) {
		text := gen.Small(seed)
		n := netfiletest.Parse(t, text)
		e := walk.Compile(n, nil)
		clients := map[string]*gateway.Client{}
		var services []*gateway.Service
		var servers []*gateway.Server
		var serving sync.WaitGroup
		for _, g := range n.Gateways {
			s, err := gateway.Start(gateway.Options{Gateway: g.Name, Folder: t.TempDir(), Keeping: gateway.UsualKeeping, Trouble: trouble(t),
				Backend: func(r gateway.Recorder) (gateway.Backend, error) { return gateway.NewSimulated(r), nil }})
			if err != nil {
				t.Fatal(err)
			}
			made, err := s.Prepare(gateway.Proposal{Bundle: bundle(text)})
			if err == nil {
				_, err = s.Commit(gateway.Commit{Token: made.Token, Author: "ada"})
			}
			if err != nil {
				t.Fatalf("seed %d: %v", seed, err)
			}
			at := gateway.Endpoint{Socket: filepath.Join(t.TempDir(), "s.sock")}
			l, err := at.Listen()
			if err != nil {
				t.Fatal(err)
			}
			server := gateway.NewServer(s)
			serving.Go(func() { server.Serve(l) })
			services, servers = append(services, s), append(servers, server)
			if clients[g.Name], err = gateway.NewClient(g.Name, at); err != nil {
				t.Fatal(err)
			}
		}
		far := e.NewWalkBy(gateway.Decider(context.Background(), clients), 40)
		near := e.NewWalkOver(func(g *network.Gateway) engine.State {
			return sessions.New(g, func() time.Duration { return 0 })
		})
		random := rand.New(rand.NewPCG(seed, 17))
		at := network.MomentAt(time.Now())
		for range 40 {
			c, ok := netfiletest.Connection(random, e)
			if !ok {
				continue
			}
			c.Moment = at
			got, want := far.Verdict(c), near.Verdict(c)
			if far.Err() != nil {
				t.Fatalf("seed %d: %v", seed, far.Err())
			}
			if got.Outcome != want.Outcome || got.At != want.At || got.To != want.To || got.Delivered != want.Delivered || got.Answered != want.Answered || got.Told != want.Told {
				t.Fatalf("seed %d, %s -> %s %s:\n over the API %+v\n by engines   %+v", seed, c.Packet.From(), c.Packet.To(), c.Packet.Protocol, got, want)
			}
		}
		for i, s := range services {
			servers[i].Shutdown()
			s.Stop(false)
		}
		serving.Wait()
	}
}
