package engine

import (
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// compileRules makes the tables of the gateway's lists of rules. Those of the revision before
// serve on, patched, where little has changed since they were made.
func (c *Gateway) compileRules(before *Gateway, digests *network.GatewayDigests, zones []string) {
	nat, filter := make([]*network.Rule, len(c.NAT)), make([]*network.Rule, len(c.Filter))
	for i, r := range c.NAT {
		nat[i] = &r.Rule
	}
	for i, r := range c.Filter {
		filter[i] = &r.Rule
	}
	c.digests = digests
	if before == nil || digests == nil || c.Handling.SpecificFirst {
		c.makeNAT(nat, zones)
		c.makeFilter(filter, zones)
		c.findClaims()
		return
	}
	if ch := table.ReplacementOf(before.madeOf.NAT, digests.NAT); ch.IsSmall(len(nat)) {
		destinations, sources := c.natTables(ch.New, nat, zones)
		for i := range c.Interfaces {
			c.destinations = append(c.destinations, before.destinations[i].patched(ch, destinations[i], nat))
			c.sources = append(c.sources, before.sources[i].patched(ch, sources[i], nat))
		}
		c.madeOf.NAT = before.madeOf.NAT
	} else {
		c.makeNAT(nat, zones)
	}
	if ch := table.ReplacementOf(before.madeOf.Filter, digests.Filter); ch.IsSmall(len(filter)) {
		added := table.New(c.filterConditions(ch.New, zones), filter)
		c.filter = before.filter.Patched(ch, added, filter)
		c.madeOf.Filter = before.madeOf.Filter
	} else {
		c.makeFilter(filter, zones)
	}
	c.reviseClaims(before, table.ReplacementOf(before.digests.NAT, digests.NAT))
}

func (c *Gateway) makeNAT(rules []*network.Rule, zones []string) {
	c.destinations, c.sources = c.natTables(table.Span{End: len(c.NAT)}, rules, zones)
	if c.digests != nil {
		c.madeOf.NAT = c.digests.NAT
	}
}

func (c *Gateway) makeFilter(rules []*network.Rule, zones []string) {
	c.filter = table.New(c.filterConditions(table.Span{End: len(c.Filter)}, zones), rules)
	if c.digests != nil {
		c.madeOf.Filter = c.digests.Filter
	}
}

// natTables returns the tables of a section of the NAT rules: one for each interface that a
// packet arrives on, and one for each that it leaves by.
func (c *Gateway) natTables(s table.Span, rules []*network.Rule, zones []string) (destinations []natTable[redirect], sources []natTable[pools]) {
	destination := make([][]table.Condition, len(c.Interfaces))
	source := make([][]table.Condition, len(c.Interfaces))
	for index := s.First; index < s.End; index++ {
		r := c.NAT[index]
		for _, i := range c.Interfaces {
			if condition, ok := destinationCondition(r, i, zones); ok {
				condition.Index = index
				destination[i.Index] = append(destination[i.Index], condition)
			}
			if condition, ok := sourceCondition(r, i, zones); ok {
				condition.Index = index
				source[i.Index] = append(source[i.Index], condition)
			}
		}
	}
	for i := range c.Interfaces {
		if c.Handling.SpecificFirst {
			c.sortSpecificFirst(destination[i])
			c.sortSpecificFirst(source[i])
		}
		d, s := natTable[redirect]{Table: table.New(destination[i], rules)}, natTable[pools]{Table: table.New(source[i], rules)}
		for k := range destination[i] {
			d.does = append(d.does, newRedirect(destination[i][k].Index, c.NAT[destination[i][k].Index]))
		}
		for k := range source[i] {
			s.does = append(s.does, c.poolsOf(c.NAT[source[i][k].Index], c.Interfaces[i]))
		}
		destinations, sources = append(destinations, d), append(sources, s)
	}
	return destinations, sources
}

// filterConditions returns what packets must meet for a section of the filter rules.
func (c *Gateway) filterConditions(s table.Span, zones []string) []table.Condition {
	var conditions []table.Condition
	for index := s.First; index < s.End; index++ {
		conditions = append(conditions, filterCondition(c.Filter[index], index, zones))
	}
	return conditions
}
