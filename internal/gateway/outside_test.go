package gateway_test

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"hollowbridge/core/network"
	"hollowbridge/core/walk"
	"hollowbridge/internal/gateway"
	"hollowbridge/internal/kernel"
	"hollowbridge/internal/lab"
	"hollowbridge/internal/netfile/netfiletest"
)

// published is house with outside addresses that no interface has.
const published = `network: house
hosts:
  archive: {address: [10.61.24.5, '2001:db8:24::5'], serves: [https, ssh]}
gateways:
  rim:
    interfaces:
      fibre: {address: [198.51.100.18/29, '2001:db8:61::2/64'], zone: outside}
      yard: {address: [10.61.24.1/28, '2001:db8:24::1/64'], zone: yard}
    routes: [{to: default, via: 198.51.100.17}, {to: default, via: '2001:db8:61::1'}]
    nat:
      - {port-forward: web, on: fibre, at: 198.51.100.20, service: https, to: archive}
      - {port-forward: web6, on: fibre, at: '2001:db8:61::20', service: https, to: archive}
      - {port-forward: by-day, on: fibre, at: 198.51.100.22, service: ssh, to: archive, until: 2027-01-31}
      - {source-nat: out, on: fibre, from: 10.61.24.0/28, as: 198.51.100.21}
    filter:
      - {allow: web, from: outside, to: archive}
      - {allow: yard-out, from: yard}
`

// A rim is a running gateway of the lab of a network.
type rim struct {
	*bench
	built     *lab.Lab
	addresses *kernel.Addresses
	kernel    *gateway.Kernel
	expected  func(error) bool // of what goes wrong; nil is nothing
}

func startRim(t *testing.T, text string) *rim {
	t.Helper()
	if testing.Short() || noKernel != nil {
		t.Skip("it waits for a running gateway on the kernel", noKernel)
	}
	n := netfiletest.Parse(t, text)
	built, err := lab.Build(walk.Compile(n, nil), 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(built.Close)
	built.Yield(n.Gateway("rim"))
	r := &rim{bench: &bench{T: t, folder: t.TempDir()}, built: built}
	r.within = func(do func() error) error { return built.Within("rim", do) }
	complain := func(err error) {
		if r.expected == nil || !r.expected(err) {
			t.Errorf("trouble: %v", err)
		}
	}
	r.begin = func(b *bench) {
		b.start(func(recorder gateway.Recorder) (gateway.Backend, error) {
			var err error
			r.kernel, err = gateway.NewKernel(recorder, gateway.KernelOptions{Namespace: built.Space("rim"), Device: lab.DeviceOf, Lab: true, Trouble: complain})
			return r.kernel, err
		})
	}
	if r.addresses, err = kernel.OpenAddresses(built.Space("rim")); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.addresses.Close() })
	r.begin(r.bench)
	return r
}

// held returns what rim holds on its uplink.
func (r *rim) held() (list []string) {
	r.Helper()
	_, all, err := r.addresses.Compare(nil)
	if err != nil {
		r.Fatal(err)
	}
	for _, h := range all {
		list = append(list, h.Address.String())
	}
	slices.Sort(list)
	return list
}

func (r *rim) holds(when, want string) {
	r.Helper()
	r.soon(fmt.Sprintf("%s it holds %s, not %v", when, want, r.held()), func() bool { return strings.Join(r.held(), " ") == want })
}

// Outside addresses that no interface has are taken by apply and given back by what takes the rules away, and what an administrator has
// added is left alone.
func TestOutsideAddressesAreHeld(t *testing.T) {
	t.Parallel()
	r := startRim(t, published)
	defer func() { r.Stop(true) }()
	all := "198.51.100.20 198.51.100.21 198.51.100.22 2001:db8:61::20"
	fibre := lab.DeviceOf(&network.Interface{})
	own := []kernel.Held{{Device: fibre, Address: netip.MustParseAddr("198.51.100.22")}}
	r.apply(house, nil)
	r.holds("without such rules", "")
	made, _ := r.apply(published, nil)
	if !slices.ContainsFunc(made.Notes, func(n string) bool { return strings.Contains(n, "answers for 198.51.100.20") }) {
		t.Errorf("nobody says what it takes: %q", made.Notes)
	}
	r.holds("applied", all)
	if s := r.Status().Outside; s == nil || s.Held != 4 || s.Trouble != "" {
		t.Errorf("%+v", s)
	}
	for _, to := range []string{"198.51.100.20", "2001:db8:61::20"} { // they are answered for on the wire
		e := walk.Compile(netfiletest.Parse(t, published), nil)
		from := "203.0.113.9"
		if strings.Contains(to, ":") {
			from = "2001:db8:ffff::9"
		}
		if sent := r.built.Send(connection(t, e, from, to, "https", 40000), 1, time.Second); sent.Err != nil || sent.Answer == lab.Silence {
			t.Errorf("%s: %+v", to, sent)
		}
	}
	r.Stop(false)
	r.holds("while it is stopped", all)
	if err := r.addresses.Give(own); err != nil {
		t.Fatal(err)
	}
	r.begin(r.bench)
	r.holds("started again", all)
	if err := r.addresses.Give(own); err != nil {
		t.Fatal(err)
	}
	r.holds("when somebody takes one away", all)
	made, _ = r.apply(strings.Replace(published, "2027-01-31", "2026-01-31", 1), func(c *gateway.Commit) { c.For = 1 })
	if !slices.ContainsFunc(made.Notes, func(n string) bool { return strings.Contains(n, "does not answer for 198.51.100.22 any more") }) {
		t.Errorf("nobody says what it gives back: %q", made.Notes)
	}
	r.holds("without a rule that is over", "198.51.100.20 198.51.100.21 2001:db8:61::20")
	r.holds("when the trial is over", all)
	r.soon("that is written down", func() bool { return r.Status().Pending == nil })
	if err := r.built.Within("rim", func() error { return addAddress(fibre, "198.51.100.19/29") }); err != nil {
		t.Fatal(err)
	}
	r.apply(strings.Replace(published, "198.51.100.21", "198.51.100.19", 1), nil)
	r.holds("with an address of the administrator's", "198.51.100.20 198.51.100.22 2001:db8:61::20")
	r.apply(house, nil)
	r.holds("without the rules", "")
	if missing, _, err := r.addresses.Compare([]kernel.Held{{Device: fibre, Address: netip.MustParseAddr("198.51.100.19")}}); err != nil || len(missing) > 0 {
		t.Errorf("the administrator's own: %v, %v", missing, err)
	}
	r.apply(published, nil)
	r.Stop(true)
	r.holds("stopped with -clear", "")
	r.begin(r.bench)
}

// What another machine has is not taken: apply refuses and names it, and what comes without anybody asking for it is said, and taken once
// it is free.
func TestOutsideAddressesOfOthersAreLeft(t *testing.T) {
	t.Parallel()
	r := startRim(t, strings.Replace(house, "gateways:", "gateways:\n  keep: {interfaces: {fibre: {address: [198.51.100.19/29, '2001:db8:61::19/64'], zone: outside}}}", 1))
	defer func() { r.Stop(true) }()
	squat := func(change func(device, prefix string) error, prefixes ...string) {
		t.Helper()
		for _, p := range prefixes {
			if err := r.built.Within("keep", func() error { return change(lab.DeviceOf(&network.Interface{}), p) }); err != nil {
				t.Fatal(err)
			}
		}
	}
	squat(addAddress, "198.51.100.20/32", "2001:db8:61::20/128")
	r.apply(house, nil)
	_, err := r.Prepare(gateway.Proposal{Bundle: bundle(published), Base: 1})
	for _, want := range []string{"has 198.51.100.20 on the segment of ", "the outside address of web:", "has 2001:db8:61::20 on the segment of ", "the outside address of web6:"} {
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, without %q", err, want)
		}
	}
	r.holds("refused", "")
	squat(deleteAddress, "198.51.100.20/32", "2001:db8:61::20/128")
	r.apply(published, nil)
	r.Stop(false)
	if err := r.addresses.Give([]kernel.Held{{Device: lab.DeviceOf(&network.Interface{}), Address: netip.MustParseAddr("198.51.100.20")}}); err != nil {
		t.Fatal(err)
	}
	squat(addAddress, "198.51.100.20/32")
	r.begin(r.bench)
	r.soon("it is said who has it", func() bool {
		s := r.Status().Outside
		return s.Held == 3 && strings.Contains(s.Trouble, "has 198.51.100.20 on the segment of")
	})
	r.holds("the others are not touched by that", "198.51.100.21 198.51.100.22 2001:db8:61::20")
	squat(deleteAddress, "198.51.100.20/32")
	made, _ := r.apply(published+"# once more\n", nil)
	if !slices.ContainsFunc(made.Notes, func(n string) bool { return strings.Contains(n, "answers for 198.51.100.20 from now on") }) {
		t.Errorf("%q", made.Notes)
	}
	r.holds("free again", "198.51.100.20 198.51.100.21 198.51.100.22 2001:db8:61::20")
}

func changeAddress(change func(netlink.Link, *netlink.Addr) error) func(device, prefix string) error {
	return func(device, prefix string) error {
		a, err := netlink.ParseAddr(prefix)
		if err != nil {
			return err
		}
		a.Flags = unix.IFA_F_NODAD
		link, err := netlink.LinkByName(device)
		if err != nil {
			return err
		}
		return change(link, a)
	}
}

var addAddress, deleteAddress = changeAddress(netlink.AddrAdd), changeAddress(netlink.AddrDel)

// How many a device holds is bounded, and they are held at the hours of their rules.
func TestWhichOutsideAddressesAreHeld(t *testing.T) {
	for _, c := range []struct{ rule, at, want string }{
		{"{port-forward: w, on: fibre, at: 198.51.100.20, service: ssh, to: archive}", "", "198.51.100.20"},
		{"{port-forward: w, on: fibre, at: 198.51.100.20, service: ssh, to: archive, when: {hours: 08:00-18:00}}", "07:59", ""},
		{"{port-forward: w, on: fibre, at: 198.51.100.20, service: ssh, to: archive, when: {hours: 08:00-18:00}}", "08:00", "198.51.100.20"},
		{"{port-forward: w, on: fibre, at: 198.51.100.20, service: ssh, to: archive, disabled: true}", "", ""},
		{"{port-forward: w, on: fibre, service: ssh, to: archive}", "", ""},
		{"{port-forward: w, on: fibre, at: [198.51.100.18, 198.51.100.17, 198.51.100.21], service: ssh, to: archive}", "", "198.51.100.17 198.51.100.21"},
		{"{port-forward: w, on: fibre, at: 192.0.2.200, service: ssh, to: archive}", "", ""},
		{"{one-to-one: w, on: fibre, outside: '2001:db8:61:0:1::/116', inside: '2001:db8:24::/116'}", "", "4096"},
		{"{one-to-one: w, on: fibre, outside: '2001:db8:61:0:1::/115', inside: '2001:db8:24::/115'}", "", "unable fibre 4096 upstream"},
		{"{one-to-one: w, on: fibre, outside: '2001:db8:77::/64', inside: '2001:db8:24::/64'}", "", ""},
	} {
		text := published[:strings.Index(published, "    nat:")] + "    nat: [" + c.rule + "]\n"
		n := netfiletest.Parse(t, text)
		e := walk.Compile(n, nil)
		at := time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)
		if c.at != "" {
			clock, err := time.Parse("15:04", c.at)
			if err != nil {
				t.Fatal(err)
			}
			at = at.Truncate(24 * time.Hour).Add(time.Duration(clock.Hour())*time.Hour + time.Duration(clock.Minute())*time.Minute)
		}
		list, unable := kernel.Outside(e, e.Gateway(n.Gateways[0]), n.MomentAt(at), lab.DeviceOf)
		var got []string
		for _, h := range list {
			got = append(got, h.Address.String())
		}
		if len(got) > 10 {
			got = []string{fmt.Sprint(len(got))}
		}
		if words, isUnable := strings.CutPrefix(c.want, "unable "); isUnable {
			for _, word := range strings.Fields(words) {
				if len(unable) != 1 || !strings.Contains(unable[0], word) {
					t.Errorf("%s: %q, without %q", c.rule, unable, word)
				}
			}
		} else if strings.Join(got, " ") != c.want || len(unable) > 0 {
			t.Errorf("%s at %s: %v, %q, want %s", c.rule, c.at, got, unable, c.want)
		}
	}
}
