package cli

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"hollowbridge/internal/kernel"
	"hollowbridge/internal/netfile"
)

// fileHere returns a network file of this machine's own interfaces, addresses and routes.
func (c *call) fileHere(name string) (string, error) {
	host, err := kernel.ReadHost(0)
	if err != nil {
		return "", err
	}
	text := fileOf(host, name, c.gateway)
	if text == "" {
		return "", fmt.Errorf("no interface of this machine has an address that is not its own alone, so it is no gateway yet")
	}
	return text, nil
}

// fileOf returns a network file of a machine; empty where it has no interface with an address.
func fileOf(host *kernel.Host, name, gateway string) string {
	carries := map[string]bool{}
	for _, d := range host.Devices {
		carries[d.Parent] = true
	}
	var b strings.Builder
	fmt.Fprintf(&b, "# As this machine has it. Forwards and filter rules: hollowbridge add. What gets in: hollowbridge trace.\nnetwork: %s\n\ngateways:\n  %s:\n    interfaces:\n", name, gateway)
	known := map[string]string{} // the names of interfaces, by device
	for _, d := range host.Devices {
		if d.Loopback || len(d.Addresses) == 0 && !carries[d.Name] {
			continue
		}
		own := nameOf(d.Name, known)
		known[d.Name] = own
	}
	if len(known) == 0 {
		return ""
	}
	for _, d := range host.Devices {
		own, ok := known[d.Name]
		if !ok {
			continue
		}
		var keys []string
		if len(d.Addresses) > 0 {
			var addresses []string
			for _, p := range d.Addresses {
				addresses = append(addresses, p.String())
			}
			keys = append(keys, "address: "+netfile.ListText(addresses))
		}
		zone := own
		if slices.ContainsFunc(host.Ways, func(w kernel.Way) bool { return w.To.Bits() == 0 && w.Device == d.Name && !w.Blackhole }) {
			zone = "outside"
		}
		keys = append(keys, "zone: "+zone)
		if own != d.Name {
			keys = append(keys, "device: "+d.Name)
		}
		if d.VLAN > 0 && known[d.Parent] != "" {
			keys = append(keys, fmt.Sprintf("vlan: {on: %s, id: %d}", known[d.Parent], d.VLAN))
		}
		if !d.Up {
			keys = append(keys, "state: down")
		}
		fmt.Fprintf(&b, "      %s: {%s}\n", own, strings.Join(keys, ", "))
	}
	writeWays(&b, host, known)
	return b.String()
}

// nameOf returns a name for an interface, made of its device's, that no other one has.
func nameOf(device string, known map[string]string) string {
	name := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '_' {
			return r
		}
		return '-'
	}, device)
	if name == "" || name[0] >= '0' && name[0] <= '9' || name[0] == '-' {
		name = "if" + name
	}
	taken := func(name string) bool {
		for _, other := range known {
			if other == name {
				return true
			}
		}
		return false
	}
	for n := 2; taken(name); n++ {
		name = fmt.Sprintf("%s-%d", strings.TrimSuffix(name, fmt.Sprintf("-%d", n-1)), n)
	}
	return name
}

// writeWays writes routes; of several to one prefix, those that are taken later get a distance.
func writeWays(b *strings.Builder, host *kernel.Host, known map[string]string) {
	ways := slices.DeleteFunc(slices.Clone(host.Ways), func(w kernel.Way) bool { return !w.Blackhole && known[w.Device] == "" })
	slices.SortStableFunc(ways, func(a, b kernel.Way) int { return a.Metric - b.Metric })
	if len(ways) == 0 {
		return
	}
	fmt.Fprintf(b, "    routes:\n")
	before := map[netip.Prefix]int{}
	for _, w := range ways {
		to, via := w.To.String(), "via: "+known[w.Device]
		switch {
		case w.Blackhole:
			via = "blackhole: true"
		case w.Via.Is6() && w.Via.IsLinkLocalUnicast():
			via = fmt.Sprintf("via: '%s%%%s'", w.Via, known[w.Device])
		case w.Via.IsValid():
			via = "via: " + netfile.ListText([]string{w.Via.String()})
		}
		if w.To.Bits() == 0 && !w.Blackhole {
			to = "default"
		}
		distance := ""
		if n := before[w.To]; n > 0 {
			distance = fmt.Sprintf(", distance: %d", min(10*n, 255))
		}
		before[w.To]++
		fmt.Fprintf(b, "      - {to: %s, %s%s}\n", netfile.ListText([]string{to}), via, distance)
	}
}
