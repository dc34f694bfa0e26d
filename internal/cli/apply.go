package cli

import (
	"bufio"
	"context"
	"crypto/rand"
	"errors"
	"flag"
	"fmt"
	"maps"
	"net"
	"os"
	"os/user"
	"slices"
	"strings"
	"time"

	"golang.org/x/term"

	"hollowbridge/core/advice"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/reach"
	"hollowbridge/core/walk"
	"hollowbridge/internal/gateway"
	"hollowbridge/internal/kernel"
	"hollowbridge/internal/netfile"
)

var applyCommand = &command{
	name:    "apply",
	summary: "puts the network on its gateways, all of them or none",
	help: `Puts the network file on its running gateways. Before it does, it runs the expectations of the
file, says what the change opens and closes against what is running, which sessions the new rules
would not have made, what the gateways can't do, and whether your own connection to them lives on.
It refuses where an expectation fails or you would be cut off, unless -anyway is given. Then it
asks, unless -yes is given. All gateways get ready first; where one of them fails then, the others
go back. So they do within a minute where this command is stopped in between; if it is stopped in
the last moment, when some have heard that all have it, the next command says which have, and
-finish puts it on the others too.

-for 10m goes back by itself unless apply -keep comes in time, also after a restart. Sessions keep
their translation until they end; -clear ends those that the new rules would not have made so.
-dry-run says all of this and changes nothing; the exit status is 1 where it would be refused.

Where somebody else applied something meanwhile, nothing is overwritten: look again.

Exit status: 0 applied, or nothing differs; 1 refused, or the answer was no; 2 the call, the file or
a gateway is wrong.`,
	begin: func(c *call) task { return &applyCall{call: c} },
}

// A applyCall is a call of apply.
type applyCall struct {
	*call
	options struct {
		applyOptions
		keep, finish bool
	}
}

func (c *applyCall) flags(set *flag.FlagSet) {
	c.fileFlag(set)
	c.jsonFlag(set)
	c.options.flags(c.call, set)
	set.BoolVar(&c.options.keep, "keep", false, "keep what would go back by itself")
	set.BoolVar(&c.options.finish, "finish", false, "put what only some gateways have on the others of its apply")
}

// applyFlags are those of whatever puts something into force.
// applyOptions are those of what puts a network into force.
type applyOptions struct {
	yes, anyway, clear bool
	forTime, note, by  string
}

func (o *applyOptions) flags(c *call, set *flag.FlagSet) {
	c.onlyFlag(set)
	o.safetyFlags(c, set)
	set.BoolVar(&o.clear, "clear", false, "end the sessions that the new rules would not have made")
	set.StringVar(&o.forTime, "for", "", "go back by itself after this `TIME`, as 90s, 10m or 2h, unless it is kept")
	set.StringVar(&o.note, "note", "", "a `TEXT` for the history")
	set.StringVar(&o.by, "by", "", "your `NAME` for the history; else that of this login")
}

func (o *applyOptions) safetyFlags(c *call, set *flag.FlagSet) {
	set.BoolVar(&o.yes, "yes", false, "do not ask")
	set.BoolVar(&o.anyway, "anyway", false, "also where an expectation fails, or you would be cut off")
	set.BoolVar(&c.dryRun, "dry-run", false, "say what would change, and change nothing")
}

func (c *applyCall) run() int {
	if len(c.args) > 0 {
		return c.misused("%s: not expected; name the file with -f", c.args[0])
	}
	switch {
	case c.options.keep && c.options.finish:
		return c.misused("-keep and -finish don't go together")
	case c.options.keep:
		return c.keep()
	case c.options.finish:
		return c.finishApply()
	}
	bundle, n, err := netfile.ReadBundle(c.path())
	if err != nil {
		return c.readFailed(err)
	}
	return c.apply(&c.options.applyOptions, bundle, n, n, "")
}

// keep keeps what would go back by itself, on all gateways on which something would.
func (c *call) keep() int {
	list := c.running()
	if list == nil {
		return wrong
	}
	statuses, failures := askAll(list, func(g *gateway.Client) (gateway.Status, error) { return g.Status(context.Background()) })
	if status := c.sayFailures(failures); status != yes {
		return status
	}
	kept := 0
	for i, s := range statuses {
		if s.Pending == nil {
			continue
		}
		if err := list[i].Keep(context.Background()); err != nil {
			return c.failed(err)
		}
		fmt.Fprintf(c.Out, "%s keeps revision %d\n", s.Gateway, s.Revision.Number)
		kept++
	}
	if kept == 0 {
		fmt.Fprintln(c.Out, "nothing goes back by itself: there is nothing to keep")
		return no
	}
	return yes
}

// A change is a network on its way to a gateway.
type change struct {
	client   *gateway.Client
	status   gateway.Status
	running  gateway.Revision // with its text; empty where nothing is in force
	before   *network.Network // nil likewise
	prepared gateway.Prepared
	base     int
}

// applied is what apply says as JSON.
type appliedJSON struct {
	Outcome      string            `json:"outcome"` // applied, refused, unchanged, or planned
	Expectations []expectationJSON `json:"expectations"`
	Gateways     []appliedGateway  `json:"gateways"`
	Differences  []differenceJSON  `json:"differences"`
	Compared     bool              `json:"compared"` // false where there is too much to compare
	Refused      []string          `json:"refused"`  // why, also where -anyway was given
}

type appliedGateway struct {
	Gateway string            `json:"gateway"`
	Was     int               `json:"was"`
	Is      int               `json:"is"`
	Notes   []string          `json:"notes"`
	Changed int               `json:"changed"`
	Ends    bool              `json:"ends"`
	First   []gateway.Session `json:"first"`
	Ended   int               `json:"ended"`
	Cuts    int               `json:"cuts"` // connections through it that nobody remembered, and that the rules do not let go on
	Cut     []string          `json:"cut"`  // of those
	Back    *time.Time        `json:"back"` // when it goes back by itself
}

// apply puts a network into force on the gateways of a file.
func (c *call) apply(o *applyOptions, bundle *netfile.Bundle, n, file *network.Network, usualNote string) int {
	back := time.Duration(0)
	if o.forTime != "" {
		var err error
		if back, err = network.ParseLifetime(o.forTime); err != nil {
			return c.misused("-for %s", err)
		}
	}
	list, err := c.clients(file)
	if err != nil {
		return c.failed(err)
	}
	a := &application{call: c, options: o, bundle: bundle, network: n, back: back, note: usualNote}
	if o.note != "" {
		a.note = o.note
	}
	if status := a.look(list); status != yes {
		return status
	}
	if a.unchanged() {
		return a.sayUnchanged()
	}
	return a.proceed()
}

// proceed says what the change means, lets the gateways get ready, and decides.
func (a *application) proceed() int {
	status := a.weigh()
	if status == yes {
		status = a.prepare()
	}
	if status != yes {
		return status
	}
	return a.decide()
}

// An application is one run of apply.
type application struct {
	*call
	options *applyOptions
	bundle  *netfile.Bundle
	network *network.Network
	back    time.Duration
	note    string
	engine  *walk.Engine
	changes []*change
	id      string            // of the apply, and
	members []string          // all of its gateways
	having  []*gateway.Client // those that have it already, where it is finished
	instead func() int        // what is done in place of committing; nil is nothing else
	result  appliedJSON
}

// look asks the gateways what is running.
func (a *application) look(list []*gateway.Client) int {
	changes, failures := askAll(list, func(g *gateway.Client) (*change, error) {
		ch := &change{client: g}
		var err error
		if ch.status, err = g.Status(context.Background()); err != nil || ch.status.Revision == nil {
			return ch, err
		}
		ch.base = ch.status.Revision.Number
		if ch.running, err = g.Revision(context.Background(), ch.base); err != nil || ch.running.Bundle == nil {
			return ch, err
		}
		ch.running.Bundle.File = fmt.Sprintf("%s@%d", g.Gateway, ch.base)
		ch.before, err = ch.running.Bundle.Network()
		return ch, err
	})
	if status := a.sayFailures(failures); status != yes {
		return status
	}
	a.changes = changes
	statuses := make([]gateway.Status, len(changes))
	for i, ch := range changes {
		statuses[i] = ch.status
	}
	if a.id == "" {
		a.sayPartial(list, statuses, failures)
	}
	for _, ch := range changes {
		if a.network.Gateway(ch.client.Gateway) == nil {
			return a.failed(fmt.Errorf("%s is no gateway of what is to be applied", ch.client.Gateway))
		}
		if r := ch.status.Revision; r != nil && r.Applied != nil && r.Applied.State == gateway.Leased && r.Applied.ID != a.id {
			return a.failed(fmt.Errorf("%s: revision %d, by %s, waits for the other gateways of its apply (%s); it goes back by itself at %s: wait, or finish that apply: %s",
				ch.client.Gateway, ch.base, r.Author, strings.Join(r.Applied.Gateways, ", "), ch.status.Pending.Until.Local().Format("15:04:05"), a.typed("hollowbridge apply -finish")))
		}
		p := ch.status.Pending
		if p == nil || a.back != 0 || a.instead == nil && (a.command.name != "apply" || ch.running.Bundle.Same(a.bundle)) {
			continue
		}
		or := fmt.Sprintf(", or let this one be a trial too (-for), which goes back to %d as well", p.Back)
		if a.instead != nil {
			or = ""
		}
		return a.failed(fmt.Errorf("%s: revision %d, by %s, is on trial and goes back to %d at %s: keep it first (apply -keep), go back now (revert %d)%s",
			ch.client.Gateway, ch.base, ch.running.Author, p.Back, p.Until.Local().Format("15:04:05"), p.Back, or))
	}
	return yes
}

// unchanged reports whether all gateways run just this.
func (a *application) unchanged() bool {
	return !slices.ContainsFunc(a.changes, func(ch *change) bool {
		b := ch.running.Bundle
		away := ch.status.Table != nil && ch.status.Table.Trouble != ""
		return away || b == nil || b.Text != a.bundle.Text || !maps.Equal(b.Lists, a.bundle.Lists)
	})
}

// sayUnchanged says so, and what the machines have otherwise than the file: that may have changed.
func (a *application) sayUnchanged() int {
	if status := a.prepare(); status != yes {
		return status
	}
	a.result.Outcome = "unchanged"
	if a.json {
		a.printJSON(a.resultOf())
		return yes
	}
	for _, ch := range a.changes {
		trial := ""
		if p := ch.status.Pending; p != nil {
			trial = fmt.Sprintf(", on trial: it goes back to %d at %s, unless apply -keep keeps it", p.Back, p.Until.Local().Format("15:04:05"))
		}
		fmt.Fprintf(a.Out, "nothing differs: %s runs this as revision %d%s\n", ch.client.Gateway, ch.base, trial)
	}
	return yes
}

// weigh runs the expectations and compares with what is running.
func (a *application) weigh() int {
	var done func()
	a.engine, done = a.compile(a.network)
	results, err := reach.Expect(a.engine, network.Times{})
	done()
	if err != nil {
		return a.failed(fmt.Errorf("the expectations can't be checked: %w", err))
	}
	a.result.Expectations = a.expectResult(results).Expectations
	broken := 0
	for i := range results {
		if text := failure(&results[i]); text != "" {
			broken++
			a.result.Refused = append(a.result.Refused, "an expectation does not hold: "+results[i].Expectation.Say)
		}
	}
	if !a.json {
		a.sayExpectations(results, broken)
	}
	for _, ch := range a.changes {
		if t := ch.status.Table; t != nil && t.Trouble != "" && !a.json {
			fmt.Fprintf(a.Out, "%s  %s; this puts it back\n", ch.client.Gateway, t.Trouble)
		}
	}
	a.compareRunning()
	a.weighOwnConnection()
	return yes
}

func (a *application) sayExpectations(results []reach.Result, broken int) {
	switch {
	case len(results) == 0:
	case broken == 0:
		fmt.Fprintf(a.Out, "%s\n", plural(len(results), "expectation holds", "expectations hold"))
	default:
		for i := range results {
			if r := &results[i]; failure(r) != "" {
				fmt.Fprintf(a.Out, "%s  %s\n        %s\n", a.red("broken"), r.Expectation.Say, failure(r))
			}
		}
	}
}

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// compareRunning says what the change opens and closes against what is running; where gateways
// run different networks, against each.
func (a *application) compareRunning() {
	a.result.Compared = true
	var compared []*netfile.Bundle
	a.compareFirst()
	for _, ch := range a.changes {
		b := ch.running.Bundle
		if b == nil {
			continue
		}
		if slices.ContainsFunc(compared, func(other *netfile.Bundle) bool {
			return other.Text == b.Text && maps.Equal(other.Lists, b.Lists)
		}) {
			continue
		}
		compared = append(compared, b)
		a.compareWith(ch.before, b.File, compareLists)
	}
}

// compareWith says what the change opens and closes against a network, and where all of that is listed.
func (a *application) compareWith(before *network.Network, name, lists string) {
	found, err := reach.Differences(walk.Compile(before, nil), a.engine, network.Times{}, false)
	if err != nil {
		a.result.Compared = false
	}
	if a.json {
		a.args = []string{name, a.path()}
		a.result.Differences = append(a.result.Differences, a.compareResult(found).Differences...)
		return
	}
	fmt.Fprintf(a.Out, "against %s\n", name)
	if err != nil {
		fmt.Fprintln(a.Out, "  "+entangled(err, ""))
		return
	}
	for _, line := range differenceLines(reach.NewNamer(a.network), found) {
		fmt.Fprintf(a.Out, "  %s\n", strings.Join(wrap(strings.Replace(line, compareLists, lists, 1), a.Width-2), "\n          "))
	}
}

// compareFirst says of gateways on which nothing is in force yet what they do now, and compares with that where they forward everything.
func (a *application) compareFirst() {
	var open []string
	for _, ch := range a.changes {
		if ch.running.Bundle != nil {
			continue
		}
		now := "nothing is in force there yet"
		switch ch.status.Before {
		case gateway.BeforeOpen:
			open = append(open, ch.client.Gateway)
			now = "now it forwards everything that comes"
		case gateway.BeforeOther:
			now = "now somebody else's rules decide there, which this can't read: what is opened and closed is not known"
			a.result.Compared = false
		}
		if !a.json {
			a.sayOf(ch, fmt.Sprintf("revision %d; %s", ch.base+1, now))
			if ch.status.On == "kernel" {
				a.sayOf(ch, "itself it then answers "+servedText(a.network.Gateway(ch.client.Gateway)))
			}
		}
	}
	if len(open) == 0 {
		return
	}
	before, err := a.bundle.Network()
	if err != nil {
		return // it was read before
	}
	for _, name := range open {
		g := before.Gateway(name)
		g.NAT, g.Filter = nil, []*network.FilterRule{{Rule: network.Rule{Gateway: g, Name: "everything", Kind: string(network.Allow), Number: 1}, Verb: network.Allow}}
		g.Handling.TurnBack, g.Handling.TCPLoose, g.Limits.Sessions = true, true, 0
	}
	a.compareWith(before, "what "+strings.Join(open, ", ")+" forwards now", "hollowbridge reach lists all that can get in")
}

// servedText says what a gateway answers itself.
func servedText(g *network.Gateway) string {
	if len(g.Serves) == 0 {
		return "nothing: serves: names nothing"
	}
	var words []string
	for _, s := range g.Serves {
		words = append(words, fmt.Sprintf("%s (%s)", s.Name, strings.Join(network.InterfaceNames(s.On), ", ")))
	}
	return "only " + strings.Join(words, ", ")
}

// sayOf writes a line about a gateway.
func (a *application) sayOf(ch *change, text string) {
	name := ch.client.Gateway
	fmt.Fprintf(a.Out, "%s  %s\n", name, strings.Join(wrap(text, a.Width-len(name)-2), "\n"+strings.Repeat(" ", len(name)+2)))
}

// weighOwnConnection traces the administrator's own connections to the gateways, before and
// after.
func (a *application) weighOwnConnection() {
	l := kernel.FindLogin(a.Getenv("SSH_CONNECTION"))
	for _, ch := range a.changes {
		if l.To.IsValid() && !l.IsLinkLocal() {
			if text := advice.CutOffBehind(ch.before, a.engine, l.From, l.To, time.Now()); text != "" && !slices.Contains(a.result.Refused, text) {
				a.result.Refused = append(a.result.Refused, text)
			}
		}
		g := a.network.Gateway(ch.client.Gateway)
		var own []advice.OwnConnection
		if o, ok := controlConnection(g, ch.client.Endpoint); ok {
			own = append(own, o)
		}
		here := ch.client.Endpoint.Socket != "" && a.Getenv(gateway.ControlFolder) == "" && ch.status.On == "kernel"
		o, ok := ownLogin(g, l)
		if ok {
			own = append(own, o)
		}
		lost := l.Unknown || l.IsLinkLocal() && !ok
		if here && lost && a.back == 0 {
			a.result.Refused = append(a.result.Refused, "where your own login comes from can't be found, so nobody knows whether this cuts it off; with -for it goes back by itself if it does")
		}
		for _, o := range own {
			if text := advice.CutOff(ch.before, a.engine, o, time.Now()); text != "" {
				a.result.Refused = append(a.result.Refused, text)
			} else if g.Handling.RestartsOnApply && !g.Handling.TCPLoose && ch.before != nil {
				a.result.Refused = append(a.result.Refused, fmt.Sprintf("your own connection %s -> %s ends: restarts-on-apply ends all sessions, and tcp-state: strict takes none up in the middle", o.Packet.From(), o.Packet.To()))
			}
		}
	}
}

// controlConnection returns the connection by which this command comes to a gateway by TLS.
func controlConnection(g *network.Gateway, e gateway.Endpoint) (o advice.OwnConnection, ok bool) {
	to := g.Control.Listen
	if !to.IsValid() || e.Socket != "" {
		return o, false
	}
	conn, err := net.Dial("udp", to.String()) // sends nothing; the machine says from where it would
	if err != nil {
		return o, false
	}
	defer conn.Close()
	from := conn.LocalAddr().(*net.UDPAddr).AddrPort()
	return advice.OwnConnection{Packet: header.Packet{Source: from.Addr().Unmap(), SourcePort: header.UsualSourcePort, Destination: to.Addr(), DestinationPort: to.Port(), Protocol: header.TCP}}, true
}

// ownLogin returns the connection of a login that is one to a gateway. One from a link-local address comes by the interface that it names,
// and stands for one to the address of that.
func ownLogin(g *network.Gateway, l kernel.Login) (o advice.OwnConnection, ok bool) {
	o.Packet = header.Packet{Source: l.From.Addr(), SourcePort: l.From.Port(), Destination: l.To.Addr(), DestinationPort: l.To.Port(), Protocol: header.TCP}
	if !l.IsLinkLocal() {
		return o, l.To.IsValid() && advice.Owns(g, l.To.Addr())
	}
	for _, i := range g.Interfaces {
		if a, has := i.Address(header.IPv6); has && kernel.DeviceOf(i) == l.Device {
			o.Packet.Destination, o.In = a, i
			return o, true
		}
	}
	return o, false
}

// prepare lets all gateways get ready.
func (a *application) prepare() int {
	prepared, failures := askAll(a.clients(), func(g *gateway.Client) (gateway.Prepared, error) {
		for _, ch := range a.changes {
			if ch.client == g {
				return g.Prepare(context.Background(), gateway.Proposal{Bundle: a.bundle, Base: ch.base})
			}
		}
		return gateway.Prepared{}, nil
	})
	a.clearProgress()
	for i, err := range failures {
		var refusal *gateway.Refusal
		if errors.As(err, &refusal) && refusal.Revision != nil {
			return a.overtaken(a.changes[i], refusal)
		}
	}
	if status := a.sayFailures(failures); status != yes {
		return status
	}
	for i, ch := range a.changes {
		ch.prepared = prepared[i]
		if a.json {
			continue
		}
		for _, note := range ch.prepared.Notes {
			a.sayOf(ch, note)
		}
		a.saySessions(ch)
	}
	return yes
}

func (a *application) saySessions(ch *change) {
	n := ch.prepared.Changed
	switch {
	case n == 0:
		return
	case ch.prepared.Ends:
		fmt.Fprintf(a.Out, "%s  %s (restarts-on-apply)\n", ch.client.Gateway, plural(n, "session ends", "sessions end"))
	case a.options.clear:
		fmt.Fprintf(a.Out, "%s  %s that the new rules would not have made so:\n", ch.client.Gateway, plural(n, "session ends", "sessions end"))
	default:
		fmt.Fprintf(a.Out, "%s  %s that the new rules would not have made so (-clear ends them):\n", ch.client.Gateway, plural(n, "session goes on", "sessions go on"))
	}
	for i := range ch.prepared.First {
		fmt.Fprintf(a.Out, "  %s\n", connectionText(&ch.prepared.First[i].Before, &ch.prepared.First[i].After))
	}
	if more := n - len(ch.prepared.First); more > 0 && len(ch.prepared.First) > 0 {
		fmt.Fprintf(a.Out, "  and %d more\n", more)
	}
}

func (a *application) clients() []*gateway.Client {
	list := make([]*gateway.Client, len(a.changes))
	for i, ch := range a.changes {
		list[i] = ch.client
	}
	return list
}

// decide refuses, asks, and applies.
func (a *application) decide() int {
	if len(a.result.Refused) > 0 && !a.json {
		label := "refused"
		if a.options.anyway {
			label = "anyway"
		}
		for _, why := range a.result.Refused {
			fmt.Fprintln(a.Out, strings.Join(wrap(fmt.Sprintf("%s  %s", a.red(label), why), a.Width), "\n         "))
		}
	}
	switch {
	case a.dryRun && len(a.result.Refused) > 0 && !a.options.anyway:
		a.result.Outcome = "refused"
		return a.finish(no, "-dry-run: nothing is changed, and nothing would be without -anyway")
	case a.dryRun:
		a.result.Outcome = "planned"
		return a.finish(yes, "-dry-run: nothing is changed")
	case len(a.result.Refused) > 0 && !a.options.anyway:
		a.result.Outcome = "refused"
		return a.finish(no, "Nothing is changed; -anyway applies it all the same.")
	case !a.options.yes:
		if status := a.ask(); status != yes {
			return status
		}
	}
	if a.instead != nil {
		return a.instead()
	}
	return a.commit()
}

func (a *application) finish(status int, text string) int {
	if a.json {
		a.printJSON(a.resultOf())
	} else {
		fmt.Fprintln(a.Out, text)
	}
	return status
}

// ask asks on the terminal.
func (a *application) ask() int {
	if a.json || !term.IsTerminal(int(os.Stdin.Fd())) {
		return a.misused("there is no terminal to ask on; -yes applies without asking, -dry-run only says what would change")
	}
	what := "Apply to " + strings.Join(names(a.clients()), ", ")
	if a.back > 0 {
		what += ", for " + a.options.forTime
	}
	fmt.Fprintf(a.Err, "%s? [y/N] ", what)
	answer, _ := bufio.NewReader(os.Stdin).ReadString('\n')
	if answer = strings.ToLower(strings.TrimSpace(answer)); answer != "y" && answer != "yes" {
		fmt.Fprintln(a.Out, "Nothing is changed.")
		return no
	}
	return yes
}

// author returns whose name the history gets.
func (a *application) author() string {
	if a.options.by != "" {
		return a.options.by
	}
	return loginName()
}

// loginName says who is at this machine.
func loginName() string {
	name := "uid " + fmt.Sprint(os.Getuid())
	if u, err := user.Current(); err == nil && u.Username != "" {
		name = u.Username
	}
	if host, err := os.Hostname(); err == nil {
		name += "@" + host
	}
	return name
}

// commit puts it into force on all gateways at once. Where one does not follow, all go back; when all have it, each is told so.
func (a *application) commit() int {
	if a.id == "" {
		a.id = rand.Text()
		a.members = names(a.clients())
	}
	committed, failures := askAll(a.clients(), func(g *gateway.Client) (gateway.Committed, error) { return a.commitOn(g) })
	a.clearProgress()
	if slices.ContainsFunc(failures, func(err error) bool { return err != nil }) {
		return a.takeBack(failures)
	}
	for i, ch := range a.changes {
		entry, made := a.entry(ch), committed[i]
		entry.Is, entry.Ended, entry.Cuts, entry.Cut = made.Revision.Number, made.Ended, made.Cuts, append(entry.Cut, made.Cut...)
		if a.back > 0 {
			at := made.Revision.Time.Add(a.back)
			entry.Back = &at
		}
		a.result.Gateways = append(a.result.Gateways, entry)
	}
	if len(a.members) > 1 {
		if err := a.confirm(); err != nil {
			return a.failed(err)
		}
	}
	a.result.Outcome = "applied"
	if a.json {
		a.printJSON(a.resultOf())
		return yes
	}
	for _, g := range a.result.Gateways {
		line := fmt.Sprintf("%s  %s runs revision %d", a.green("applied"), g.Gateway, g.Is)
		if g.Ended > 0 {
			line += ", " + plural(g.Ended, "session is ended", "sessions are ended")
		}
		fmt.Fprintln(a.Out, line)
		a.sayCut(&g)
	}
	if a.back > 0 {
		fmt.Fprintf(a.Out, "It goes back at %s unless it is kept: %s\n", a.result.Gateways[0].Back.Local().Format("15:04:05"), a.typed("hollowbridge apply -keep"))
	}
	return yes
}

// commitOn puts it into force on one gateway. Where its answer gets lost, the gateway is asked what it runs.
func (a *application) commitOn(g *gateway.Client) (gateway.Committed, error) {
	ch := a.changes[slices.IndexFunc(a.changes, func(ch *change) bool { return ch.client == g })]
	made, err := g.Commit(context.Background(), gateway.Commit{
		Token: ch.prepared.Token, Author: a.author(), Note: a.note, For: a.back.Seconds(), Clear: a.options.clear, Apply: &gateway.Apply{ID: a.id, Gateways: a.members},
	})
	var refusal *gateway.Refusal
	if err == nil || errors.As(err, &refusal) {
		return made, err
	}
	if status, asked := g.Status(context.Background()); asked == nil && status.Revision != nil && status.Revision.Applied != nil && status.Revision.Applied.ID == a.id {
		return gateway.Committed{Revision: *status.Revision}, nil
	}
	return made, err
}

// confirm tells all gateways of an apply that all have it, then that it stays everywhere.
func (a *application) confirm() error {
	confirmed, failures := map[string]bool{}, map[string]error{}
	for _, g := range a.parts() {
		err := g.Confirm(context.Background(), a.id, false)
		for range 2 { // as an answer may get lost
			if err == nil {
				break
			}
			err = g.Confirm(context.Background(), a.id, false)
		}
		if err != nil {
			failures[g.Gateway] = err
			if len(confirmed) == 0 { // none has heard it yet, so all can go back
				break
			}
			continue
		}
		confirmed[g.Gateway] = true
	}
	if len(failures) == 0 {
		for _, g := range a.parts() {
			g.Confirm(context.Background(), a.id, true) // else the next command finds it out
		}
		return nil
	}
	var sentences []string
	for name, err := range failures {
		sentences = append(sentences, fmt.Sprintf("%s has not heard that all have it, and goes back within a minute (%v)", name, err))
	}
	slices.Sort(sentences)
	if len(confirmed) == 0 {
		for _, ch := range a.changes { // where it does not hear this either, its lease ends
			var refusal *gateway.Refusal
			if err := ch.client.Forget(context.Background(), ch.prepared.Token, "not all gateways of the apply heard of it"); errors.As(err, &refusal) {
				return fmt.Errorf("%s; %w: %s", strings.Join(sentences, "; "), err, a.remedy())
			}
		}
		return fmt.Errorf("%s; so the others go back too", strings.Join(sentences, "; "))
	}
	return fmt.Errorf("%s; %s have it for good: %s", strings.Join(sentences, "; "), strings.Join(slices.Sorted(maps.Keys(confirmed)), ", "), a.remedy())
}

// remedy says what can become of an apply that is not whole.
func (c *call) remedy() string {
	return fmt.Sprintf("%s puts it on all of them, %s takes it back", c.typed("hollowbridge apply -finish"), c.typed("hollowbridge revert"))
}

// parts returns the clients of all gateways of the apply: those that are changed, and, where it is finished, those that have it.
func (a *application) parts() []*gateway.Client { return append(a.clients(), a.having...) }

// sayCut names connections that went through a gateway before it had rules, and that these do not let go on.
func (a *application) sayCut(g *appliedGateway) {
	if g.Cuts == 0 {
		return
	}
	fmt.Fprintf(a.Out, "%s: the rules let neither direction go on as it is\n", plural(g.Cuts, "connection that went through it before is cut", "connections that went through it before are cut"))
	for _, text := range g.Cut {
		fmt.Fprintf(a.Out, "  %s\n", text)
	}
	if more := g.Cuts - len(g.Cut); more > 0 {
		fmt.Fprintf(a.Out, "  and %d more\n", more)
	}
}

// takeBack makes all gateways go back, because some did not follow: also those, unless they have refused.
func (a *application) takeBack(failures []error) int {
	var without []string
	for i, err := range failures {
		if err != nil {
			without = append(without, a.changes[i].client.Gateway)
		}
	}
	for i, ch := range a.changes {
		var refusal *gateway.Refusal
		if errors.As(failures[i], &refusal) { // nothing was put into force there
			continue
		}
		err := ch.client.Forget(context.Background(), ch.prepared.Token, strings.Join(without, ", ")+" did not follow")
		switch {
		case err == nil && failures[i] == nil:
			fmt.Fprintf(a.Err, "%s is back at what it ran before\n", ch.client.Gateway)
		case err == nil:
			fmt.Fprintf(a.Err, "%s runs what it ran before\n", ch.client.Gateway)
		case len(a.members) > 1:
			a.failed(fmt.Errorf("%s can't be told to go back; if it has put the revision into force, it goes back by itself within a minute: %w", ch.client.Gateway, err))
		default:
			a.failed(fmt.Errorf("%s does not say whether it has put the revision into force; %s shows it: %w", ch.client.Gateway, a.typed("hollowbridge history"), err))
		}
	}
	for i, why := range failures {
		var refusal *gateway.Refusal
		if errors.As(why, &refusal) && refusal.Revision != nil {
			return a.overtaken(a.changes[i], refusal)
		}
	}
	return a.sayFailures(failures)
}

// overtaken says what somebody else changed since this command looked.
func (a *application) overtaken(ch *change, refusal *gateway.Refusal) int {
	a.failed(refusal)
	r, err := ch.client.Revision(context.Background(), refusal.Revision.Number)
	if err == nil && r.Bundle != nil && ch.before != nil {
		r.Bundle.File = fmt.Sprintf("%s@%d", ch.client.Gateway, r.Number)
		if other, err := r.Bundle.Network(); err == nil {
			if found, err := reach.Differences(walk.Compile(ch.before, nil), walk.Compile(other, nil), network.Times{}, false); err == nil {
				fmt.Fprintf(a.Err, "what that changed since revision %d:\n", ch.base)
				for _, line := range differenceLines(reach.NewNamer(other), found) {
					fmt.Fprintf(a.Err, "  %s\n", strings.Join(wrap(line, a.Width-2), "\n          "))
				}
			}
		}
	}
	fmt.Fprintln(a.Err, "Nothing is overwritten: look at it, and apply again.")
	return wrong
}

func (a *application) entry(ch *change) appliedGateway {
	return appliedGateway{
		Gateway: ch.client.Gateway, Was: ch.base, Is: ch.base, Notes: append([]string{}, ch.prepared.Notes...),
		Changed: ch.prepared.Changed, Ends: ch.prepared.Ends, First: append([]gateway.Session{}, ch.prepared.First...), Cut: []string{},
	}
}

// resultOf returns what is printed as JSON.
func (a *application) resultOf() appliedJSON {
	r := a.result
	if len(r.Gateways) == 0 {
		for _, ch := range a.changes {
			r.Gateways = append(r.Gateways, a.entry(ch))
		}
	}
	r.Expectations = append([]expectationJSON{}, r.Expectations...)
	r.Differences = append([]differenceJSON{}, r.Differences...)
	r.Refused = append([]string{}, r.Refused...)
	return r
}
