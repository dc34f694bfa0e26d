package cli

import (
	"math"
	"net/netip"
	"testing"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/internal/gateway"
	"hollowbridge/internal/probe"
)

func TestTimesAndSizesAreShort(t *testing.T) {
	for seconds, want := range map[float64]string{-1: "?", 0: "0s", 59.9: "59s", 60: "1m00s", 3599: "59m59s", 3600: "1h00m", 86400: "24h00m", 172800: "2d", 1e7: "115d"} {
		if got := spanText(seconds); got != want {
			t.Errorf("%v s is %s, want %s", seconds, got, want)
		}
	}
	if got := spanText(math.NaN()); got != "?" {
		t.Error(got)
	}
	for n, want := range map[int64]string{0: "0B", 999: "999B", 1000: "1.0kB", 9_940: "9.9kB", 9_950: "10kB", 999_499: "999kB", 999_500: "1.0MB", 1_500_000_000: "1.5GB", math.MaxInt64: "9223PB"} {
		if got := bytesText(n); got != want {
			t.Errorf("%d bytes are %s, want %s", n, got, want)
		}
	}
}

func TestRevisionsAreToldFromFiles(t *testing.T) {
	for path, want := range map[string]struct {
		name   string
		number int
		ok     bool
	}{
		"rim@3": {"rim", 3, true}, "rim@": {"rim", 0, true}, "rim@0": {"rim", 0, false}, "rim@x": {"rim", 0, false}, "@3": {"", 0, false},
		"hollowbridge.yaml": {}, "a/rim@3": {}, "old@2.yaml": {"old", 0, false}, "r.im@3": {},
	} {
		name, number, ok := revisionOf(path)
		if ok != want.ok || ok && (name != want.name || number != want.number) {
			t.Errorf("%s: %s %d %v", path, name, number, ok)
		}
	}
}

// A connection reads as trace is asked for it, with what was translated of it behind.
func TestConnectionsCanBePastedIntoTrace(t *testing.T) {
	p := func(protocol, from string, sport uint16, to string, port uint16) *gateway.Packet {
		return &gateway.Packet{Protocol: protocol, Source: netip.MustParseAddr(from), SourcePort: sport, Destination: netip.MustParseAddr(to), DestinationPort: port}
	}
	for want, c := range map[string][2]*gateway.Packet{
		"203.0.113.7:41000 198.51.100.18 tcp/443 as = 10.61.24.5:8443":          {p("tcp", "203.0.113.7", 41000, "198.51.100.18", 443), p("tcp", "203.0.113.7", 41000, "10.61.24.5", 8443)},
		"10.61.8.40:41000 192.0.2.9 udp/53 as 198.51.100.18:5000 =":             {p("udp", "10.61.8.40", 41000, "192.0.2.9", 53), p("udp", "198.51.100.18", 5000, "192.0.2.9", 53)},
		"10.61.8.40 192.0.2.9 icmp as 198.51.100.18 =":                          {p("icmp", "10.61.8.40", 7, "192.0.2.9", 0), p("icmp", "198.51.100.18", 7, "192.0.2.9", 0)},
		"[2001:db8::1]:41000 2001:db8:61::2 tcp/443":                            {p("tcp", "2001:db8::1", 41000, "2001:db8:61::2", 443), nil},
		"192.0.2.1:1 192.0.2.2 tcp/9":                                           {p("tcp", "192.0.2.1", 1, "192.0.2.2", 9), p("tcp", "192.0.2.1", 1, "192.0.2.2", 9)},
		"10.61.8.40:41000 10.80.0.9 tcp/443 as 172.23.9.1:41000 10.99.0.9:8443": {p("tcp", "10.61.8.40", 41000, "10.80.0.9", 443), p("tcp", "172.23.9.1", 41000, "10.99.0.9", 8443)},
	} {
		if got := connectionText(c[0], c[1]); got != want {
			t.Errorf("%s, want %s", got, want)
		}
	}
}

// Each answer fits outcomes in which a client meets just that, and each outcome of a trace in
// which a client meets something is fitted by some answer.
func TestAnswersFitOutcomes(t *testing.T) {
	silent := map[engine.Outcome]bool{engine.Dropped: true, engine.Itself: true, engine.UpstreamBlocks: true, engine.Unanswered: true}
	fitted := map[engine.Outcome]bool{}
	for _, r := range []probe.Result{
		{Answer: probe.Answered}, {Answer: probe.Reset}, {Answer: probe.Silence, Sent: header.Packet{Protocol: header.TCP}}, {Answer: probe.Silence, Sent: header.Packet{Protocol: header.UDP}},
		{Answer: probe.Unreachable, Why: probe.NoPort}, {Answer: probe.Unreachable, Why: probe.NoHost}, {Answer: probe.Unreachable, Why: probe.NoRoute}, {Answer: probe.Unreachable, Why: probe.Prohibited}, {Answer: probe.Unreachable, Why: probe.Other},
	} {
		for _, o := range fits(r) {
			fitted[o] = true
			if silent[o] && r.Answer != probe.Silence {
				t.Errorf("%+v fits %s, of which nobody is told", r, o)
			}
			if o == engine.Reached && r.Answer != probe.Answered && r.Sent.Protocol != header.UDP {
				t.Errorf("%+v fits %s", r, o)
			}
		}
	}
	for _, o := range engine.Outcomes() {
		if !fitted[o] && o != engine.Exhausted && o != engine.Loop {
			t.Errorf("no answer fits %s", o)
		}
	}
}

func TestInterfacesOfOneNameGetOthers(t *testing.T) {
	known := map[string]string{}
	for _, c := range [][2]string{{"eth0", "eth0"}, {"eth.0", "eth-0"}, {"eth:0", "eth-0-2"}, {"eth/0", "eth-0-3"}, {"0", "if0"}, {"-", "if-"}} {
		known[c[0]] = nameOf(c[0], known)
		if known[c[0]] != c[1] {
			t.Errorf("%s is called %s, not %s", c[0], known[c[0]], c[1])
		}
	}
}
