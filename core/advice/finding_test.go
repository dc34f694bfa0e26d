package advice_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"hollowbridge/core/advice"
	"hollowbridge/core/engine"
	"hollowbridge/core/network"
	"hollowbridge/core/reach"
	"hollowbridge/internal/netfile"
)

// calm is a network without findings; each test changes one thing.
const calm = `network: calm
groups:
  fronts: [203.0.113.0/28]
  lapsed: [10.61.33.7]
hosts:
  archive: {address: 10.61.24.5, serves: [https]}
  notice: {address: 10.61.24.6, serves: [http, https]}
gateways:
  rim:
    interfaces:
      fibre: {address: 198.51.100.18/29, zone: outside}
      yard: {address: 10.61.24.1/28, zone: yard}
      visitors: {address: 10.61.32.1/22, zone: visitors}
    routes:
      - {to: default, via: 198.51.100.17}
    serves: {ssh: [yard]}
    nat:
      - {port-forward: web, on: fibre, service: https, to: archive}
      - {one-to-one: both, on: fibre, outside: 198.51.100.20, inside: notice}
      - {destination-nat: sorry, on: visitors, from: lapsed, service: http, to: notice}
      - {source-nat: out, on: fibre, as: interface}
    filter:
      - {allow: web, from: fronts, to: archive, service: https}
      - {allow: both, from: outside, to: notice, service: https}
      - {allow: sorry, from: visitors, to: notice, service: http}
      - {allow: surf, from: visitors, to: outside, service: [http, https], log: true}
      - {allow: yard-out, from: yard, to: outside, service: [http, https, dns]}
    logging: {enabled: true}
    limits: {port-forwards: 2}
    mappings:
      protocols: [pcp]
      on: yard
      external: fibre
      rules:
        - {allow: yard, ports: 20000-20999}
`

func examine(t *testing.T, text string) []advice.Finding {
	t.Helper()
	n, err := netfile.Parse("f.yaml", []byte(text))
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	found, err := advice.Examine(engine.Compile(n, nil), reach.MostPieces)
	if err != nil {
		t.Fatal(err)
	}
	return found
}

func listing(found []advice.Finding) string {
	var lines []string
	for _, f := range found {
		lines = append(lines, fmt.Sprintf("%s line %d, %s: %s", f.Kind, f.Place.Line, f.Subject, f.Text))
	}
	return strings.Join(lines, "\n")
}

func TestTheCalmNetworkHasNoFindings(t *testing.T) {
	if found := examine(t, calm); len(found) > 0 {
		t.Errorf("\n%s", listing(found))
	}
}

// Each finding has a network that shows it and a near twin that does not.
func TestEachFindingHasANetworkThatShowsItAndATwinThatDoesNot(t *testing.T) {
	seen := map[string]bool{}
	for _, c := range []struct{ finding, place, shows, twin, text string }{
		{"hidden-rule", "      - {allow: both,", "      - {drop: none, from: outside, to: archive, service: https}\n      - {allow: late, from: fronts, to: archive, service: https}\n      - {allow: both,", "      - {drop: none, from: 192.0.2.0/24, to: archive, service: https}\n      - {allow: both,", "web"},
		{"hidden-rule", "      - {one-to-one: both,", "      - {port-forward: again, on: fibre, service: https, to: archive, from: fronts}\n      - {one-to-one: both,", "      - {port-forward: again, on: fibre, service: tcp/8443, to: \"archive:443\", from: fronts}\n      - {one-to-one: both,", "web"},
		{"same-port", "      - {one-to-one: both,", "      - {port-forward: again, on: fibre, service: https, to: notice}\n      - {one-to-one: both,", "      - {port-forward: again, on: fibre, service: tcp/8443, to: \"notice:443\"}\n      - {one-to-one: both,", "web (line 18) has tcp/443 already"},
		{"forward-not-permitted", "{allow: web, from: fronts, to: archive, service: https}", "{allow: web, from: visitors, to: archive, service: https}", "{allow: web, from: 203.0.113.0/24, to: archive, service: https}", "it needs one from outside to archive, https"},
		{"forward-not-permitted", "{allow: web, from: fronts, to: archive, service: https}", "{allow: web, from: fronts, to: \"rim:fibre\", service: https}", "{allow: web, from: fronts, to: any, service: https}", "no filter rule lets it through"},
		{"wrong-side", "{allow: web, from: fronts, to: archive, service: https}", "{allow: web, from: outside, to: \"rim:fibre\", service: https}", "{allow: web, from: outside, to: archive, service: https}", "web needs it"},
		{"half-hidden", "      - {allow: surf,", "      - {drop: odd, from: lapsed, service: [https, ssh]}\n      - {allow: surf,", "      - {drop: odd, from: lapsed, to: outside, service: https}\n      - {allow: surf,", "odd (line"},
		{"no-hairpin", "      - {one-to-one: both,", "      - {port-forward: inner, on: fibre, service: tcp/8443, to: \"archive:443\", hairpin: true}\n      - {one-to-one: both,", "      - {port-forward: inner, on: fibre, service: tcp/8443, to: \"archive:443\"}\n      - {one-to-one: both,", "others of rim have hairpin"},
		{"unused-rule", "      - {allow: surf,", "      - {allow: lost, from: outside, to: 10.61.99.0/24, service: https}\n      - {allow: surf,", "      - {allow: lost, from: visitors, to: archive, service: https}\n      - {allow: surf,", "no connection ever comes to it"},
		{"no-such-host", "service: https, to: archive}\n      - {one", "service: https, to: 10.61.24.9}\n      - {one", "service: https, to: 10.61.24.6}\n      - {one", "no host has 10.61.24.9"},
		{"dynamic-target", "archive: {address: 10.61.24.5,", "archive: {address: 10.61.24.5, assigned: dynamic,", "archive: {address: 10.61.24.5, assigned: reserved,", "reserve it"},
		{"not-served", "service: https, to: archive}\n      - {one", "service: https, to: \"archive:444\"}\n      - {one", "service: tcp/444, to: \"archive:443\"}\n      - {one", "archive does not listen on tcp/444"},
		{"host-refuses", "serves: [https]}", "serves: [https], firewall: [{allow: https, from: yard}]}", "serves: [https], firewall: [{allow: https, from: fronts}]}", "the firewall of archive itself"},
		{"upstream-blocks", "zone: outside}", "zone: outside, upstream: {blocks: [tcp/443]}}", "zone: outside, upstream: {blocks: [tcp/25]}}", "the upstream of fibre blocks tcp/443"},
		{"upstream-blocks", "zone: outside}", "zone: outside, upstream: {carrier-nat: true}}", "zone: outside, upstream: {carrier-nat: false}}", "behind a carrier's NAT"},
		{"not-sent-here", "outside: 198.51.100.20", "outside: 203.0.113.20", "outside: 198.51.100.21", "203.0.113.20 is in no prefix of rim:fibre"},
		{"tls-to-plain", "from: lapsed, service: http, to: notice}", "from: lapsed, service: https, to: \"notice:80\"}", "from: lapsed, service: https, to: notice}", "tcp/443 goes to port 80 of notice"},
		{"one-to-one-wide", "to: notice, service: https}", "to: notice, service: [https, ssh]}", "to: notice, service: [https, http]}", "which does not serve it"},
		{"leaking-source", "{source-nat: out, on: fibre, as: interface}", "{source-nat: out, on: fibre, from: yard, as: interface}", "{source-nat: out, on: fibre, from: [yard, visitors], as: interface}", "gets out untranslated"},
		{"no-default-route", "{to: default, via: 198.51.100.17}", "{to: 0.0.0.0/1, via: 198.51.100.17}", "{to: default, via: 198.51.100.22}", "no route to default"},
		{"empty-group", "  lapsed: [10.61.33.7]", "  lapsed: [10.61.33.7]\n  nobody: 10.0.0.0/8 except 10.0.0.0/8", "  lapsed: [10.61.33.7]\n  nobody: 10.0.0.0/8 except 10.0.0.0/9", "no members"},
		{"group-of-everything", "  lapsed: [10.61.33.7]", "  lapsed: [10.61.33.7]\n  all: [0.0.0.0/1, 128.0.0.0/1]", "  lapsed: [10.61.33.7]\n  all: [0.0.0.0/1, 128.0.0.0/2]", "every address"},
		{"any-service", "from: outside, to: notice, service: https}", "from: outside, to: notice}", "from: fronts, to: notice}", "every service of notice"},
		{"gateway-open", "serves: {ssh: [yard]}", "serves: {ssh: [fibre]}", "serves: {icmp: [fibre]}", "tcp/22 of rim is open to everybody"},
		{"drop-list", "      - {allow: surf,", "      - {drop: lapsed-out, from: lapsed, to: outside, service: https}\n      - {allow: surf,", "      - {drop: lapsed-out, from: visitors, to: outside, service: ssh}\n      - {allow: surf,", "surf lets through everyone"},
		{"dns-anywhere", "service: [http, https], log: true}", "service: [http, https, dns], log: true}", "service: [http, https, ntp], log: true}", "any name server"},
		{"log-without-logging", "logging: {enabled: true}", "logging: {enabled: false}", "logging: {enabled: true, unmatched: true}", "the logging of rim is off"},
		{"busy-log", "{allow: sorry, from: visitors,", "{allow: chatty, to: visitors, log: true}\n      - {allow: sorry, from: visitors,", "{allow: chatty, to: visitors, service: ssh, log: true}\n      - {allow: sorry, from: visitors,", "every service from everybody"},
		{"disabled-rule", "{allow: surf, from: visitors,", "{allow: surf, disabled: true, from: visitors,", "{allow: surf, disabled: false, from: visitors,", "remove it"},
		{"mappings-open", "{allow: yard, ports: 20000-20999}", "{allow: any}", "{allow: yard}", "every machine may open every port"},
	} {
		t.Run(c.finding, func(t *testing.T) {
			if !strings.Contains(calm, c.place) {
				t.Fatalf("%q is not in the calm network", c.place)
			}
			has := func(text string) (bool, []advice.Finding) {
				found := examine(t, strings.Replace(calm, c.place, text, 1))
				return slices.ContainsFunc(found, func(f advice.Finding) bool { return f.Kind.String() == c.finding && strings.Contains(f.Text, c.text) }), found
			}
			seen[c.finding] = true
			if ok, found := has(c.shows); !ok {
				t.Errorf("not found in the network that shows it:\n%s", listing(found))
			}
			if ok, found := has(c.twin); ok {
				t.Errorf("found in the twin:\n%s", listing(found))
			}
		})
	}
	// These need two changes.
	wide := func(serves, allowed string) string {
		text := strings.Replace(calm, "serves: [http, https]}", "serves: ["+serves+"]}", 1)
		return strings.Replace(text, "to: notice, service: https}", "to: notice, service: ["+allowed+"]}", 1)
	}
	forwards := func(limit string) string {
		text := strings.Replace(calm, "      - {one-to-one: both,", "      - {port-forward: more, on: fibre, service: tcp/8443, to: \"notice:443\"}\n      - {one-to-one: both,", 1)
		return strings.Replace(text, "{port-forwards: 2}", "{port-forwards: "+limit+"}", 1)
	}
	twins := func(address string) string {
		text := strings.Replace(calm, "zone: visitors}", "zone: visitors, segment: far}", 1)
		return strings.Replace(text, "gateways:", "  double: {address: "+address+", segment: far}\ngateways:", 1)
	}
	for _, c := range []struct{ finding, shows, twin string }{
		{"administration-open", wide("http, https, ssh", "https, ssh"), wide("http, https, ssh", "https")},
		{"clear-text-open", wide("http, https", "https, http"), wide("http, https", "https")},
		{"too-many-forwards", forwards("1"), forwards("2")},
		{"twin-address", twins("10.61.24.5"), twins("10.61.33.9")},
	} {
		seen[c.finding] = true
		is := func(f advice.Finding) bool { return f.Kind.String() == c.finding }
		if found := examine(t, c.shows); !slices.ContainsFunc(found, is) {
			t.Errorf("%s is not found:\n%s", c.finding, listing(found))
		}
		if found := examine(t, c.twin); slices.ContainsFunc(found, is) {
			t.Errorf("%s is found in the twin:\n%s", c.finding, listing(found))
		}
	}
	for _, name := range network.FindingNames() {
		if !seen[name] {
			t.Errorf("%s has no network that shows it", name)
		}
		if f, ok := network.FindingOf(name); !ok || f.Severity() == "" || !strings.HasSuffix(f.Why(), ".") {
			t.Errorf("%s is not explained: %s %s", f, f.Severity(), f.Why())
		}
	}
}

// A rule that accepts a finding silences it, and needs a note.
func TestAcceptedFindingsAreSilent(t *testing.T) {
	shows := strings.Replace(calm, "archive: {address: 10.61.24.5,", "archive: {address: 10.61.24.5, assigned: dynamic,", 1)
	accepted := strings.Replace(shows, "service: https, to: archive}\n", "service: https, to: archive, accept: [dynamic-target], note: until the move}\n", 1)
	if found := examine(t, accepted); len(found) > 0 {
		t.Errorf("\n%s", listing(found))
	}
	for change, want := range map[string]string{"accept: [dynamic-target]": "accept needs a note", "accept: [dynamc-target], note: x": "did you mean dynamic-target?"} {
		text := strings.Replace(shows, "service: https, to: archive}\n", "service: https, to: archive, "+change+"}\n", 1)
		if _, err := netfile.Parse("f.yaml", []byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", change, err)
		}
	}
}
