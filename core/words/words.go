package words

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A Step is one thing that happened to the packet, in a person's words.
type Step struct {
	At    string // gateway or host
	Kind  engine.StepKind
	Label string // what happened, in a word
	Rule  string // the rule that did it, or empty
	Route string // the prefix of the route that was taken, or default
	Text  string
	Back  bool // on the way back

	Before, After header.Packet // where it was translated: the packet before and after
}

// Wording is how a kind of event is told: as a step, where it has a label or a text, and why
// the packet ended by it, as sentences.
type wording struct {
	label string
	text  func(*engine.Event) string
	why   func(*engine.Event) []string
	hides bool // the step is not told on the way back
	by    bool // the step names the rule
}

// say is a wording of one sentence about the event; empty is none.
func say(format string, args func(*engine.Event) []any) func(*engine.Event) []string {
	return func(e *engine.Event) []string { return []string{fmt.Sprintf(format, args(e)...)} }
}

func at(e *engine.Event) []any { return []any{e.At.Name()} }

// words is what is said of each kind of event.
var words = [...]wording{
	engine.Sends:     {label: "sends", text: fixed("directly: both are on one segment, no gateway is on the way")},
	engine.AnswersBy: {label: "answers", text: func(e *engine.Event) string { return "by " + e.In.Gateway.Name + ", its gateway" }},
	engine.SendsElsewhere: {label: "sends", text: func(e *engine.Event) string {
		return "to " + e.Via.String() + ", its default gateway, which is not in this file"
	},
		why: say("%s sends what is not on its segment to %s, which is no gateway of this file: what becomes of it there is not known, so it counts as lost.", func(e *engine.Event) []any { return []any{e.At.Name(), e.Via} })},
	engine.NoGateway: {why: say("%s has no gateway for %s on its segment.", func(e *engine.Event) []any { return []any{e.At.Name(), header.FamilyOf(e.After.Destination)} })},
	engine.NotCarried: {why: say("%s is a private or shared address: nobody on the internet can send to it. Whoever stands in front of %s translates, and a forward there would have to lead here.",
		func(e *engine.Event) []any { return []any{e.After.Destination, e.In} })},
	engine.NotSentHere: {why: say("%s is in no prefix of an uplink and in no `upstream: routes`, so nobody on the internet sends it here. If the provider does, say so: upstream: {routes: [%s]}.",
		func(e *engine.Event) []any {
			a := e.After.Destination
			return []any{a, netip.PrefixFrom(a, a.BitLen())}
		})},
	engine.NoUplink:      {why: say("No uplink of this network has %s behind it.", destination)},
	engine.PrivateAnswer: {why: say("%s is a private address that no source rule hid on the way out: the internet does not carry the answer.", destination)},
	engine.PrivateTarget: {why: say("%s is a private address: the internet does not carry packets to it.", destination)},
	engine.CarrierNAT:    {why: say("%s is behind a carrier's NAT: nobody outside can begin a connection to it, and no forward there can be reached.", func(e *engine.Event) []any { return []any{e.In} })},
	engine.Blocked:       {why: say("The upstream of %s blocks %s.", func(e *engine.Event) []any { return []any{e.In, e.After.Service()} })},

	engine.Arrives:        {label: "arrives", hides: true, text: func(e *engine.Event) string { return fmt.Sprintf("on %s (%s)", e.In.Name, e.In.Zone) }},
	engine.InterfaceDown:  {why: say("%s is down: nothing passes it.", func(e *engine.Event) []any { return []any{e.In} })},
	engine.Forged:         {why: say("%s cannot come in by %s: it is an address of this network's own, so its sender is forged.", func(e *engine.Event) []any { return []any{e.Via, e.In.Name} })},
	engine.FollowsSession: {label: "session", text: followText},
	engine.NoHandshake:    {why: say("%s did not see the connection begin, so it throws the answer away: the answer takes another way back than the connection took in.", at)},
	engine.NoPing:         {why: say("%s did not see the ping, so it throws the reply away: it takes another way back than the ping took in.", at)},
	engine.NoConnection:   {why: say("%s knows nothing of the connection, so it throws away the message about it.", at)},
	engine.HalfHandshake:  {why: say("%s saw the connection begin but not its answer, which went round it; so it drops the client's next packet, and the connection never comes about.", at)},
	engine.Full:           {label: "session", text: fixed("there is no room for another"), why: say("%s has room for %d sessions, and all are taken.", func(e *engine.Event) []any { return []any{e.At.Name(), e.Room} })},
	engine.Redirects:      {label: "redirect", by: true, text: func(e *engine.Event) string { return e.Before.To() + " -> " + e.After.To() }},
	engine.UsesMapping:    {label: "mapping", by: true, text: mappingText},
	engine.NoPlace: {why: say("%s can't be translated by %s and back: RFC 6296 leaves out subnets and identifiers that are all ones, and identifiers that are all zeros.",
		func(e *engine.Event) []any { return []any{e.Via, e.Rule.Name} })},
	engine.ServesItself:   {label: "serves", text: func(e *engine.Event) string { return e.Service + ", itself" }},
	engine.EndsItself:     {label: "itself", text: func(e *engine.Event) string { return "for " + e.At.Name() + " itself: nothing redirects it" }, why: itselfWhy},
	engine.AnswerItself:   {why: say("The answer comes to %s itself, which has no session for it.", at)},
	engine.TakesRoute:     {label: "route", hides: true, text: routeText},
	engine.NoRoute:        {why: say("%s has no route to %s.", func(e *engine.Event) []any { return []any{e.At.Name(), e.After.Destination} })},
	engine.NeverForwards:  {why: say("%s is a link-local address: %s answers it, but never forwards what it sends (RFC 4291, 2.5.6).", func(e *engine.Event) []any { return []any{e.After.Source, e.At.Name()} })},
	engine.Blackhole:      {why: say("The route of %s to %s is a blackhole: it throws everything away.", func(e *engine.Event) []any { return []any{e.At.Name(), e.Route} })},
	engine.RoundAgain:     {why: say("The packet comes to %s a second time, unchanged: the gateways' routes send it round.", at)},
	engine.TooFar:         {why: say("It has passed %d gateways and is not there yet.", counted)},
	engine.BringsPermit:   {label: "allow", by: true, text: fixed("the forward brings its own permission")},
	engine.MappingPermits: {label: "allow", by: true, text: fixed("no rule says otherwise, and a mapping permits what it is for")},
	engine.Decides: {by: true, text: func(e *engine.Event) string { return e.Rule.Note }, why: func(e *engine.Event) []string {
		if e.Verb == network.Allow {
			return nil
		}
		return []string{fmt.Sprintf("The filter rule %s of %s says %s.", e.Rule.Name, e.At.Name(), e.Verb)}
	}},
	engine.Trusted:       {label: "allow", text: func(e *engine.Event) string { return e.In.Zone + " is trusted more than " + e.Out.Zone }},
	engine.Unmatched:     {label: "drop", text: fixed("no filter rule matches"), why: unmatchedWhy},
	engine.TurnsBack:     {label: "turns", text: func(e *engine.Event) string { return "back: leaves by " + e.In.Name + ", where it came in" }},
	engine.MayNotTurn:    {why: say("It would leave by %s, where it came in, and %s does not turn packets back.", func(e *engine.Event) []any { return []any{e.In.Name, e.At.Name()} })},
	engine.KeepsSource:   {label: "source", text: fixed("kept")},
	engine.KeepsByRule:   {label: "source", by: true, text: fixed("kept: no-nat")},
	engine.ChangesSource: {label: "source", by: true, text: func(e *engine.Event) string { return e.Before.From() + " -> " + e.After.From() }},
	engine.HidesSource: {label: "source", by: true, text: func(e *engine.Event) string {
		text := e.Before.From() + " -> " + e.After.From()
		switch e.Chosen {
		case engine.Chosen{Address: true, Port: true}:
			return text + otherChoice("address and "+portWord(e))
		case engine.Chosen{Address: true}:
			return text + otherChoice("address")
		case engine.Chosen{Port: true}:
			return text + otherChoice(portWord(e))
		}
		return text
	}},
	engine.OtherPort: {label: "source", text: func(e *engine.Event) string {
		return e.Before.From() + " -> " + e.After.From() + ": an earlier session leaves just so" + otherChoice(portWord(e))
	}},
	engine.NoneFree: {label: "source", by: true, text: fixed("none is free"), why: say("Every address and port of %s is taken by other sessions.", func(e *engine.Event) []any { return []any{e.Rule.Name} })},
	engine.NotTold: {label: "source", by: true, text: fixed("none is free"), why: say("An earlier session goes from %s to %s already, and %s can't tell the answers apart.",
		func(e *engine.Event) []any { return []any{e.Before.Source, e.Before.To(), e.At.Name()} })},
	engine.HopIsHost:   {why: say("The route to %s leads to %s, which is %s: a host, it passes nothing on.", func(e *engine.Event) []any { return []any{e.Route, e.Via, e.Host.Name} })},
	engine.HopIsItself: {why: say("The route to %s leads to %s, which is the gateway itself.", hop)},
	engine.HopIsNobody: {why: say("The route to %s leads to %s, and nobody has that address.", hop)},
	engine.NobodyHas: {why: func(e *engine.Event) []string {
		text := fmt.Sprintf("No host has %s.", e.After.Destination)
		if s := e.At.Segment; s != nil && s.Behind != nil {
			text += fmt.Sprintf(" The route leads to an inside router that the file does not name, %s; hosts behind it belong into the file.", s.Router)
		}
		return []string{text}
	}},
	engine.AwaitedAnswer:  {label: "takes", text: fixed("the answer it waits for")},
	engine.Beyond:         {label: "takes it", text: fixed("what is there is outside this network")},
	engine.HostDecides:    {text: func(e *engine.Event) string { return "its own firewall: " + e.HostRule.Text }, why: hostDecidesWhy},
	engine.HostUnmatched:  {why: say("The firewall of %s itself has no rule that allows %s from %s.", func(e *engine.Event) []any { return []any{e.Host.Name, e.After.Service(), e.After.Source} })},
	engine.Relays:         {label: "relays", text: func(e *engine.Event) string { return e.Before.To() + " -> " + e.After.To() }},
	engine.RelayNoAddress: {why: say("%s has no %s address to hand it on from.", func(e *engine.Event) []any { return []any{e.At.Name(), header.FamilyOf(e.After.Destination)} })},
	engine.RelaysRound:    {why: say("The relays of %s hand the connection to each other without end.", at)},
	engine.RelaysTooFar:   {why: say("Relays hand the connection on %d times: they hand it to each other.", counted)},
	engine.NoPings:        {why: say("%s does not answer pings; what it serves may still be there.", at)},
	engine.AnswersPing:    {label: "answers", text: fixed("pings")},
	engine.Serves:         {label: "serves", text: func(e *engine.Event) string { return e.Service }},
	engine.Refuses: {label: "refuses", text: func(e *engine.Event) string { return "nothing listens on " + e.After.Service().String() }, why: func(e *engine.Event) []string {
		return []string{fmt.Sprintf("%s is up, but nothing on it listens on %s%s.", e.Host.Name, e.After.Service(), boundElsewhere(e.Host, e.After)), hostServesText(e.Host)}
	}},
	engine.OtherSource: {why: say("The answer comes from %s, but the client asked %s and throws it away: it went round the gateway that translated it.",
		func(e *engine.Event) []any { return []any{e.After.From(), e.Before.From()} })},
	engine.Elsewhere:     {why: say("The answer goes to %s at %s, where the client is not.", func(e *engine.Event) []any { return []any{e.After.To(), e.At.Name()} })},
	engine.EndsAtGateway: {why: say("The answer ends at %s itself.", at)},
	engine.Passes:        {label: "passes", text: passesText},
	engine.Stopped:       {label: "stops", text: fixed("it"), by: true},
}

// passesText says what a gateway made of a packet that decides elsewhere.
func passesText(e *engine.Event) string {
	text := followText(e)
	if e.Out != nil {
		text += ", leaves by " + e.Out.Name
	}
	return text
}

// mappingText says what a mapping does, and whose it is.
func mappingText(e *engine.Event) string {
	text := e.Before.To()
	if e.Before.To() != e.After.To() {
		text += " -> " + e.After.To()
	}
	m := e.Mapping
	text += fmt.Sprintf(", asked for by %s from %s", m.By, m.Owner)
	if m.Left > 0 {
		text += ", " + m.Left.Round(time.Second).String() + " left"
	}
	return text
}

func fixed(text string) func(*engine.Event) string { return func(*engine.Event) string { return text } }

func destination(e *engine.Event) []any { return []any{e.After.Destination} }

func hop(e *engine.Event) []any { return []any{e.Route, e.Via} }

func counted(e *engine.Event) []any { return []any{e.Room} }

// Told tells an event as a step. ok is false for what is told only by why a packet ended.
func Told(e *engine.Event) (s Step, ok bool) {
	w := &words[e.What]
	if w.text == nil || w.hides && e.Back {
		return s, false
	}
	s = Step{At: e.At.Name(), Kind: e.Step, Label: w.label, Text: w.text(e), Back: e.Back}
	if e.Before.Destination.IsValid() && e.Before != e.After {
		s.Before, s.After = e.Before, e.After
	}
	switch {
	case w.by && e.Rule != nil:
		s.Rule = e.Rule.Name
	case e.What == engine.TakesRoute:
		s.Route = prefixText(e.Route)
	}
	switch e.What {
	case engine.Decides:
		s.Label = string(e.Verb)
	case engine.HostDecides:
		s.Label = string(e.HostRule.Verb)
	}
	return s, true
}

// Why returns the sentences that say why a packet ended by an event; none where it did not.
func Why(e *engine.Event) []string {
	if w := &words[e.What]; w.why != nil {
		return w.why(e)
	}
	return nil
}

func hostDecidesWhy(e *engine.Event) []string {
	if e.HostRule.Verb == network.Allow {
		return nil
	}
	return []string{fmt.Sprintf("The firewall of %s itself says %s.", e.Host.Name, e.HostRule.Text)}
}

func followText(e *engine.Event) string {
	before, after := e.Before, e.After
	switch {
	case before.From() != after.From() && before.To() != after.To():
		return fmt.Sprintf("%s -> %s, for %s", before.From(), after.From(), after.To())
	case before.From() != after.From():
		return fmt.Sprintf("%s -> %s", before.From(), after.From())
	case before.To() != after.To():
		return fmt.Sprintf("to %s -> to %s", before.To(), after.To())
	}
	return "as it is"
}

func routeText(e *engine.Event) string {
	text := "connected"
	switch {
	case e.ToClients:
		text = "VPN clients"
	case e.Via.IsValid():
		text = "by " + e.Via.String()
	}
	text += ", leaves by " + e.Out.Name
	if e.AsNear > 0 {
		text += fmt.Sprintf(", the first of %d as near", e.AsNear+1)
	}
	return text
}

// prefixText writes a route's prefix.
func prefixText(p netip.Prefix) string {
	if p.Bits() == 0 {
		return "default"
	}
	return p.String()
}

// otherChoice says that what was chosen need not be what another gateway takes: of a pool of
// several addresses one by a hash, and where a port is taken, any other.
func otherChoice(what string) string { return "; another gateway may choose another " + what }

func portWord(e *engine.Event) string {
	if e.After.Protocol == header.ICMP {
		return "identifier"
	}
	return "port"
}

func unmatchedWhy(e *engine.Event) []string {
	g, p := e.At.Name(), e.After
	why := []string{fmt.Sprintf("No filter rule of %s allows %s to %s from %s.", g, p.Service(), p.Destination, p.Source)}
	switch {
	case e.Rule == nil:
	case e.At.Gateway.Handling.ForwardsPermit: // it is no forward, but translates both ways
		why = append(why, fmt.Sprintf("%s redirects it, but a %s brings no permission of its own, as forwards do on this gateway: it needs a filter rule.", e.Rule.Name, e.Rule.Kind))
	default:
		why = append(why, fmt.Sprintf("%s redirects it, but on this gateway a forward opens nothing by itself: it needs a filter rule as well.", e.Rule.Name))
	}
	if e.ByTrust {
		why = append(why, fmt.Sprintf("%s is not trusted more than %s, so a rule must say it.", e.In.Zone, e.Out.Zone))
	}
	return why
}

func itselfWhy(e *engine.Event) []string {
	g := e.At.Gateway
	why := fmt.Sprintf("No NAT rule matched, so nothing was redirected and nothing left by another interface: the packet was for %s itself.", g.Name)
	if e.IsOwn {
		return []string{why, servesText(g, e.In, e.After)}
	}
	return []string{why, fmt.Sprintf("%s is only the outside address of a rule: %s itself serves nothing there.", e.After.Destination, g.Name)}
}

// servesText says what a gateway answers on an interface.
func servesText(g *network.Gateway, in *network.Interface, p header.Packet) string {
	var names, elsewhere []string
	for _, s := range g.Serves {
		switch {
		case slices.Contains(s.On, in):
			names = append(names, s.Name)
		case s.Services.Matches(p.Protocol, p.DestinationPort):
			elsewhere = append(elsewhere, network.InterfaceNames(s.On)...)
		}
	}
	text := g.Name + " serves nothing on " + in.Name
	if len(names) > 0 {
		text = g.Name + " serves only " + strings.Join(names, ", ") + " on " + in.Name
	}
	if len(elsewhere) > 0 {
		text += "; it answers this service on " + strings.Join(elsewhere, ", ") + " only"
	}
	return text + "."
}

// boundElsewhere names the address a service is bound to where the port is right.
func boundElsewhere(h *network.Host, p header.Packet) string {
	for _, s := range h.Serves {
		if s.At.IsValid() && s.Services.Matches(p.Protocol, p.DestinationPort) {
			return " at " + p.Destination.String() + ": the service is bound to " + s.At.String() + " only"
		}
	}
	return ""
}

func hostServesText(h *network.Host) string {
	if len(h.Serves) == 0 {
		return h.Name + " serves nothing."
	}
	var texts []string
	for _, s := range h.Serves {
		texts = append(texts, s.Text)
	}
	return h.Name + " serves " + strings.Join(texts, ", ") + "."
}
