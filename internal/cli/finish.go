package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"hollowbridge/internal/gateway"
)

// A partial apply is one that some of its gateways have, and others may not.
type partialApply struct {
	gateway.Applied
	revision gateway.Revision  // of one that has it
	has      []*gateway.Client // those that run it
	lacks    []*gateway.Client // those that run something else, and never had it
}

// partialApplies finds what is not known to be whole, by what gateways run.
func partialApplies(list []*gateway.Client, statuses []gateway.Status, failures []error) (found []*partialApply) {
	for i, s := range statuses {
		if failures[i] != nil || s.Revision == nil || s.Revision.Applied == nil || s.Revision.Applied.State == gateway.Whole {
			continue
		}
		applied := *s.Revision.Applied
		if slices.ContainsFunc(found, func(p *partialApply) bool { return p.ID == applied.ID }) {
			continue
		}
		p := &partialApply{Applied: applied, revision: *s.Revision}
		for k, g := range list {
			switch r := statuses[k].Revision; {
			case failures[k] != nil || !slices.Contains(applied.Gateways, g.Gateway):
			case r != nil && r.Applied != nil && r.Applied.ID == applied.ID:
				p.has = append(p.has, g)
				if r.Applied.State == gateway.Confirmed {
					p.State = gateway.Confirmed
				}
			case !hadApply(g, applied.ID):
				p.lacks = append(p.lacks, g)
			}
		}
		found = append(found, p)
	}
	return found
}

// hadApply reports whether a gateway had what was applied for good, before something else.
func hadApply(g *gateway.Client, id string) bool {
	list, err := g.Revisions(context.Background())
	return err == nil && slices.ContainsFunc(list, func(r gateway.Revision) bool {
		return r.Applied != nil && r.Applied.ID == id && r.Applied.State != gateway.Leased
	})
}

// sayPartial says of gateways what an apply has left half done, where it is not under way any more.
func (c *call) sayPartial(list []*gateway.Client, statuses []gateway.Status, failures []error) {
	for _, p := range partialApplies(list, statuses, failures) {
		if len(p.lacks) == 0 || p.State == gateway.Leased { // or it goes back by itself
			continue
		}
		fmt.Fprintln(c.Err, strings.Join(wrap(fmt.Sprintf("The apply by %s at %s is not whole: %s %s it, %s %s not. %s",
			p.revision.Author, whenText(p.revision.Time), strings.Join(names(p.has), ", "), verb(p.has, "runs", "run"), strings.Join(names(p.lacks), ", "), verb(p.lacks, "does", "do"), c.remedy()+"."), c.Width), "\n"))
	}
}

func verb(list []*gateway.Client, one, many string) string {
	if len(list) == 1 {
		return one
	}
	return many
}

// finishApply puts what only some gateways have on the others of its apply.
func (c *applyCall) finishApply() int {
	n := c.network()
	if n == nil {
		return wrong
	}
	list, err := c.clients(n)
	if err != nil {
		return c.failed(err)
	}
	statuses, failures := askAll(list, func(g *gateway.Client) (gateway.Status, error) { return g.Status(context.Background()) })
	if status := c.sayFailures(failures); status != yes {
		return status
	}
	partial := partialApplies(list, statuses, failures)
	if len(partial) == 0 {
		fmt.Fprintln(c.Out, "every apply is whole: there is nothing to finish")
		return no
	}
	status := yes
	for _, p := range partial {
		status = max(status, c.finishOne(p))
	}
	return status
}

// finishOne finishes one apply.
func (c *applyCall) finishOne(p *partialApply) int {
	known := slices.Concat(names(p.has), names(p.lacks))
	for _, name := range p.Gateways {
		if !slices.Contains(known, name) && len(p.lacks)+len(p.has) < len(p.Gateways) {
			return c.failed(fmt.Errorf("%s had a part in the apply, and is none of the gateways that are asked", name))
		}
	}
	r, err := p.has[0].Revision(context.Background(), 0)
	if err != nil {
		return c.failed(err)
	}
	if r.Bundle == nil {
		return c.failed(errors.New("what was applied is that nothing is in force; revert does that on each gateway"))
	}
	r.Bundle.File = fmt.Sprintf("%s@%d", p.has[0].Gateway, r.Number)
	n, err := r.Bundle.Network()
	if err != nil {
		return c.failed(err)
	}
	a := &application{call: c.call, options: &c.options.applyOptions, bundle: r.Bundle, network: n, note: r.Note, id: p.ID, members: p.Gateways, having: p.has}
	if len(p.lacks) == 0 {
		if err := a.confirm(); err != nil {
			return c.failed(err)
		}
		fmt.Fprintf(c.Out, "%s  %s\n", c.green("whole"), strings.Join(names(p.has), ", "))
		return yes
	}
	if status := a.look(p.lacks); status != yes {
		return status
	}
	return a.proceed()
}
