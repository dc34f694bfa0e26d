package kernel_test

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"hollowbridge/internal/kernel"
	"hollowbridge/internal/netfile/netfiletest"
)

// What a machine has otherwise than the file is said with what it means: what rules would mean
// something else by is told from what is only there besides.
func TestWhatAMachineHasOtherwiseIsSaid(t *testing.T) {
	g := netfiletest.Parse(t, edge).Gateways[0]
	prefix := netip.MustParsePrefix
	whole := func() *kernel.Host {
		return &kernel.Host{
			Devices: []kernel.Device{
				{Index: 1, Name: "lo", Up: true, Loopback: true, Addresses: []netip.Prefix{prefix("127.0.0.1/8")}},
				{Index: 2, Name: "eth0", Up: true, Addresses: []netip.Prefix{prefix("198.51.100.18/29"), prefix("2001:db8:61::2/64")}},
				{Index: 3, Name: "yard", Up: true, Addresses: []netip.Prefix{prefix("10.61.24.1/28"), prefix("fd00:24::1/64")}},
			},
			Ways: []kernel.Way{
				{To: prefix("0.0.0.0/0"), Via: netip.MustParseAddr("198.51.100.17"), Device: "eth0", Metric: 100},
				{To: prefix("::/0"), Via: netip.MustParseAddr("2001:db8:61::1"), Device: "eth0"},
			},
		}
	}
	for what, c := range map[string]struct {
		change  func(*kernel.Host)
		want    []string
		matters bool
	}{
		"nothing":               {func(*kernel.Host) {}, nil, false},
		"a device is missing":   {func(h *kernel.Host) { h.Devices = h.Devices[:2] }, []string{"rim:yard is yard on the machine, which has no such device; say what it is called there, as device: NAME"}, true},
		"a device is down":      {func(h *kernel.Host) { h.Devices[1].Up = false }, []string{"eth0 is down on the machine, and up in the file"}, true},
		"an address is missing": {func(h *kernel.Host) { h.Devices[2].Addresses = h.Devices[2].Addresses[:1] }, []string{"yard does not have fd00:24::1/64, which rim:yard has in the file"}, true},
		"a prefix is longer":    {func(h *kernel.Host) { h.Devices[2].Addresses[0] = prefix("10.61.24.1/29") }, []string{"yard does not have 10.61.24.1/28", "yard has 10.61.24.1/29 as well"}, true},
		"an address more":       {func(h *kernel.Host) { h.Devices[2].Addresses = append(h.Devices[2].Addresses, prefix("10.9.9.9/24")) }, []string{"yard has 10.9.9.9/24 as well, which is not in the file"}, false},
		"a device more": {func(h *kernel.Host) {
			h.Devices = append(h.Devices, kernel.Device{Name: "tun0", Up: true, Addresses: []netip.Prefix{prefix("10.8.0.1/24")}})
		}, []string{"tun0 is no interface of rim in the file: nothing that comes or goes by it is let through"}, false},
		"a device more that is down": {func(h *kernel.Host) { h.Devices = append(h.Devices, kernel.Device{Name: "tun0"}) }, nil, false},
		"another next hop":           {func(h *kernel.Host) { h.Ways[0].Via = netip.MustParseAddr("198.51.100.19") }, []string{"the machine has no route to default (IPv4) via 198.51.100.17 by eth0"}, true},
		"no route of a family":       {func(h *kernel.Host) { h.Ways = h.Ways[:1] }, []string{"the machine has no route to default (IPv6) via 2001:db8:61::1 by eth0"}, true},
		"a route more":               {func(h *kernel.Host) { h.Ways = append(h.Ways, kernel.Way{To: prefix("10.70.0.0/16"), Device: "yard"}) }, []string{"the machine has a route to 10.70.0.0/16 by yard, which is not in the file"}, false},
	} {
		h := whole()
		c.change(h)
		list := h.Compare(g, kernel.DeviceOf)
		if len(list) != len(c.want) {
			t.Errorf("%s: %+v", what, list)
			continue
		}
		for i, d := range list {
			if !strings.HasPrefix(d.Text, c.want[i]) {
				t.Errorf("%s: %s, want %s", what, d.Text, c.want[i])
			}
		}
		if got := slices.ContainsFunc(list, func(d kernel.Discrepancy) bool { return d.Matters }); got != c.matters {
			t.Errorf("%s: matters %v", what, got)
		}
	}
}

// What no rule is for is logged where the file says so, and only there.
func TestWhatNoRuleIsForIsLoggedWhereTheFileSaysSo(t *testing.T) {
	for text, want := range map[string]int{edge: 2, strings.Replace(edge, ", unmatched: true", "", 1): 0, strings.Replace(edge, "enabled: true", "enabled: false", 1): 0} {
		p, err := compiled(t, text)
		if err != nil {
			t.Fatal(err)
		}
		found := map[string]bool{}
		for _, line := range p.Words() {
			if strings.Contains(line, "log") && strings.Contains(line, "count "+kernel.ItselfMark) {
				found[kernel.ItselfMark] = true
			}
			if strings.Contains(line, "log") && strings.Contains(line, "count "+kernel.UnmatchedMark) {
				found[kernel.UnmatchedMark] = true
			}
		}
		if len(found) != want {
			t.Errorf("%v, want %d in\n%s", found, want, strings.Join(p.Words(), "\n"))
		}
	}
}
