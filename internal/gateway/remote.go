package gateway

import (
	"context"
	"fmt"

	"hollowbridge/core/engine"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
)

// Decider returns what makes simulated gateways decide about packets that a walk takes through
// them. It may be used by many goroutines.
func Decider(ctx context.Context, clients map[string]*Client) walk.Decider {
	return func(g *network.Gateway, a *engine.Arrival) (d engine.Decision, err error) {
		client := clients[g.Name]
		if client == nil {
			return d, Unasked{g.Name}
		}
		arriving := Arriving{Packet: PacketOf(a.Packet), Part: partName(a.Part), Sender: a.Sender, Size: a.Size}
		if a.In != nil {
			arriving.In = a.In.Name
		}
		decided, err := client.Decide(ctx, []Arriving{arriving})
		if err != nil {
			return d, err
		}
		if len(decided) != 1 {
			return d, fmt.Errorf("%s: its answer is not about one packet", g.Name)
		}
		return decided[0].decision(g)
	}
}

// An Unasked gateway is one on the way that there is no client of.
type Unasked struct{ Gateway string }

func (u Unasked) Error() string { return u.Gateway + " is on the way, and is not running" }

// decision returns a decision from the wire.
func (d *Decided) decision(g *network.Gateway) (made engine.Decision, err error) {
	found := false
	for action, name := range actions {
		if name == d.Action {
			made.Action, found = engine.Action(action), true
		}
	}
	for message, name := range tellings {
		if name == d.Tells {
			made.Tells = engine.Message(message)
		}
	}
	if !found {
		return made, fmt.Errorf("%s: %q: no such action", g.Name, d.Action)
	}
	made.Step, made.Sender, made.Via = engine.StepKind(d.Step), d.Sender, d.Via
	for _, o := range engine.Outcomes() {
		if o.String() == d.Outcome {
			made.Outcome = o
		}
	}
	for r := range g.Rules() {
		if d.Rule != "" && r.Name == d.Rule && (r.List() == "filter") == (made.Step == engine.StepFilter) {
			made.Rule = r
		}
	}
	if made.Packet, err = d.Packet.Header(); err != nil {
		return made, err
	}
	if made.Action == engine.Forwards {
		if made.Out = g.Interface(d.Out); made.Out == nil {
			return made, fmt.Errorf("%s: the file has no interface %s of it, by which a packet leaves: another revision is in force there", g.Name, d.Out)
		}
	}
	return made, nil
}
