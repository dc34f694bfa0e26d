package advice

import (
	"cmp"
	"iter"
	"net/netip"
	"slices"
	"sync"

	"hollowbridge/core/explore"
	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/reach"
	"hollowbridge/core/walk"
)

// A Finding is something about a network that is valid but probably wrong or dangerous.
type Finding struct {
	Kind      network.FindingKind
	Place     network.Position
	Subject   string // the rule, host, group or gateway it is about
	Text      string
	Proposals []network.Edits // edits that may mend it; they still have to be tried
}

// A Matter is what a finding is about. Two findings of one network, or of a network before and after
// an edit, with the same matter say the same.
type Matter struct {
	Kind    network.FindingKind
	Subject string
}

// Matter returns what the finding is about.
func (f *Finding) Matter() Matter { return Matter{f.Kind, f.Subject} }

// checks are what check looks for, each once. What finds unused rules asks what was found
// before.
var checks = []func(*exam){
	// forwards.go
	(*exam).samePorts, (*exam).stoppedForwards, (*exam).wrongSides, (*exam).forwardTargets, (*exam).forwardsOnUplinks, (*exam).outsideAddresses, (*exam).dynamicOutside,
	(*exam).plainTargets, (*exam).wideOneToOne, (*exam).missingHairpins, (*exam).hairpinsTurnedDown, (*exam).limits, (*exam).ports,
	// filter.go
	(*exam).hiddenRules, (*exam).crossingRules, (*exam).unusedRules, (*exam).dropLists, (*exam).disabledRules,
	// exposure.go
	(*exam).anyServices, (*exam).exposure, (*exam).nobodyThere, (*exam).besideUplinks, (*exam).nameServers, (*exam).openMappings,
	// routing.go
	(*exam).leakingSources, (*exam).defaultRoutes, (*exam).backupUplinks, (*exam).droppedICMPv6,
	// names.go
	(*exam).groups, (*exam).twinAddresses,
	// logging.go
	(*exam).logging,
	// expiry.go
	(*exam).expiry,
}

// An exam is a network under examination.
type exam struct {
	awaiting map[*network.Rule]bool // rules for a group without members; nil until it is asked
	net      *network.Network
	soon     network.Date
	engine   *walk.Engine
	explorer *explore.Explorer
	regions  []*origin
	begun    map[begun][]*origin         // of them, those of a beginning
	through  map[*network.Rule][]*origin // the regions that a rule had a part in
	open     reach.Answer                // what gets in from the internet
	names    *reach.Namer
	lists    lists
	found    []Finding
	told     map[told]bool

	walk      *walk.Walk
	ruleNames map[*network.Gateway]map[string]bool // of filter rules
	hosts     map[netip.Addr]*network.Host
	permits   map[*network.Gateway]*index // see permitting
}

// Told is what is said once.
type told struct {
	kind  network.FindingKind
	place network.Position
	text  string
}

// An origin is a region and where its connections begin.
type origin struct {
	explore.Region
	begun network.Place // as all of them begin
}

// isOutside reports whether connections begin on the internet, or beside an uplink.
func (o *origin) isOutside() bool {
	return o.From.Internet || o.From.Segment != nil && o.From.Segment.IsUplink(header.FamilyOf(o.Example.Source))
}

// Lists are what the rules of each list do to each other.
type lists struct {
	hidden    []explore.HiddenRule
	crossings []explore.Crossing
	err       error
}

// manyRules is from how many rules on lists are looked at beside the rest, in a space of their own: it
// takes more memory and, in all, a little more work.
const manyRules = 2000

func listsOf(explorer *explore.Explorer) lists {
	l := lists{hidden: explorer.Hidden(), crossings: explorer.Crossings()}
	l.err = explorer.Space.Err()
	return l
}

// explore finds out what becomes of all connections.
func (x *exam) explore(most int) error {
	count := 0
	for _, b := range x.explorer.Beginnings(nil) {
		var list []*origin
		for r, err := range x.explorer.Explore(b.From, b.Set) {
			if err != nil {
				return err
			}
			if count++; count > most {
				return reach.TooManyKinds{Most: most}
			}
			o := &origin{r.Kept(), b.From}
			list = append(list, o)
			for _, rule := range r.Rules {
				x.through[rule] = append(x.through[rule], o)
			}
		}
		x.begun[begun{b.From, b.Set}] = list
		x.regions = append(x.regions, list...)
	}
	return nil
}

// A begun set is where connections begin.
type begun struct {
	from network.Place
	set  flowset.Set
}

// explored returns what becomes of connections, as it was found out for all.
func (x *exam) explored(b explore.Beginning) iter.Seq2[*explore.Region, error] {
	list, ok := x.begun[begun{b.From, b.Set}]
	if !ok {
		return x.explorer.Explore(b.From, b.Set)
	}
	return func(yield func(*explore.Region, error) bool) {
		for _, o := range list {
			if !yield(&o.Region, nil) {
				return
			}
		}
	}
}

// Asked is what an examination is asked for.
type Asked struct {
	Times network.Times  // the moments that it is about; the zero Times are all
	Space *flowset.Space // for so many moments, in which it makes its sets of connections; nil is a new one of reach.MostPieces
	Soon  network.Date   // what ends up to this day ends soon; none: nothing does
	Most  int            // kinds of connections that it may hold; 0 is reach.MostKinds
}

// Examine returns everything check has to say about a network, the gravest first,
// without what rules accept. It fails with flowset.TooLarge where the sets of connections grow to more than the
// space may hold, and with reach.TooManyKinds where there are more kinds of them than it may.
func Examine(e *walk.Engine, asked Asked) (found []Finding, err error) {
	times, space := asked.Times.Or(e.Network()), asked.Space
	if space == nil {
		space = flowset.NewSpace(reach.MostPieces, times.Count())
	}
	x := &exam{net: e.Network(), soon: asked.Soon, engine: e, explorer: explore.NewIn(e, space, times), names: reach.NewNamer(e.Network()),
		begun: map[begun][]*origin{}, through: map[*network.Rule][]*origin{}, walk: e.NewWalk(), ruleNames: map[*network.Gateway]map[string]bool{}, told: map[told]bool{}, hosts: map[netip.Addr]*network.Host{}, permits: map[*network.Gateway]*index{}}
	for _, h := range x.net.Hosts {
		for _, a := range h.Addresses {
			x.hosts[a] = h
		}
	}
	var beside sync.WaitGroup
	if x.net.RuleCount() < manyRules {
		x.lists = listsOf(x.explorer)
	} else {
		beside.Go(func() { x.lists = listsOf(explore.New(e, times, space.Most())) })
		defer beside.Wait()
	}
	if err := x.explore(cmp.Or(asked.Most, reach.MostKinds)); err != nil {
		return nil, err
	}
	internet := network.Expression{Text: "internet", Items: []network.Item{{Set: e.Network().Internet(), Whole: true}}}
	if x.open, err = reach.FindIn(e, x.explorer, reach.Question{From: &internet, Times: times}, x.explored); err != nil {
		return nil, err
	}
	beside.Wait()
	if x.lists.err != nil {
		return nil, x.lists.err
	}
	for _, check := range checks {
		check(x)
	}
	slices.SortStableFunc(x.found, func(a, b Finding) int {
		return cmp.Or(slices.Index(network.Severities, a.Severity())-slices.Index(network.Severities, b.Severity()), a.Place.Line-b.Place.Line, int(a.Kind)-int(b.Kind))
	})
	return x.found, x.explorer.Space.Err()
}

// Severity returns how much the finding matters.
func (f *Finding) Severity() network.Severity { return f.Kind.Severity() }

// report notes a finding about a place, unless the rule accepts it.
func (x *exam) report(kind network.FindingKind, place network.Position, subject, text string, rule *network.Rule, proposals ...network.Edits) {
	this := told{kind, place, text}
	if x.told[this] || rule != nil && slices.Contains(rule.Accept, kind) {
		return
	}
	x.told[this] = true
	x.found = append(x.found, Finding{kind, place, subject, text, proposals})
}

func (x *exam) rule(kind network.FindingKind, r *network.Rule, text string, proposals ...network.Edits) {
	x.report(kind, r.Place, r.Kind+" "+r.Name, text, r, proposals...)
}

// change are edits that give keys of a rule new values.
func (x *exam) change(r *network.Rule, settings ...network.Setting) network.Edits {
	return change(r.Kind, r.Name, r.Gateway.Name, settings...)
}

// remove are edits that take a rule out.
func (x *exam) remove(r *network.Rule) network.Edits {
	return network.Edits{{Verb: network.Remove, Kind: r.Kind, Name: r.Name, Gateway: r.Gateway.Name}}
}
