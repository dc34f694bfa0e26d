// Package repair finds edits of a network file that make a stopped connection reach
// its service, tries each on a copy, and says what else it would open.
package repair

import (
	"fmt"
	"slices"
	"strings"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/reach"
	"hollowbridge/internal/netfile"
)

// A Repair is one edit that was tried.
type Repair struct {
	Command string // as it is typed
	Edit    func(*netfile.Editor) error
	second  func(*netfile.Editor) error
	Opens   []reach.Difference // everything that fares differently, the connection itself included
}

// mostRepairs is how many repairs are offered.
const mostRepairs = 3

// Find returns the edits that make the traced connection reach a host, those that
// change least first. Compared is false where there are too many rules to say what
// else they open.
func Find(path string, t *engine.Trace, n *network.Network, mostRules int) (found []Repair, compared bool, err error) {
	var base *reach.Baseline
	compared = ruleCount(n) <= mostRules
	for _, r := range candidates(t, n) {
		if len(found) == mostRepairs {
			break
		}
		e, err := netfile.Sketch(path)
		if err != nil {
			return nil, false, err
		}
		after := tried(e, r.Edit)
		if after == nil {
			continue
		}
		if again := traced(after, t); again != nil && again.Outcome != engine.Reached {
			if again.Outcome != engine.Dropped || again.Step != engine.StepFilter || again.Stood.Gateway.Name != t.Stood.Gateway.Name {
				continue
			}
			r = both(r, allowRepair(again, after.Network())) // it gets further, and needs a filter rule there
			if after = tried(e, r.second); after == nil {
				continue
			}
		}
		if again := traced(after, t); again == nil || again.Outcome != engine.Reached {
			continue
		}
		if compared && base == nil {
			base, err = reach.NewBaseline(engine.Compile(n), network.Always)
			compared = err == nil // too large to compare: the repairs themselves are right all the same
		}
		if compared {
			r.Opens, err = base.Differences(after, false)
			compared = err == nil
			r.Opens = reach.Summary(r.Opens)
		}
		found = append(found, r)
	}
	slices.SortStableFunc(found, func(a, b Repair) int { return len(a.Opens) - len(b.Opens) })
	return found, compared, nil
}

// tried makes an edit and returns the network as it is then, nil where it is not right.
func tried(e *netfile.Editor, edit func(*netfile.Editor) error) *engine.Engine {
	if edit(e) != nil {
		return nil
	}
	n, err := e.Network()
	if err != nil {
		return nil
	}
	return engine.Compile(n)
}

// both makes one repair and then another.
func both(a, b Repair) Repair {
	return Repair{
		Command: a.Command + " && " + b.Command,
		Edit: func(e *netfile.Editor) error {
			if err := a.Edit(e); err != nil {
				return err
			}
			return b.Edit(e)
		},
		second: b.Edit,
	}
}

func ruleCount(n *network.Network) int {
	count := 0
	for _, g := range n.Gateways {
		count += len(g.NAT) + len(g.Filter)
	}
	return count
}

// traced traces the connection in the edited network, nil where it can't begin there.
func traced(e *engine.Engine, t *engine.Trace) *engine.Trace {
	c := t.Connection
	var err error
	if through := c.From.Through; through != nil {
		g := e.Network().Gateway(through.Gateway.Name)
		c.From = e.Behind(g.Interface(through.Name), c.Packet.Source)
	} else if c.From, err = e.Locate(c.Packet.Source); err != nil {
		return nil
	}
	return e.NewWalk().Trace(c)
}

// candidates lists edits that may help, judged by where the trace ended.
func candidates(t *engine.Trace, n *network.Network) []Repair {
	var list []Repair
	for _, near := range t.Near {
		list = append(list, nearRepairs(t, near)...)
	}
	switch t.Outcome {
	case engine.Dropped, engine.Rejected:
		if t.Step == engine.StepFilter {
			list = append(list, allowRepair(t, n))
		}
	case engine.Itself:
		list = append(list, hairpinRepairs(t)...)
	case engine.Refused:
		list = append(list, portRepairs(t, n)...)
	case engine.Unanswered:
		list = append(list, answerRepairs(t, n)...)
	}
	return list
}

// change is a repair that gives keys of a rule or host new values.
func change(kind, name, gateway string, settings ...netfile.Setting) Repair {
	command := fmt.Sprintf("hollowbridge change %s %s", kind, name)
	for _, s := range settings {
		command += " " + quoted(s.Key+"="+s.Value)
	}
	if gateway != "" {
		command += " -gateway " + gateway
	}
	return Repair{Command: command, Edit: func(e *netfile.Editor) error {
		thing, err := e.Find(kind, name, gateway)
		if err != nil {
			return err
		}
		return e.Change(thing, settings)
	}}
}

func quoted(text string) string {
	if strings.ContainsAny(text, " []") {
		return `"` + text + `"`
	}
	return text
}

// nearRepairs mends the one field in which a rule differs.
func nearRepairs(t *engine.Trace, near engine.Near) []Repair {
	g := t.Stood.Gateway
	switch near.Differs {
	case "disabled":
		command := fmt.Sprintf("hollowbridge enable %s %s -gateway %s", near.Rule.Kind, near.Rule.Name, g.Name)
		return []Repair{{Command: command, Edit: change(near.Rule.Kind, near.Rule.Name, g.Name, netfile.Setting{Key: "disabled"}).Edit}}
	case "side of the translation":
		seen := t.Stood.After
		if g.Handling.FilterSeesOriginal {
			seen = t.Stood.Before
		}
		return []Repair{change(near.Rule.Kind, near.Rule.Name, g.Name,
			netfile.Setting{Key: "to", Value: seen.Destination.String()}, netfile.Setting{Key: "service", Value: serviceOf(seen)})}
	case "interface":
		for _, r := range g.NAT {
			if &r.Rule == near.Rule {
				return []Repair{change(near.Rule.Kind, near.Rule.Name, g.Name, netfile.Setting{Key: "on", Value: names(r.On) + "," + t.Stood.In.Name})}
			}
		}
	}
	return nil
}

func names(list []*network.Interface) string {
	var texts []string
	for _, i := range list {
		texts = append(texts, i.Name)
	}
	return strings.Join(texts, ",")
}

func serviceOf(p header.Packet) string {
	return header.Service{Protocol: p.Protocol, Ports: header.Ports{First: p.DestinationPort, Last: p.DestinationPort}}.String()
}

// allowRepair adds the filter rule that is missing, for this source, service and host
// alone, or for all whom the forward is meant for.
func allowRepair(t *engine.Trace, n *network.Network) Repair {
	g, seen := t.Stood.Gateway, t.Stood.After
	if g.Handling.FilterSeesOriginal {
		seen.Destination, seen.DestinationPort = t.Stood.Before.Destination, t.Stood.Before.DestinationPort
	}
	from, name := seen.Source.String(), "let-in"
	if f := t.Stood.Forward; f != nil {
		name = f.Name
		if !f.From.IsAny() {
			from = strings.ReplaceAll(f.From.Text, ", ", ",")
		}
	}
	for _, taken := range g.Filter {
		if taken.Name == name {
			name += "-too"
		}
	}
	to := seen.Destination.String()
	for _, h := range n.Hosts {
		if h.Has(seen.Destination) {
			to = h.Name
		}
	}
	settings := []netfile.Setting{{Key: "from", Value: from}, {Key: "to", Value: to}, {Key: "service", Value: serviceOf(seen)}}
	before := ""
	command := fmt.Sprintf("hollowbridge add allow %s -gateway %s -from %s -to %s -service %s", name, g.Name, quoted(from), to, serviceOf(seen))
	if t.Rule != nil {
		before = t.Rule.Name
		command += " -before " + before
	}
	return Repair{Command: command, Edit: func(e *netfile.Editor) error {
		return e.AddRule(g.Name, "allow", name, settings, before, "")
	}}
}

// hairpinRepairs lets an inside client use a forward that listens for outsiders.
func hairpinRepairs(t *engine.Trace) []Repair {
	var list []Repair
	g := t.Stood.Gateway
	if g == nil || t.Stood.In.FacesInternet(t.Stood.Before.Destination.Is6()) {
		return nil
	}
	for _, r := range g.NAT {
		if (r.Does == network.PortForward || r.Does == network.OneToOne) && !r.Hairpin {
			list = append(list, change(r.Kind, r.Name, g.Name, netfile.Setting{Key: "hairpin", Value: "true"}))
		}
	}
	return list
}

// portRepairs leads a forward to a port that the host does listen on.
func portRepairs(t *engine.Trace, n *network.Network) []Repair {
	f, h := t.Stood.Forward, n.Host(t.Host)
	if f == nil || h == nil || len(f.Ports) != 1 || f.Ports[0].Ports.Count() != 1 {
		return nil
	}
	var list []Repair
	for _, s := range h.Serves {
		for _, service := range s.Services {
			if service.Protocol == t.Connection.Packet.Protocol && service.Ports.Count() == 1 && !published(t.Stood.Gateway, f, service) {
				list = append(list, change(f.Kind, f.Name, t.Stood.Gateway.Name, netfile.Setting{Key: "to", Value: fmt.Sprintf("%s:%d", f.TargetIs, service.Ports.First)}))
			}
		}
	}
	return list
}

// published reports whether another forward leads to the host's service already.
func published(g *network.Gateway, f *network.NATRule, service header.Service) bool {
	return slices.ContainsFunc(g.NAT, func(r *network.NATRule) bool {
		return r != f && !r.Disabled && r.Target == f.Target && slices.ContainsFunc(r.Ports, func(m network.PortMap) bool {
			return m.Protocol == service.Protocol && m.ToFirst <= service.Ports.First && service.Ports.First <= m.ToFirst+(m.Ports.Last-m.Ports.First)
		})
	})
}

// answerRepairs mends the way back.
func answerRepairs(t *engine.Trace, n *network.Network) []Repair {
	var list []Repair
	g := t.Stood.Gateway
	if h := n.Host(t.Host); h != nil && g != nil && h.Gateway != g {
		list = append(list, change("host", h.Name, "", netfile.Setting{Key: "gateway", Value: g.Name}))
	}
	if f := t.Stood.Forward; f != nil && !f.Hairpin {
		list = append(list, change(f.Kind, f.Name, g.Name, netfile.Setting{Key: "hairpin", Value: "true"}))
	}
	out := t.Stood.Out
	if g == nil || out == nil || !out.FacesInternet(t.Stood.After.Source.Is6()) {
		return list
	}
	from := t.Stood.After.Source.String()
	if s := n.SegmentOf(t.Stood.After.Source, ""); s != nil {
		for _, p := range s.Prefixes {
			if p.Contains(t.Stood.After.Source) {
				from = p.String()
			}
		}
	}
	name := "hide-" + t.Stood.In.Name
	if slices.ContainsFunc(g.NAT, func(r *network.NATRule) bool { return r.Name == name }) {
		name += "-too"
	}
	return append(list, Repair{
		Command: fmt.Sprintf("hollowbridge add source-nat %s -gateway %s -on %s -from %s -as interface", name, g.Name, out.Name, from),
		Edit: func(e *netfile.Editor) error {
			return e.AddRule(g.Name, "source-nat", name, []netfile.Setting{{Key: "on", Value: out.Name}, {Key: "from", Value: from}, {Key: "as", Value: "interface"}}, "", "")
		},
	})
}
