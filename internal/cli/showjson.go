package cli

import "hollowbridge/core/network"

type showJSON struct {
	Network  string        `json:"network"`
	Gateways []gatewayJSON `json:"gateways"`
	Hosts    []hostJSON    `json:"hosts"`
	Groups   []groupJSON   `json:"groups"`
	Services []serviceJSON `json:"services"`
}

type gatewayJSON struct {
	Name       string          `json:"name"`
	Interfaces []interfaceJSON `json:"interfaces"`
	NAT        []ruleJSON      `json:"nat"`
	Filter     []ruleJSON      `json:"filter"`
	Mappings   *mappingsJSON   `json:"mappings"` // null is off
}

type mappingsJSON struct {
	Protocols []string          `json:"protocols"`
	On        []string          `json:"on"`
	External  string            `json:"external"`
	AtMost    int               `json:"at-most"`
	Rules     []mappingRuleJSON `json:"rules"`
}

type mappingRuleJSON struct {
	Line int    `json:"line"`
	Verb string `json:"verb"`
	Who  string `json:"who"`
	Text string `json:"text"`
}

func mappingsResult(m *network.Mappings) *mappingsJSON {
	if m == nil {
		return nil
	}
	result := &mappingsJSON{m.Protocols, network.InterfaceNames(m.On), m.External.Name, m.AtMost, []mappingRuleJSON{}}
	for i := range m.Rules {
		r := &m.Rules[i]
		result.Rules = append(result.Rules, mappingRuleJSON{r.Place.Line, string(r.Verb), r.From.Text, mappingRuleText(r)})
	}
	return result
}

type interfaceJSON struct {
	Name      string   `json:"name"`
	Zone      string   `json:"zone"`
	Addresses []string `json:"addresses"`
	Up        bool     `json:"up"`
	Internet  bool     `json:"internet"`
}

type ruleJSON struct {
	Name     string `json:"name"`
	Kind     string `json:"kind"`
	Line     int    `json:"line"`
	Text     string `json:"text"`
	Disabled bool   `json:"disabled"`
	Log      bool   `json:"log"`
	Note     string `json:"note"`
	Owner    string `json:"owner"`
	Until    string `json:"until"` // its last day, or empty
	Over     bool   `json:"over"`  // that has passed
}

type hostJSON struct {
	Name      string   `json:"name"`
	Addresses []string `json:"addresses"`
	Segment   string   `json:"segment"`
	Serves    []string `json:"serves"`
}

type groupJSON struct {
	Name   string   `json:"name"`
	Ranges []string `json:"ranges"`
}

type serviceJSON struct {
	Name     string   `json:"name"`
	Services []string `json:"services"`
}

// showResult is the whole network, whatever part was asked for.
func showResult(n *network.Network) showJSON {
	result := showJSON{Network: n.Name, Gateways: []gatewayJSON{}, Hosts: []hostJSON{}, Groups: []groupJSON{}, Services: []serviceJSON{}}
	for _, g := range n.Gateways {
		gateway := gatewayJSON{Name: g.Name, Interfaces: []interfaceJSON{}, NAT: []ruleJSON{}, Filter: []ruleJSON{}}
		for _, i := range g.Interfaces {
			entry := interfaceJSON{Name: i.Name, Zone: i.Zone, Addresses: []string{}, Up: i.IsUp(), Internet: i.IsUplink()}
			for _, p := range i.Addresses {
				entry.Addresses = append(entry.Addresses, p.String())
			}
			gateway.Interfaces = append(gateway.Interfaces, entry)
		}
		for _, r := range g.NAT {
			gateway.NAT = append(gateway.NAT, ruleEntry(&r.Rule, natText(r)))
		}
		for _, r := range g.Filter {
			gateway.Filter = append(gateway.Filter, ruleEntry(&r.Rule, filterText(r)))
		}
		gateway.Mappings = mappingsResult(g.Mappings)
		result.Gateways = append(result.Gateways, gateway)
	}
	for _, h := range n.Hosts {
		entry := hostJSON{Name: h.Name, Addresses: []string{}, Serves: []string{}}
		for _, a := range h.Addresses {
			entry.Addresses = append(entry.Addresses, a.String())
		}
		entry.Segment = hostSegment(h)
		for _, s := range h.Serves {
			entry.Serves = append(entry.Serves, s.Text)
		}
		result.Hosts = append(result.Hosts, entry)
	}
	for _, g := range n.Groups {
		entry := groupJSON{Name: g.Name, Ranges: []string{}}
		for _, r := range g.Members.Ranges() {
			entry.Ranges = append(entry.Ranges, r.String())
		}
		result.Groups = append(result.Groups, entry)
	}
	for _, s := range n.Services {
		entry := serviceJSON{Name: s.Name, Services: []string{}}
		for _, one := range s.Services {
			entry.Services = append(entry.Services, one.String())
		}
		result.Services = append(result.Services, entry)
	}
	return result
}

func ruleEntry(r *network.Rule, text string) ruleJSON {
	return ruleJSON{r.Name, r.Kind, r.Place.Line, text, r.Disabled, r.Log, r.Note, r.Owner, string(r.Until), r.Expired}
}
