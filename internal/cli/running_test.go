package cli_test

import (
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"
)

var kills = flag.Int("kills", 60, "how often a running gateway is killed at a random moment")

const edge = `network: edge
hosts:
  archive: {address: 10.61.24.5, serves: [https]}
gateways:
  rim:
    control: {socket: rim.sock}
    interfaces:
      fibre: {address: 198.51.100.18/29, zone: outside}
      yard: {address: 10.61.24.1/28, zone: yard}
    routes: [{to: default, via: 198.51.100.17}]
    logging: {enabled: true, unmatched: true}
    nat: [{port-forward: web, on: fibre, service: https, to: archive}]
    filter: [{allow: web, from: outside, to: archive, service: https, log: true}]
`

// A gateway that is killed at any moment, while it is applied to and sent connections, has all
// that was said to be applied, in its order, and starts again.
func TestKilledAtAnyMomentNothingIsLost(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", edge)
	random := rand.New(rand.NewPCG(11, 11))
	var applied []int // revisions that were said to be in force
	number := 0
	for kill := range fewer(*kills, 15) {
		g := started(t, folder, "hollowbridge gateway rim -state state -on simulated")
		var mutex sync.Mutex
		var load sync.WaitGroup
		stop := make(chan struct{})
		load.Go(func() {
			for ; ; number++ {
				select {
				case <-stop:
					return
				default:
				}
				name := fmt.Sprintf("next%d.yaml", number%2)
				write(t, folder, name, edge+fmt.Sprintf("# %d\n", number))
				r := run(t, folder, "apply", "-yes", "-json", "-f", name)
				var said struct {
					Outcome  string
					Gateways []struct{ Is int }
				}
				if r.status == 0 && json.Unmarshal([]byte(r.out), &said) == nil && said.Outcome == "applied" {
					mutex.Lock()
					applied = append(applied, said.Gateways[0].Is)
					mutex.Unlock()
				}
			}
		})
		load.Go(func() { run(t, folder, "send", "internet", "rim:fibre", "https", "-count", "2000") })
		time.Sleep(time.Duration(random.IntN(120)) * time.Millisecond)
		g.Process.Kill()
		g.Wait()
		close(stop)
		load.Wait()
		last := 0
		for _, n := range applied {
			if n <= last {
				t.Fatalf("after kill %d: revision %d comes after %d", kill, n, last)
			}
			last = n
		}
	}
	started(t, folder, "hollowbridge gateway rim -state state -on simulated")
	var history []struct{ Revisions []struct{ Number int } }
	r := run(t, folder, "history", "-json")
	if err := json.Unmarshal([]byte(r.out), &history); err != nil || len(history) != 1 {
		t.Fatal(err, r)
	}
	there := map[int]bool{}
	for _, revision := range history[0].Revisions {
		there[revision.Number] = true
	}
	if len(applied) < fewer(*kills, 15)/4 {
		t.Errorf("only %d revisions were applied", len(applied))
	}
	for _, n := range applied {
		if !there[n] {
			t.Errorf("revision %d was said to be applied, and is lost", n)
		}
	}
	t.Logf("%d revisions were said to be applied, %d are there", len(applied), len(there))
}

// Of two gateways, one of which fails in between, the other goes back.
func TestAllGatewaysOrNone(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	two := strings.Replace(strings.Replace(edge, "serves: [https]", "gateway: rim, serves: [https]", 1), "gateways:\n", `gateways:
  keep:
    control: {socket: keep.sock}
    interfaces:
      up: {address: 10.61.24.2/28, zone: yard}
    routes: [{to: default, via: 10.61.24.1}]
`, 1)
	write(t, folder, "hollowbridge.yaml", two)
	started(t, folder, "hollowbridge gateway keep -state state-keep -on simulated")
	r := run(t, folder, "apply", "-yes")
	if r.status != 2 || !strings.Contains(r.err, "rim is not running") {
		t.Error(r)
	}
	rim := started(t, folder, "hollowbridge gateway rim -state state-rim -on simulated")
	if r := run(t, folder, "apply", "-yes"); r.status != 0 {
		t.Fatal(r)
	}
	rim.Process.Kill()
	rim.Wait()
	write(t, folder, "hollowbridge.yaml", two+"# more\n")
	if r := run(t, folder, "apply", "-yes"); r.status != 2 {
		t.Error(r)
	}
	r = run(t, folder, "history", "-gateway", "keep")
	if r.status != 0 || !strings.Contains(r.out, "1 *") {
		t.Error(r)
	}
	// Who is away is said, and the others are asked all the same.
	if r := run(t, folder, "hits"); r.status != 2 || !strings.Contains(r.out, "keep, since") || !strings.Contains(r.err, "rim is not running") {
		t.Error(r)
	}
}

// The lab runs a command inside a machine of the network, where real packets meet the rules.
func TestALabIsTheNetwork(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", edge)
	r := run(t, folder, "lab", "archive", "--", "hollowbridge", "history")
	if strings.Contains(r.err, "does not let you make a network") {
		t.Skip("SKIPPED: " + r.err)
	}
	if r.status != 0 || !strings.Contains(r.out, "as in hollowbridge.yaml") {
		t.Fatal(r)
	}
	for line, want := range map[string]string{
		"lab rim -- hollowbridge show kernel -here":                         "nat/web",
		"lab -- hollowbridge apply -dry-run -yes":                           "nothing differs: rim runs this as revision 1",
		"lab -- hollowbridge probe 198.51.100.18 https":                     "answered",
		"lab -- hollowbridge probe 198.51.100.18 ssh":                       "silence",
		"lab archive -- hollowbridge probe 10.61.24.5 tcp/81":               "reset",
		"lab nobody -- hollowbridge version":                                "nobody: there is no such machine",
		"lab internet -- hollowbridge send internet rim:fibre https":        "runs on the kernel",
		"lab internet -- hollowbridge trace internet rim:fibre https -live": "reached archive",
	} {
		if r := run(t, folder, strings.Fields(line)...); !strings.Contains(r.out+r.err, want) {
			t.Errorf("%s: %q is missing in\n%s%s", line, want, r.out, r.err)
		}
	}
	if r := run(t, folder, "lab", "archive", "--", "hollowbridge", "trace", "nowhere", "rim:fibre", "https"); r.status != 2 {
		t.Error(r) // the exit status is the command's
	}
}
