package engine

import "hollowbridge/core/network"

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
	if ch := replacementOf(before.madeOf.NAT, digests.NAT); ch.isSmall(len(nat)) {
		destinations, sources := c.natTables(ch.new, nat, zones)
		for i := range c.Interfaces {
			c.destinations = append(c.destinations, before.destinations[i].patched(ch, destinations[i], nat))
			c.sources = append(c.sources, before.sources[i].patched(ch, sources[i], nat))
		}
		c.madeOf.NAT = before.madeOf.NAT
	} else {
		c.makeNAT(nat, zones)
	}
	if ch := replacementOf(before.madeOf.Filter, digests.Filter); ch.isSmall(len(filter)) {
		added := newTable(c.filterConditions(ch.new, zones), filter)
		c.filter = before.filter.patched(ch, added, filter)
		c.madeOf.Filter = before.madeOf.Filter
	} else {
		c.makeFilter(filter, zones)
	}
	c.reviseClaims(before, replacementOf(before.digests.NAT, digests.NAT))
}

func (c *Gateway) makeNAT(rules []*network.Rule, zones []string) {
	c.destinations, c.sources = c.natTables(section{0, len(c.NAT)}, rules, zones)
	if c.digests != nil {
		c.madeOf.NAT = c.digests.NAT
	}
}

func (c *Gateway) makeFilter(rules []*network.Rule, zones []string) {
	c.filter = newTable(c.filterConditions(section{0, len(c.Filter)}, zones), rules)
	if c.digests != nil {
		c.madeOf.Filter = c.digests.Filter
	}
}

// natTables returns the tables of a section of the NAT rules: one for each interface that a
// packet arrives on, and one for each that it leaves by.
func (c *Gateway) natTables(s section, rules []*network.Rule, zones []string) (destinations []natTable[redirect], sources []natTable[pools]) {
	destination := make([][]condition, len(c.Interfaces))
	source := make([][]condition, len(c.Interfaces))
	for index := s.first; index < s.end; index++ {
		r := c.NAT[index]
		for _, i := range c.Interfaces {
			if condition, ok := destinationCondition(r, i, zones); ok {
				condition.index = index
				destination[i.Index] = append(destination[i.Index], condition)
			}
			if condition, ok := sourceCondition(r, i, zones); ok {
				condition.index = index
				source[i.Index] = append(source[i.Index], condition)
			}
		}
	}
	for i := range c.Interfaces {
		if c.Handling.SpecificFirst {
			c.sortSpecificFirst(destination[i])
			c.sortSpecificFirst(source[i])
		}
		d, s := natTable[redirect]{table: newTable(destination[i], rules)}, natTable[pools]{table: newTable(source[i], rules)}
		for k := range destination[i] {
			d.does = append(d.does, newRedirect(destination[i][k].index, c.NAT[destination[i][k].index]))
		}
		for k := range source[i] {
			s.does = append(s.does, c.poolsOf(c.NAT[source[i][k].index], c.Interfaces[i]))
		}
		destinations, sources = append(destinations, d), append(sources, s)
	}
	return destinations, sources
}

// filterConditions returns what packets must meet for a section of the filter rules.
func (c *Gateway) filterConditions(s section, zones []string) []condition {
	var conditions []condition
	for index := s.first; index < s.end; index++ {
		conditions = append(conditions, filterCondition(c.Filter[index], index, zones))
	}
	return conditions
}
