package network_test

import (
	"strings"
	"testing"
	"time"

	"hollowbridge/core/network"
	"hollowbridge/internal/netfile/netfiletest"
)

// Dates are days of the calendar, and compare as days do.
func TestDates(t *testing.T) {
	for text, right := range map[string]bool{
		"2027-01-31": true, "2028-02-29": true, "2027-02-29": false, "2027-13-01": false, "2027-1-31": false, "31.1.2027": false, "tomorrow": false, "": false,
		"2027-01-31T00:00:00Z": true, "2027-01-31T10:00:00Z": false, "2027-01-31 ": false,
	} {
		d, err := network.ParseDate(text)
		if (err == nil) != right {
			t.Errorf("%q: %v", text, err)
		}
		if right && len(d) != len("2027-01-31") || !right && !strings.Contains(err.Error(), "YEAR-MONTH-DAY") {
			t.Errorf("%q is read as %q, %v", text, d, err)
		}
	}
	day := time.Date(2027, 12, 30, 23, 59, 0, 0, time.UTC)
	for n := range 800 { // by the calendar of the standard library
		d := network.DateOf(day)
		if later := d.After(n); later != network.DateOf(day.AddDate(0, 0, n)) {
			t.Fatalf("%d days after %s is %s", n, d, later)
		}
		if d.IsOver(d) || d.IsOver(d.After(-1)) || !d.IsOver(d.After(1)) {
			t.Fatalf("%s is over on the wrong day", d)
		}
	}
	if network.Date("").IsOver("9999-12-31") {
		t.Error("what has no last day is over")
	}
}

// The next rule to end is the first of those that are not over, whatever their lists.
func TestTheNextExpiryIsTheFirst(t *testing.T) {
	n := netfiletest.Parse(t, `
network: edge
gateways:
  rim:
    interfaces:
      fibre: {address: 198.51.100.18/29, zone: outside}
    nat: [{source-nat: a, on: fibre, as: interface, until: 2030-05-01}]
    filter:
      - {allow: b, until: 2030-04-30}
      - {allow: c, until: 2030-06-01, disabled: true}
      - {allow: d}
`)
	for _, c := range []struct{ today, next network.Date }{{"2030-04-30", "2030-04-30"}, {"2030-05-01", "2030-05-01"}, {"2030-05-02", "2030-06-01"}, {"2030-06-02", ""}} {
		if n.On(c.today); n.NextExpiry() != c.next {
			t.Errorf("on %s the next to end is that of %s, not %s", c.today, n.NextExpiry(), c.next)
		}
	}
	n.On("2030-05-01")
	var off []string
	for r := range n.Gateways[0].Rules() {
		if r.Off() {
			off = append(off, r.Name)
		}
	}
	if strings.Join(off, " ") != "b c" {
		t.Errorf("off are %v", off)
	}
}
