package prove_test

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"slices"
	"strings"
	"testing"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/reach"
	"hollowbridge/core/walk"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/lab"
	"hollowbridge/internal/netfile/netfiletest"
	"hollowbridge/internal/prove"
)

var (
	networks = flag.Int("networks", 3, "how many random networks to build on the kernel; .ci/run takes 12")
	first    = flag.Int("first", 0, "the `SEED` of the first")
)

func TestMain(m *testing.M) {
	flag.Parse()
	flag.Set("test.parallel", "4") // they wait for packets more than they compute
	os.Exit(lab.Main(m.Run))
}

// monday is when the labs are: ten o'clock.
var monday = network.MomentOf(0, 600)

// proved builds a network and sends some of the connections that prove another.
func proved(t *testing.T, traced, built string, seed uint64, most int, which ...func(walk.Connection) bool) []prove.Case {
	t.Helper()
	e := walk.Compile(netfiletest.Parse(t, traced), nil)
	other := netfiletest.Parse(t, built)
	prove.MakeRoom(other)
	l, err := lab.Build(walk.Compile(other, nil), monday)
	if err != nil {
		t.Fatalf("seed %d: %v", seed, err)
	}
	defer l.Close()
	plan, err := prove.Classes(e, monday, reach.MostPieces)
	if err != nil {
		t.Fatalf("seed %d: %v", seed, err)
	}
	list := plan.Connections
	for _, wanted := range which {
		list = slices.DeleteFunc(list, func(c walk.Connection) bool { return !wanted(c) })
	}
	rand.New(rand.NewPCG(seed, 1)).Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
	p := &prove.Prover{Lab: l, Engine: e, Able: prove.Without(netfiletest.Parse(t, traced), l.Unable)}
	cases, err := p.Run(list[:min(len(list), most)])
	if err != nil {
		t.Fatal(err)
	}
	return cases
}

// unexplained returns the cases that disagree without a known reason.
func unexplained(cases []prove.Case) (list []string) {
	for _, c := range cases {
		if len(c.Differs) > 0 && c.Known == "" {
			p := c.Trace.Connection.Packet
			list = append(list, fmt.Sprintf("%s -> %s %s from %s: %s at %s; %s", p.From(), p.To(), p.Protocol, c.Trace.Connection.From.Name(),
				c.Trace.Outcome, c.Trace.At.Name(), strings.Join(c.Differs, "; ")))
		}
	}
	return list
}

// The kernel does what the traces say, on networks that hold all that the file can say.
func TestRandomNetworksFareAsTraced(t *testing.T) {
	if testing.Short() {
		t.Skip("it sends real packets")
	}
	t.Parallel()
	sent, explained := 0, map[string]int{}
	for seed := *first; seed < *first+*networks; seed++ {
		text := gen.Mixed(uint64(seed))
		cases := proved(t, text, text, uint64(seed), 20)
		for _, line := range unexplained(cases) {
			t.Errorf("seed %d: %s", seed, line)
		}
		for _, c := range cases {
			if sent++; len(c.Differs) > 0 {
				explained[c.Known]++
			}
		}
	}
	fmt.Printf("proved %d networks on the kernel with %d connections; explained: %v\n", *networks, sent, explained)
}

// Two gateways on one segment that providers send IPv6 to are built, and what a provider blocks are its gateway's
// connections, not those of machines beside the uplink.
func TestMachinesBesideAnUplinkAreNotBlocked(t *testing.T) {
	if testing.Short() {
		t.Skip("it sends real packets")
	}
	t.Parallel()
	text, other := gen.Sites(36), netip.MustParseAddr("2001:db8:1::5")
	cases := proved(t, text, text, 36, 3, func(c walk.Connection) bool {
		s := c.From.Segment
		return s != nil && s.Name == "exchange" && c.Packet.Destination == other && c.Packet.DestinationPort == 22
	})
	if list := unexplained(cases); len(list) > 0 || len(cases) == 0 {
		t.Errorf("of %d connections differ: %s", len(cases), strings.Join(list, "\n"))
	}
}

// Lists so long that they become trees find the same rules.
func TestLongListsFareAsTraced(t *testing.T) {
	if testing.Short() {
		t.Skip("it sends hundreds of connections")
	}
	t.Parallel()
	for seed, text := range []string{gen.Large(1, 60), gen.Tangled(2, 40)} {
		cases := proved(t, text, text, uint64(seed), 150)
		for _, line := range unexplained(cases) {
			t.Errorf("%d: %s", seed, line)
		}
	}
}

// A gateway that does otherwise is found out.
func TestADifferenceIsFound(t *testing.T) {
	if testing.Short() {
		t.Skip("it sends real packets")
	}
	t.Parallel()
	text := gen.Large(1, 4)
	cases := proved(t, text, strings.Replace(text, "to: 10.1.0.1:1001", "to: 10.1.0.1:1002", 1), 1, 40, func(c walk.Connection) bool {
		return c.Packet.Protocol == header.TCP && c.Packet.DestinationPort == uint16(gen.LargePort(1))
	})
	if list := unexplained(cases); len(list) == 0 {
		t.Error("nothing differs")
	}
}
