package sessions_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile/netfiletest"
	"hollowbridge/internal/sessions"
)

// What a connection carries once it has reached its host arrives as well, both ways, and is
// counted at each gateway that it passes; what a gateway itself answers goes by its session.
func TestWhatAConnectionCarriesIsCounted(t *testing.T) {
	carried, itself := 0, 0
	for seed := range netfiletest.Asked(*networks, 20) {
		n := netfiletest.Parse(t, gen.Small(seed))
		e, c := walk.Compile(n, nil), &clock{}
		var stores []*sessions.Store
		way := e.NewWalkOver(func(g *network.Gateway) engine.State {
			stores = append(stores, sessions.New(g, c.now))
			return stores[len(stores)-1]
		})
		passed := func() (forth, back sessions.Count, open int) {
			for _, s := range stores {
				s.List(func(o sessions.Open) bool {
					forth, back, open = forth.Plus(o.Passed[engine.Forth]), back.Plus(o.Passed[engine.Back]), open+1
					return true
				})
			}
			return forth, back, open
		}
		random := rand.New(rand.NewPCG(seed, 61))
		for range 80 {
			conn, ok := netfiletest.Connection(random, e)
			if !ok {
				continue
			}
			for _, s := range stores {
				s.Remove(func(engine.Session) bool { return true })
			}
			c.at += time.Minute
			v := way.Verdict(conn)
			if v.Outcome != engine.Reached || v.Handed > 0 || conn.Packet.Protocol != header.TCP {
				continue
			}
			forthBefore, backBefore, open := passed()
			if forthBefore.Packets < 2*int64(open) { // none, or a loose gateway saw the answer alone
				continue
			}
			if !way.Sends(header.Continues, false, 1000) || !way.Sends(header.Continues, true, 500) {
				t.Fatalf("seed %d: %s -> %s: what it carries does not arrive", seed, conn.Packet.From(), conn.Packet.To())
			}
			forth, back, still := passed()
			if still != open {
				t.Fatalf("seed %d: %d sessions became %d", seed, open, still)
			}
			forthBytes, backBytes := forth.Bytes-forthBefore.Bytes, back.Bytes-backBefore.Bytes
			if forth.Packets-forthBefore.Packets != int64(open) || forthBytes != 1000*int64(open) {
				t.Fatalf("seed %d: %s -> %s: forth %+v after %+v, %d sessions", seed, conn.Packet.From(), conn.Packet.To(), forth, forthBefore, open)
			}
			if backBytes%500 != 0 || backBytes > 500*int64(open) { // it may go round some of them
				t.Fatalf("seed %d: back %+v after %+v, %d sessions", seed, back, backBefore, open)
			}
			carried++
			if v.To.Gateway != nil {
				itself++
			}
		}
	}
	if !testing.Short() && *networks >= 150 && (carried < 15 || itself < 3) {
		t.Errorf("only %d connections carried something, %d of them to a gateway itself", carried, itself)
	}
}

// A gateway's own answer belongs to a session, or goes nowhere.
func TestAGatewayAnswersOnlyWhomItTook(t *testing.T) {
	n := netfiletest.Parse(t, busy+"    serves: {ssh: [yard]}\n")
	g, c := n.Gateways[0], &clock{}
	compiled, store := walk.Compile(n, nil).Gateway(g), sessions.New(g, c.now)
	var log engine.Log
	p := flood(5)
	p.Destination, p.DestinationPort = g.Interfaces[1].Addresses[0].Addr(), 22
	answer := engine.Arrival{Packet: p.Answer(), Part: header.Answers}
	if d, ok := compiled.Answer(&answer, store, &log); ok {
		t.Errorf("it answers nobody: %+v", d)
	}
	if d := compiled.Decide(&engine.Arrival{In: g.Interfaces[1], Packet: p}, store, &log); d.Action != engine.Takes || d.Out != nil {
		t.Fatalf("%+v", d)
	}
	d, ok := compiled.Answer(&answer, store, &log)
	if !ok || d.Action != engine.Forwards || d.Out != g.Interfaces[1] || d.Packet != p.Answer() {
		t.Errorf("%+v, %v", d, ok)
	}
}
