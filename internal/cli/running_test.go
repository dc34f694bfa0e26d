package cli_test

import (
	"bufio"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"hollowbridge/internal/gateway"
)

var kills = flag.Int("kills", 18, "how often a running gateway is killed at a random moment; .ci/run takes 40")

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

// twoEdges is edge with another gateway on its yard, which stands first.
var twoEdges = strings.Replace(strings.Replace(edge, "serves: [https]", "gateway: rim, serves: [https]", 1), "gateways:\n", `gateways:
  keep:
    control: {socket: keep.sock}
    interfaces:
      up: {address: 10.61.24.2/28, zone: yard}
    routes: [{to: default, via: 10.61.24.1}]
`, 1)

// A gateway that is killed at any moment, while it is applied to and sent connections, has all
// that was said to be applied, in its order, and starts again.
func TestKilledAtAnyMomentNothingIsLost(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for running gateways")
	}
	t.Parallel()
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", edge)
	random := rand.New(rand.NewPCG(11, 11))
	var applied []int // revisions that were said to be in force
	number := 0
	for kill := range *kills {
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
	if len(applied) < *kills/4 {
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
	write(t, folder, "hollowbridge.yaml", twoEdges)
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
	write(t, folder, "hollowbridge.yaml", twoEdges+"# more\n")
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
	if testing.Short() {
		t.Skip("it builds networks on the kernel")
	}
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
		"lab rim -- hollowbridge show kernel -here":                                 "nat/web",
		"lab -- hollowbridge apply -dry-run -yes":                                   "nothing differs: rim runs this as revision 1",
		"lab -- hollowbridge probe 198.51.100.18 https":                             "answered",
		"lab -- hollowbridge probe 198.51.100.18 ssh":                               "silence",
		"lab archive -- hollowbridge probe 10.61.24.5 tcp/81":                       "reset",
		"lab nobody -- hollowbridge version":                                        "nobody: there is no such machine",
		"lab internet -- hollowbridge send internet rim:fibre https -count 90":      "90  answered",
		"lab archive -- hollowbridge send 192.0.2.9 rim:fibre ssh -count 2":         "2  silence",
		"lab archive -- hollowbridge send 192.0.2.9 rim:fibre ssh -hold -count 500": "at most 400 are held in a lab",
		"lab internet -- hollowbridge trace internet rim:fibre https -live":         "reached archive",
	} {
		if r := run(t, folder, strings.Fields(line)...); !strings.Contains(r.out+r.err, want) {
			t.Errorf("%s: %q is missing in\n%s%s", line, want, r.out, r.err)
		}
	}
	if r := run(t, folder, "lab", "archive", "--", "hollowbridge", "trace", "nowhere", "rim:fibre", "https"); r.status != 2 {
		t.Error(r) // the exit status is the command's
	}
}

// into reads JSON that a command has printed.
func into(t *testing.T, r result, value any) {
	t.Helper()
	if err := json.Unmarshal([]byte(r.out), value); err != nil {
		t.Fatalf("%v\n%s%s", err, r.out, r.err)
	}
}

// What is printed as JSON says what the text says, in the shapes that scripts rely on.
func TestRunningGatewaysSpeakJSON(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for running gateways")
	}
	t.Parallel()
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", edge)
	started(t, folder, "hollowbridge gateway rim -state state -on simulated")
	var applied struct {
		Outcome      string
		Compared     bool
		Expectations []struct{ Holds bool }
		Gateways     []struct {
			Gateway string
			Was, Is int
			Notes   []string
			Changed int
		}
		Differences []struct{ Change string }
		Refused     []string
	}
	into(t, run(t, folder, "apply", "-json", "-dry-run"), &applied)
	if applied.Outcome != "planned" || !applied.Compared || len(applied.Gateways) != 1 || applied.Gateways[0].Is != 0 || applied.Refused == nil || applied.Differences == nil {
		t.Errorf("%+v", applied)
	}
	into(t, run(t, folder, "apply", "-json", "-yes"), &applied)
	if applied.Outcome != "applied" || applied.Gateways[0].Is != 1 {
		t.Errorf("%+v", applied)
	}
	into(t, run(t, folder, "apply", "-json", "-yes"), &applied)
	if applied.Outcome != "unchanged" {
		t.Errorf("%+v", applied)
	}
	var sent struct {
		Sent, Reached int
		Outcomes      map[string]int
		Seconds       float64
	}
	into(t, run(t, folder, "send", "internet", "rim:fibre", "https", "-count", "700", "-bytes", "3000", "-json"), &sent)
	if sent.Sent != 700 || sent.Reached != 700 || sent.Outcomes["reached archive"] != 700 || sent.Seconds <= 0 {
		t.Errorf("%+v", sent)
	}
	var found struct {
		Count    int
		Sessions []struct {
			Gateway, In, Out, State, Redirect, Permit string
			Before, After                             struct {
				Source, Destination string
				SourcePort          int `json:"source-port"`
				DestinationPort     int `json:"destination-port"`
			}
			Forth, Back struct{ Packets, Bytes int }
		}
	}
	into(t, run(t, folder, "sessions", "-json", "-top", "10"), &found)
	if found.Count != 700 || len(found.Sessions) != 10 {
		t.Fatalf("%d, %d", found.Count, len(found.Sessions))
	}
	s := found.Sessions[0]
	if s.Gateway != "rim" || s.In != "fibre" || s.Out != "yard" || s.State != "closing" || s.Redirect != "web" || s.Permit != "web" ||
		s.Before.Destination != "198.51.100.18" || s.After.Destination != "10.61.24.5" || s.Forth.Bytes < 1500 || s.Back.Bytes < 1500 {
		t.Errorf("%+v", s)
	}
	sources := map[string]bool{}
	into(t, run(t, folder, "sessions", "-json", "-top", "700"), &found)
	for _, s := range found.Sessions {
		sources[s.Before.Source] = true
	}
	if len(sources) < 2 {
		t.Errorf("all strangers come from %v", sources)
	}
	var hits map[string]struct {
		Hits []struct {
			List, Rule, Kind string
			Connections      int
			Last             *time.Time
		}
	}
	into(t, run(t, folder, "hits", "-json"), &hits)
	if h := hits["rim"].Hits; len(h) != 2 || h[0].Connections != 700 || h[0].Kind != "port-forward" || h[0].Last == nil {
		t.Errorf("%+v", hits)
	}
	var log struct {
		Events []struct {
			Number         int
			What, Outcome  string
			Before, After  *struct{ Source string }
			In, Out, Rule  string
			InDevice, Text string
		}
	}
	into(t, run(t, folder, "log", "-json", "-rule", "web", "-top", "3"), &log)
	if len(log.Events) != 3 || log.Events[2].Outcome != "passes" || log.Events[2].Rule != "filter/web" || log.Events[2].Before == nil {
		t.Errorf("%+v", log)
	}
	var sum map[string]struct {
		Events  int
		Sources []struct {
			Name  string
			Count int
		}
	}
	into(t, run(t, folder, "log", "-json", "-sum"), &sum)
	if sum["rim"].Events != 700 || len(sum["rim"].Sources) < 2 {
		t.Errorf("%+v", sum)
	}
	var history []struct {
		Gateway   string
		Revisions []struct {
			Number       int
			Author, Note string
			Added        int
		}
	}
	into(t, run(t, folder, "history", "-json"), &history)
	if len(history) != 1 || len(history[0].Revisions) != 1 || history[0].Revisions[0].Added != strings.Count(edge, "\n") {
		t.Errorf("%+v", history)
	}
	var ended struct{ Ended map[string]int }
	into(t, run(t, folder, "sessions", "-clear", "-json", "-rule", "web"), &ended)
	if ended.Ended["rim"] != 700 {
		t.Errorf("%+v", ended)
	}
	var traced struct{ Outcome string }
	into(t, run(t, folder, "trace", "internet", "rim:fibre", "https", "-live", "-json"), &traced)
	if traced.Outcome != "reached" {
		t.Errorf("%+v", traced)
	}
}

// A change that would cut off the login it is typed in is refused.
func TestNobodyCutsOffTheirOwnLogin(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	with := strings.Replace(edge, "    logging:", "    serves: {ssh: [fibre]}\n    logging:", 1)
	write(t, folder, "hollowbridge.yaml", with)
	started(t, folder, "hollowbridge gateway rim -state state -on simulated")
	login := []string{"SSH_CONNECTION=203.0.113.7 51000 198.51.100.18 22"}
	if r := runWith(t, folder, login, "apply", "-yes"); r.status != 0 {
		t.Fatal(r)
	}
	write(t, folder, "hollowbridge.yaml", edge)
	r := runWith(t, folder, login, "apply", "-yes")
	if r.status != 1 || !strings.Contains(r.out, "your own connection would be cut off: 203.0.113.7:51000 -> 198.51.100.18:22 is itself at rim") {
		t.Error(r)
	}
	elsewhere := []string{"SSH_CONNECTION=203.0.113.7 51000 192.0.2.1 22"}
	if r := runWith(t, folder, elsewhere, "apply", "-yes", "-dry-run"); r.status != 0 || strings.Contains(r.out, "cut off") {
		t.Error(r)
	}
	if r := runWith(t, folder, login, "apply", "-yes", "-anyway"); r.status != 0 || !strings.Contains(r.out, "rim runs revision 2") {
		t.Error(r)
	}
	// What ends all sessions ends this one, where nothing takes it up in the middle.
	write(t, folder, "hollowbridge.yaml", with)
	if r := runWith(t, folder, login, "apply", "-yes", "-anyway"); r.status != 0 {
		t.Fatal(r)
	}
	write(t, folder, "hollowbridge.yaml", strings.Replace(with, "    logging:", "    handling: {restarts-on-apply: true}\n    logging:", 1))
	if r := runWith(t, folder, login, "apply", "-yes"); r.status != 1 || !strings.Contains(spaced(r.out), "198.51.100.18:22 ends: restarts-on-apply ends all sessions") {
		t.Error(r)
	}
	write(t, folder, "hollowbridge.yaml", strings.Replace(with, "    logging:", "    handling: {restarts-on-apply: true, tcp-state: loose}\n    logging:", 1))
	if r := runWith(t, folder, login, "apply", "-yes", "-dry-run"); r.status != 0 {
		t.Error(r)
	}
	write(t, folder, "hollowbridge.yaml", edge)
	if r := runWith(t, folder, login, "apply", "-yes", "-anyway"); r.status != 0 {
		t.Error(r)
	}
	// A login to a host behind the gateway comes through a forward, or as it is.
	behind := strings.NewReplacer("serves: [https]", "serves: [https, ssh]", "service: https, to: archive}]", "service: https, to: archive}, {port-forward: shell, on: fibre, service: tcp/2222, to: 'archive:22'}]",
		"service: https, log: true}]", "service: [https, ssh], log: true}]").Replace(edge)
	inside := []string{"SSH_CONNECTION=203.0.113.7 51000 10.61.24.5 22"}
	write(t, folder, "hollowbridge.yaml", behind)
	if r := runWith(t, folder, inside, "apply", "-yes"); r.status != 0 {
		t.Fatal(r)
	}
	for from, to := range map[string]string{"service: tcp/2222": "service: tcp/2223", "service: [https, ssh], log": "service: [https], log"} {
		write(t, folder, "hollowbridge.yaml", strings.Replace(behind, from, to, 1))
		if r := runWith(t, folder, inside, "apply", "-yes"); r.status != 1 || !strings.Contains(spaced(r.out), "your own login may be cut off: 203.0.113.7:51000 -> 198.51.100.18:2222, which leads to 10.61.24.5:22 now, is") {
			t.Error(to, r)
		}
	}
	write(t, folder, "hollowbridge.yaml", strings.Replace(behind, "service: https, to: archive}", "service: tcp/8443, to: 'archive:443'}", 1))
	if r := runWith(t, folder, inside, "apply", "-yes"); r.status != 0 || strings.Contains(r.out, "cut off") {
		t.Error(r)
	}
	write(t, folder, "hollowbridge.yaml", edge)
	if r := runWith(t, folder, inside, "apply", "-yes", "-anyway"); r.status != 0 {
		t.Error(r)
	}
	// What does not work now is not cut off.
	write(t, folder, "hollowbridge.yaml", edge+"# more\n")
	if r := runWith(t, folder, login, "apply", "-yes"); r.status != 0 {
		t.Error(r)
	}
}

// Who follows the log sees what comes, by the filter, until it is stopped.
func TestTheLogIsFollowed(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for running gateways")
	}
	t.Parallel()
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", edge)
	started(t, folder, "hollowbridge gateway rim -state state -on simulated")
	if r := run(t, folder, "apply", "-yes"); r.status != 0 {
		t.Fatal(r)
	}
	follow := exec.Command(program, "log", "-follow", "-json", "-outcome", "itself")
	follow.Dir, follow.Env = folder, []string{"HOME=" + folder, "TZ=UTC"}
	out, err := follow.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := follow.Start(); err != nil {
		t.Fatal(err)
	}
	lines := make(chan string, 10)
	go func() {
		defer close(lines)
		for scanner := bufio.NewScanner(out); scanner.Scan(); {
			lines <- scanner.Text()
		}
	}()
	time.Sleep(400 * time.Millisecond)
	run(t, folder, "send", "192.0.2.9", "rim:fibre", "https")
	for port := range 3 {
		run(t, folder, "send", "192.0.2.9", "rim:fibre", fmt.Sprintf("tcp/%d", 20+port))
	}
	for port := range 3 {
		select {
		case line := <-lines:
			var e struct {
				Outcome string
				Before  struct {
					Port int `json:"destination-port"`
				}
			}
			if err := json.Unmarshal([]byte(line), &e); err != nil || e.Outcome != "itself" || e.Before.Port != 20+port {
				t.Errorf("%s: %v", line, err)
			}
		case <-time.After(5 * time.Second):
			t.Fatalf("only %d came", port)
		}
	}
	follow.Process.Signal(os.Interrupt)
	if err := follow.Wait(); err != nil {
		t.Errorf("^C: %v", err)
	}
	if line, more := <-lines; more {
		t.Errorf("%s came as well", line)
	}
}

var many = flag.Int("many", 6_000, "how many sessions a running gateway is given")

// Many sessions are remembered, listed, counted and ended by the program.
func TestManySessions(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for running gateways")
	}
	t.Parallel()
	folder := t.TempDir()
	count := *many
	write(t, folder, "hollowbridge.yaml", strings.Replace(edge, "enabled: true", "enabled: false", 1))
	g := started(t, folder, "hollowbridge gateway rim -state state -on simulated")
	if r := run(t, folder, "apply", "-yes"); r.status != 0 {
		t.Fatal(r)
	}
	if r := run(t, folder, "send", "internet", "rim:fibre", "https", "-count", fmt.Sprint(count)); r.status != 0 || !strings.Contains(r.out, fmt.Sprintf("%d  reached archive", count)) {
		t.Fatal(r)
	}
	r := run(t, folder, "sessions", "-top", "5")
	if !strings.Contains(r.out, fmt.Sprintf("%d sessions, of which these carried most", count)) || strings.Count(r.out, "\n") > 14 {
		t.Error(r)
	}
	if r := run(t, folder, "sessions", "-port", "40017", "-top", "2000"); !strings.Contains(r.out, ":40017 198.51.100.18 tcp/443") {
		t.Error(r)
	}
	if r := run(t, folder, "sessions", "-clear", "-to", "archive"); !strings.Contains(r.out, fmt.Sprintf("rim  %d sessions ended", count)) {
		t.Error(r)
	}
	if r := run(t, folder, "hits"); !strings.Contains(r.out, fmt.Sprint(count)) {
		t.Error(r)
	}
	g.Process.Signal(syscall.SIGTERM)
	if err := g.Wait(); err != nil {
		t.Error(err, g.errs.String())
	}
}

// What is called wrong is said, before anybody is asked.
func TestRunningCommandsSayWhatIsWrong(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	write(t, folder, "hollowbridge.yaml", edge)
	write(t, folder, "control.yaml", strings.Replace(edge, "control: {socket: rim.sock}", "control: {listen: '127.0.0.1:7461', token: t, certificate: c, key: k}", 1))
	for line, want := range map[string]string{
		"gateway":                                 "it needs the name of one gateway",
		"gateway rim":                             "it needs -state FOLDER",
		"gateway rim -state s -on cloud":          "-on cloud: there are kernel and simulated",
		"gateway rim -state s -events 0":          "-events 0: at least 1",
		"gateway rim -state s -events-for x":      "-events-for",
		"gateway rum -state s":                    "rum: hollowbridge.yaml has no such gateway; did you mean rim?",
		"gateway rim -state s -f control.yaml":    "no such file",
		"apply x":                                 "x: not expected",
		"apply -for soon":                         "-for",
		"apply -gateway rum":                      "there is no such gateway; did you mean rim?",
		"revert 0":                                "the number of a revision, from 1 on",
		"revert one":                              "the number of a revision, from 1 on",
		"history 1 2":                             "the number of a revision, from 1 on",
		"sessions -top 0":                         "-top 0: 1 to 100000",
		"sessions -clear":                         "say which sessions, or -all",
		"sessions -clear -all -watch":             "-watch and -clear don't go together",
		"sessions x":                              "x: not expected",
		"hits -top -1":                            "-top -1: at least 1",
		"hits -reset -never":                      "-reset goes with no other flag",
		"log -sum -follow":                        "don't go together",
		"log -explain -2":                         "events are numbered from 1 on",
		"log -since never":                        "-since never: not a time",
		"send a b":                                "it needs FROM, TO and SERVICE",
		"send internet rim:fibre https -count 0":  "-count 0: 1 to",
		"send internet rim:fibre https -bytes -1": "-bytes -1: 0 to",
		"send internet rim:fibre https -rate -1":  "-rate -1",
		"send internet rim:fibre https":           "rim is not running",
		"probe 192.0.2.1":                         "it needs ADDRESS and SERVICE",
		"probe 192.0.2.1 gre":                     "it tries tcp, udp and icmp",
		"probe nobody https":                      "no such host",
		"probe internet https":                    "these are many addresses, and a probe goes to one",
		"probe 192.0.2.1 htps":                    "no such service",
		"probe 192.0.2.1 https -for 9d":           "-for 9d: write 1s to 5m",
		"probe 192.0.2.1 https -from-outside":     "hollowbridge probe 192.0.2.1 tcp/443",
		"trace a b c -send":                       "-send goes with -live",
		"trace internet rim:fibre https -live":    "rim is not running",
		"trace a b https -gateway rim":            "-gateway goes with -live",
		"trace internet rim:fibre https -f rim@2": "rim is not running",
		"compare rum@1 hollowbridge.yaml":         "rum: hollowbridge.yaml has no such gateway",
		"lab nobody":                              "nobody: there is no such machine",
		"init house -here -outside 192.0.2.1/24":  "-here takes all from this machine",
	} {
		r := run(t, folder, strings.Fields(line)...)
		if !strings.Contains(strings.Join(strings.Fields(r.out+r.err), " "), want) {
			t.Errorf("%s: %q is missing in\n%s%s", line, want, r.out, r.err)
		}
		if r.status != 2 && !strings.Contains(line, "-from-outside") {
			t.Errorf("%s: exit status %d", line, r.status)
		}
	}
}

// Connections need the gateways that they go through, and no others.
func TestSendAsksOnlyWhoIsOnTheWay(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for a gateway")
	}
	t.Parallel()
	folder := demoFolder(t) // without the secret that mill is asked with
	started(t, folder, "hollowbridge gateway rim -state state -on simulated")
	must(t, folder, "hollowbridge apply -yes -gateway rim")
	wantIn(t, must(t, folder, "hollowbridge send fronts rim:fibre https -count 3").out, "3  reached archive")
	wantIn(t, must(t, folder, "hollowbridge trace fronts rim:fibre https -live -gateway rim").out, "as it runs: rim@1, 3 sessions", "reached archive")
	for line, why := range map[string]string{"night-desk 10.80.0.9 https": "mill: open mill.token: no such file", "remote-observers 198.51.100.20 tcp/7624": "keep is not running"} {
		r := shell(t, folder, "hollowbridge send "+line)
		wantStatus(t, r, 2)
		wantIn(t, r.err, why)
	}
}

// A collector that takes nothing holds no connection up, and is sent to again once it reads, and
// when it has gone away and come back.
func TestSlowCollectorsHoldNobodyUp(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for running gateways")
	}
	t.Parallel()
	folder := t.TempDir()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Skip(err)
	}
	at := l.Addr().String()
	write(t, folder, "hollowbridge.yaml", strings.Replace(edge, "unmatched: true}", `unmatched: true, syslog: "tcp://`+at+`"}`, 1))
	simulatedShop(t, folder)
	send := func(sport string) {
		t.Helper()
		begun := time.Now()
		r := run(t, folder, "send", "internet", "rim:fibre", "https", "-count", "3000", "-sport", sport)
		if r.status != 0 || !strings.Contains(r.out, "3000 connections sent") || time.Since(begun) > 30*time.Second {
			t.Fatalf("after %v: %+v", time.Since(begun), r)
		}
	}
	client, err := gateway.NewClient("rim", gateway.Endpoint{Socket: filepath.Join(folder, "rim.sock")})
	if err != nil {
		t.Fatal(err)
	}
	soon := func(what string, holds func(*gateway.Collector) bool) {
		t.Helper()
		var last gateway.Status
		for until := time.Now().Add(15 * time.Second); time.Now().Before(until); time.Sleep(20 * time.Millisecond) {
			if last, err = client.Status(context.Background()); err == nil && last.Collector != nil && holds(last.Collector) {
				return
			}
		}
		t.Fatalf("%s: %+v, %v", what, last.Collector, err)
	}
	send("5000")
	conn, err := l.Accept()
	if err != nil {
		t.Fatal(err)
	}
	send("15000") // nobody reads
	send("25000")
	var sent int64
	go io.Copy(io.Discard, conn)
	soon("what waited is sent", func(c *gateway.Collector) bool { sent = c.Sent; return c.Sent+c.Lost >= 9_000 })
	conn.Close()
	l.Close()
	send("35000")
	if l, err = net.Listen("tcp", at); err != nil {
		t.Skip(err)
	}
	defer l.Close()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go io.Copy(io.Discard, conn)
		}
	}()
	soon("it is sent to again", func(c *gateway.Collector) bool { return c.Sent > sent && c.Trouble == "" })
}
