package advice

import (
	"cmp"
	"net/netip"
	"slices"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/reach"
)

// A Severity is how much a finding matters.
type Severity string

// The severities, the gravest first.
const (
	Danger  Severity = "danger"
	Mistake Severity = "mistake"
	Note    Severity = "note"
)

var severities = []Severity{Danger, Mistake, Note}

// A Finding is something about a network that is valid but probably wrong or dangerous.
type Finding struct {
	Name     string
	Severity Severity
	Place    network.Place
	Subject  string // the rule, host, group or gateway it is about
	Text     string
	Mends    []Mend // edits that may mend it; they still have to be tried
}

// Same reports whether two findings of one network, or of a network before and after
// an edit, are about the same thing.
func (f Finding) Same(g Finding) bool { return f.Name == g.Name && f.Subject == g.Subject }

// A findingKind is one thing that check looks for.
type findingKind struct {
	name     string
	severity Severity
	why      string // one sentence
	look     func(*exam)
}

// findingKinds lists what check looks for. It is filled in by init, because what
// looks also names what it finds.
var findingKinds []findingKind

func init() {
	findingKinds = []findingKind{
		{"hidden-rule", Mistake, "A rule that can never match gives a false feeling of what is allowed or stopped.", lookHidden},
		{"half-hidden", Note, "Part of what the rule is for is decided otherwise by a rule in front of it, and neither is the special case of the other.", lookHalfHidden},
		{"same-port", Mistake, "Two forwards want the same outside address and port; only the first one gets it.", lookSamePort},
		{"forward-not-permitted", Mistake, "A forward that no filter rule lets through does nothing.", lookForwards},
		{"wrong-side", Mistake, "The filter rule names the address or port on the side of the translation that this gateway's filter does not see.", lookForwards},
		{"unused-rule", Note, "No connection that can exist ever comes to this filter rule: it may be left over, or be meant for a forward that does not exist.", lookUnused},
		{"no-such-host", Mistake, "Nobody has the address that the forward leads to.", lookTargets},
		{"dynamic-target", Mistake, "A host whose address changes will one day not be where the forward leads.", lookTargets},
		{"not-served", Mistake, "The host does not listen on the port that the forward leads to.", lookTargets},
		{"host-refuses", Mistake, "The host's own firewall lets nobody in whom the forward sends there.", lookForwards},
		{"upstream-blocks", Mistake, "The uplink's network does not let these connections in, so the forward can't be reached from outside.", lookUplinks},
		{"not-sent-here", Mistake, "Packets for an outside address come only if it is in a prefix of the uplink, or if the provider sends them here.", lookSent},
		{"tls-to-plain", Mistake, "Clients speak TLS to this port; a plain page can't answer them, and they see an error.", lookTLS},
		{"one-to-one-wide", Danger, "More is let through to the host than it serves today; whatever it starts tomorrow is open at once.", lookOneToOne},
		{"leaking-source", Mistake, "A private source that leaves untranslated can never be answered.", lookLeaks},
		{"no-default-route", Mistake, "A gateway without a default route reaches only what its routes name.", lookRoutes},
		{"empty-group", Mistake, "A rule for an empty group matches nobody.", lookGroups},
		{"group-of-everything", Danger, "A group that holds everything makes every rule that names it a rule for anybody.", lookGroups},
		{"any-service", Danger, "A rule from outside without services opens every port, also those nobody thought of.", lookAnyService},
		{"administration-open", Danger, "Remote administration that everybody can reach is found and tried within hours.", lookExposure},
		{"clear-text-open", Danger, "A clear-text service shows passwords and contents to everyone on the way.", lookExposure},
		{"gateway-open", Danger, "The gateway's own administration can be reached from the internet.", lookExposure},
		{"drop-list", Note, "A machine that nobody has listed is let through; a list of who is allowed fails the other way.", lookDropLists},
		{"dns-anywhere", Note, "People who are sent to a notice page can still ask any name server, and tunnel through it.", lookDNS},
		{"no-hairpin", Note, "People inside who use the outside name end at the gateway itself; other forwards of this gateway let them.", lookHairpins},
		{"log-without-logging", Mistake, "The rule asks for logging, but the gateway's logging is off.", lookLogging},
		{"busy-log", Note, "A rule that matches nearly everything fills the log, and what matters is not seen in it.", lookLogging},
		{"too-many-forwards", Mistake, "The gateway has no room for so many forwards.", lookLimits},
		{"disabled-rule", Note, "A rule that is switched off is often left over from a test.", lookDisabled},
		{"mappings-open", Danger, "Any machine can open any port for itself.", lookMappings},
		{"twin-address", Note, "Two hosts have the same address on different segments; rules that name one match both.", lookTwins},
	}
}

// Names returns the names of all findings.
func Names() []string {
	names := make([]string, len(findingKinds))
	for i, k := range findingKinds {
		names[i] = k.name
	}
	return names
}

// Explain returns the severity and the reason of a kind of finding.
func Explain(name string) (severity Severity, why string, ok bool) {
	for _, k := range findingKinds {
		if k.name == name {
			return k.severity, k.why, true
		}
	}
	return "", "", false
}

// An exam is a network under examination.
type exam struct {
	net      *network.Network
	engine   *engine.Engine
	explorer *engine.Explorer
	regions  []*origin
	through  map[*network.Rule][]*origin // the regions that a rule had a part in
	open     []reach.Access              // what can be reached from the internet
	names    *reach.Namer
	hidden   []engine.HiddenRule
	found    []Finding
	kind     *findingKind

	walk      *engine.Walk
	ruleNames map[*network.Gateway]map[string]bool // of filter rules
	gateways  map[*network.Rule]*network.Gateway   // whose rule it is
	hosts     map[netip.Addr]*network.Host
}

// An origin is a region and where its connections begin.
type origin struct {
	engine.Region
	from engine.Place
}

// isOutside reports whether connections begin on the internet, or beside an uplink.
func (o *origin) isOutside() bool {
	return o.from.Internet || o.from.Segment != nil && o.from.Segment.IsUplink(header.FamilyOf(o.Example.Source))
}

// Examine returns everything check has to say about a network, the gravest first,
// without what rules accept. It fails where the sets of connections grow to more than most
// pieces.
func Examine(e *engine.Engine, most int) (found []Finding, err error) {
	x := &exam{net: e.Network(), engine: e, explorer: e.NewExplorer(network.Always, most), names: reach.NewNamer(e.Network()),
		through: map[*network.Rule][]*origin{}, walk: e.NewWalk(), ruleNames: map[*network.Gateway]map[string]bool{}, gateways: map[*network.Rule]*network.Gateway{}, hosts: map[netip.Addr]*network.Host{}}
	for _, g := range x.net.Gateways {
		for _, r := range g.NAT {
			x.gateways[&r.Rule] = g
		}
		for _, r := range g.Filter {
			x.gateways[&r.Rule] = g
		}
	}
	for _, h := range x.net.Hosts {
		for _, a := range h.Addresses {
			x.hosts[a] = h
		}
	}
	internet := network.Expression{Text: "internet", Terms: []network.Term{{Set: e.Network().Internet()}}}
	if x.open, err = reach.Find(e, reach.Question{From: &internet, Moment: network.Always, Most: most}); err != nil {
		return nil, err
	}
	x.hidden = x.explorer.Hidden()
	for _, b := range x.explorer.Beginnings(nil) {
		for r, err := range x.explorer.Explore(b.From, b.Set) {
			if err != nil {
				return nil, err
			}
			o := &origin{r.Kept(), b.From}
			x.regions = append(x.regions, o)
			for _, rule := range r.Rules {
				x.through[rule] = append(x.through[rule], o)
			}
		}
	}
	looked := map[string]bool{}
	for i := range findingKinds {
		k := &findingKinds[i]
		x.kind = k
		before := len(x.found)
		k.look(x)
		kept := x.found[:before]
		for _, f := range x.found[before:] { // looks that serve several kinds report only this one
			if f.Name == k.name && !looked[f.Name+f.Place.String()+f.Text] {
				looked[f.Name+f.Place.String()+f.Text] = true
				kept = append(kept, f)
			}
		}
		x.found = kept
	}
	slices.SortStableFunc(x.found, func(a, b Finding) int {
		return cmp.Or(slices.Index(severities, a.Severity)-slices.Index(severities, b.Severity), a.Place.Line-b.Place.Line)
	})
	return x.found, x.explorer.Space.Err()
}

// report notes a finding about a place, unless the rule accepts it.
func (x *exam) report(name string, place network.Place, subject, text string, rule *network.Rule, mends ...Mend) {
	if rule != nil && slices.Contains(rule.Accept, name) {
		return
	}
	x.found = append(x.found, Finding{name, severityOf(name), place, subject, text, mends})
}

func severityOf(name string) Severity {
	severity, _, _ := Explain(name)
	return severity
}

func (x *exam) rule(name string, r *network.Rule, text string, mends ...Mend) {
	x.report(name, r.Place, r.Kind+" "+r.Name, text, r, mends...)
}

// change is a mend that gives keys of a rule new values.
func (x *exam) change(r *network.Rule, settings ...Setting) Mend {
	return change(r.Kind, r.Name, x.gateways[r].Name, settings...)
}

// remove is a mend that takes a rule out.
func (x *exam) remove(r *network.Rule) Mend {
	return Mend{{Verb: "remove", Kind: r.Kind, Name: r.Name, Gateway: x.gateways[r].Name}}
}
