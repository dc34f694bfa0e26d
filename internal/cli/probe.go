package cli

import (
	"flag"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/core/words"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/probe"
)

var probeCommand = &command{
	name: "probe", arguments: "ADDRESS SERVICE",
	summary: "tries a real connection from here and says what the answer means",
	help: `Tries one real connection from this machine, over tcp, udp or ping, and says what came back: an
answer, a reset, the word that it is unreachable and from whom, or silence. Of the outcomes that a
trace can have, it says which fit: whether it is the gateway, the service, or the way in between.
Where a network file is there, ADDRESS may be a name of it, as in trace, and so may SERVICE; what
the trace says for this machine's own address is said beside it.

UDP has no answer of its own: silence means that it was dropped, or that a service heard it and
said nothing.

-from-outside prints what to run elsewhere instead.

Exit status: 0 answered, 1 not, 2 the call is wrong or nothing could be sent.`,
	begin: func(c *call) task { return &probeCall{call: c} },
}

// A probeCall is a call of probe.
type probeCall struct {
	*call
	options struct {
		forTime  string
		outsider bool
	}
}

func (c *probeCall) flags(set *flag.FlagSet) {
	c.fileFlag(set)
	c.jsonFlag(set)
	set.StringVar(&c.options.forTime, "for", "3s", "how `LONG` to wait for an answer")
	set.BoolVar(&c.options.outsider, "from-outside", false, "print what to run elsewhere")
}

func (c *probeCall) run() int {
	if len(c.args) != 2 {
		return c.misused("it needs ADDRESS and SERVICE")
	}
	wait, err := network.ParseLifetime(c.options.forTime)
	if err != nil || wait > 5*time.Minute {
		return c.misused("-for %s: write 1s to 5m", c.options.forTime)
	}
	n, err := netfile.Read(c.path())
	if err != nil && (c.file != "" || c.Getenv("HOLLOWBRIDGE_FILE") != "") {
		return c.readFailed(err)
	}
	if err != nil {
		n = nil
	}
	to, service, err := probeTarget(n, c.args[0], c.args[1])
	if err != nil {
		return c.failed(err)
	}
	if c.options.outsider {
		fmt.Fprintf(c.Out, "On a machine outside: hollowbridge probe %s %s\n", to, service)
		return yes
	}
	r, err := probe.Try(to, service, wait)
	if err != nil {
		return c.failed(err)
	}
	var t *words.Trace
	if n != nil {
		t = traceProbe(n, r)
	}
	if c.json {
		c.printJSON(probeResult(r, service, t))
	} else {
		c.printProbe(r, service, t)
	}
	if r.Answer != probe.Answered {
		return no
	}
	return yes
}

// isInterface reports whether a text names an interface.
func isInterface(n *network.Network, text string) bool {
	_, err := findInterface(n, text)
	return err == nil
}

// probeTarget reads where to and what for; names are those of the file, where there is one.
func probeTarget(n *network.Network, to, service string) (netip.Addr, header.Service, error) {
	none := header.Service{}
	a, err := header.ParseAddress(to)
	if err != nil && n != nil {
		var e end
		if e, err = resolveEnd(n, to); err == nil {
			var ok bool
			if a, ok = e.address(header.IPv4); !ok {
				a, _ = e.address(header.IPv6)
			}
			machine := e.host != nil || strings.Contains(to, ":") && isInterface(n, to)
			if of := e.set.Intersect(header.FamilyOf(a).All()); !machine && !of.Equal(header.Single(a)) {
				err = fmt.Errorf("%s: these are many addresses, and a probe goes to one: name a host, GATEWAY:INTERFACE or an address", to)
			}
		}
	}
	if err != nil {
		return a, none, err
	}
	var services header.Services
	if n != nil {
		services, err = netfile.ParseService(n, service)
	} else {
		services, err = header.ParseService(service, func(name string) (header.Services, error) {
			services, found, err := header.NamedService(name)
			if err == nil && !found {
				err = netfile.NoSuchService(name, func(func(string) bool) {})
			}
			return services, err
		})
	}
	if err != nil {
		return a, none, err
	}
	s := services[0]
	if s.Protocol != header.TCP && s.Protocol != header.UDP && s.Protocol != header.ICMP {
		return a, none, fmt.Errorf("%s: it tries tcp, udp and icmp", service)
	}
	if s.Protocol.HasPorts() {
		s = header.ServiceAt(s.Protocol, s.Ports.First)
	}
	return a, s, nil
}

// traceProbe traces the connection that was tried, where the file knows this machine.
func traceProbe(n *network.Network, r probe.Result) *words.Trace {
	e := walk.Compile(n, nil)
	from, err := e.Locate(r.Sent.Source)
	if err != nil {
		return nil
	}
	return words.TraceOf(e.NewWalk(), walk.Connection{Packet: r.Sent, From: from, Moment: n.MomentAt(time.Now())})
}

// fits are the outcomes of a trace that an answer fits, the likelier first.
func fits(r probe.Result) []engine.Outcome {
	switch r.Answer {
	case probe.Answered:
		return []engine.Outcome{engine.Reached}
	case probe.Reset:
		return []engine.Outcome{engine.Refused, engine.Rejected, engine.HostFirewall}
	case probe.Unreachable:
		switch r.Why {
		case probe.NoPort:
			return []engine.Outcome{engine.Refused, engine.Rejected}
		case probe.Prohibited:
			return []engine.Outcome{engine.Rejected, engine.HostFirewall}
		case probe.NoHost:
			return []engine.Outcome{engine.Absent}
		}
		return []engine.Outcome{engine.Unrouted, engine.Absent}
	}
	list := []engine.Outcome{engine.Dropped, engine.Itself, engine.HostFirewall, engine.UpstreamBlocks, engine.Unanswered, engine.Absent}
	if r.Sent.Protocol == header.UDP {
		list = append(list, engine.Reached)
	}
	return list
}

func (c *call) printProbe(r probe.Result, service header.Service, t *words.Trace) {
	word := string(r.Answer)
	if r.Answer == probe.Answered {
		word = c.green(word)
	} else {
		word = c.red(word)
	}
	text := fmt.Sprintf("%s -> %s %s  %s", r.Sent.Source, r.Sent.Destination, service, word)
	if r.By.IsValid() {
		text += fmt.Sprintf(", from %s: %s", r.By, r.Why)
	}
	fmt.Fprintf(c.Out, "%s, after %d ms\n\n", text, r.After.Milliseconds())
	for _, o := range fits(r) {
		fmt.Fprintf(c.Out, "  %-14s %s\n", o, meaningFor(r, o))
	}
	if t == nil {
		return
	}
	verdict := "which fits"
	if !slices.Contains(fits(r), t.Outcome) {
		verdict = "which does not fit"
	}
	fmt.Fprintf(c.Out, "\n%s\n", strings.Join(wrap("The file says: "+c.verdictLine(t)+" ("+verdict+")", c.Width), "\n  "))
}

// meaningFor says what an outcome would mean here.
func meaningFor(r probe.Result, o engine.Outcome) string {
	if o == engine.Reached && r.Sent.Protocol == header.UDP && r.Answer == probe.Silence {
		return "or the service heard it and said nothing"
	}
	return o.Meaning()
}

type probeJSON struct {
	From    string   `json:"from"`
	To      string   `json:"to"`
	Service string   `json:"service"`
	Answer  string   `json:"answer"`
	By      string   `json:"by"`
	Why     string   `json:"why"`
	Seconds float64  `json:"seconds"`
	Fits    []string `json:"fits"`
	Trace   string   `json:"trace"` // the outcome that the file says; empty where it does not know this machine
}

func probeResult(r probe.Result, service header.Service, t *words.Trace) probeJSON {
	result := probeJSON{From: r.Sent.Source.String(), To: r.Sent.Destination.String(), Service: service.String(), Answer: string(r.Answer), Why: string(r.Why), Seconds: r.After.Seconds()}
	if r.By.IsValid() {
		result.By = r.By.String()
	}
	for _, o := range fits(r) {
		result.Fits = append(result.Fits, o.String())
	}
	if t != nil {
		result.Trace = t.Outcome.String()
	}
	return result
}
