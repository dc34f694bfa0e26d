package advice

import (
	"fmt"

	"hollowbridge/core/network"
)

// expiry finds what is over, and what soon will be.
func (x *exam) expiry() {
	for _, h := range x.net.Hosts {
		x.ends(h.Until, h.Owner, h.Place, "host "+h.Name, "the host", nil)
	}
	for _, g := range x.net.Gateways {
		x.ends(g.Until, g.Owner, g.Place, "gateway "+g.Name, "the gateway", nil)
		for r := range g.Rules() {
			if !r.Disabled {
				x.ends(r.Until, r.Owner, r.Place, r.Kind+" "+r.Name, "it", r)
			}
		}
	}
}

func (x *exam) ends(until network.Deadline, owner string, place network.Position, subject, it string, r *network.Rule) {
	whose := ""
	if owner != "" {
		whose = fmt.Sprintf(" (of %s)", owner)
	}
	switch {
	case until.IsOver(x.net.Now) && r != nil:
		x.report(network.Expired, place, subject, fmt.Sprintf("it was for the time until %s, and takes no part any more%s", until, whose), r, x.remove(r))
	case until.IsOver(x.net.Now):
		x.report(network.Expired, place, subject, fmt.Sprintf("%s was for the time until %s, and is still in the file%s", it, until, whose), nil)
	case until != "" && until.Day() <= x.soon:
		x.report(network.ExpiresSoon, place, subject, fmt.Sprintf("%s ends with %s%s", it, until, whose), r)
	}
}
