package prove_test

import (
	"encoding/json"
	"flag"
	"net/netip"
	"os"
	"slices"
	"strings"
	"testing"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/reach"
	"hollowbridge/core/walk"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/netfile/netfiletest"
)

// aside are the keys of the file that no connection without earlier sessions fares differently by, and why.
var aside = map[string]string{
	"network-file/network": "a name", "network-file/expect": "what is asked", "network-file/timezone": "of hours: two that differ are not compared, which TestHours... of cli sees",
	"gateway/logging": "what is written", "gateway/control": "who may ask", "gateway/formerly": "the machine's name for it", "gateway/limits": "of all sessions together", "gateway/mappings": "what programs ask for while it runs",
	"host/assigned": "a finding", "host/until": "a finding", "gateway/until": "a finding", "vlan/id": "which segment it is, its prefix says", "interface/device": "the machine's name for it", "handling/restarts-on-apply": "what an apply ends",
	"handling/mapping": "earlier sessions alone show it: compare says so", "handling/port-assignment": "any port of several is right", "handling/tcp-state": "what belongs to no session",
	"list/file": "as a group's members, which lists of cli's tests are",
}

// asideObjects are those of which no key decides about a connection.
var asideObjects = strings.Fields("control limits logging mappings mapping-rule expectation")

// asideKeys are those of every rule, host and gateway.
var asideKeys = strings.Fields("note owner log accept")

const fieldsBase = `network: fields
groups:
  campus: [10.61.8.0/24, 10.61.24.0/28]
  fronts: [203.0.113.64/27]
services:
  telescope: tcp/7624
hosts:
  archive:
    address: [10.61.24.5, '2001:db8:61:24::5', 'fd00:61:24::5']
    serves: [https, ssh, telescope, {service: tcp/8443, at: 10.61.24.5}, tcp/22]
    firewall:
      - {reject: telescope, from: 10.61.32.0/24}
      - {drop: ssh, from: 10.61.8.0/25}
      - {allow: any}
    relays:
      - {listen: tcp/8080, to: 'spare:443'}
  spare: {address: 10.61.24.6, serves: [https, tcp/8443]}
  desk: {address: 10.61.8.40, gateway: rim, serves: [tcp/5900, https]}
  dome: {address: 10.61.16.9, serves: [https], gateway: keep}
  observer: {address: 203.0.113.70, serves: [https]}
gateways:
  rim:
    interfaces:
      fibre:
        address: [198.51.100.18/29, '2001:db8:61::2/64']
        zone: outside
        upstream: {blocks: [tcp/25], routes: [192.0.2.96/28, '2001:db8:61:24::/64', '2001:db8:61:99::/64']}
      staff: {address: 10.61.8.1/24, zone: staff}
      yard: {address: [10.61.24.1/28, '2001:db8:61:24::1/64', 'fd00:61:24::1/64'], zone: yard}
      trunk: {address: 10.61.40.1/24, zone: trunk, state: up}
      visitors: {address: 10.61.32.1/22, zone: visitors, vlan: {on: trunk, id: 30}}
      vpn: {address: 10.61.60.1/24, zone: vpn, clients: [10.61.64.0/24]}
    routes:
      - {to: default, via: 198.51.100.17}
      - {to: default, via: '2001:db8:61::1'}
      - {to: 10.61.16.0/24, via: 10.61.8.2}
      - {to: 10.61.16.0/24, via: 10.61.24.2, distance: 5}
    serves: {ssh: [fibre, staff], icmp: [staff, fibre]}
    nat:
      - port-forward: web
        on: fibre
        service: https
        to: archive
      - port-forward: fronts-only
        on: fibre
        at: 192.0.2.98
        from: fronts
        service: tcp/8443
        to: archive
        hairpin: true
      - destination-nat: lapsed
        on: visitors
        from: 10.61.33.0/24
        at: any
        service: http
        to: spare:443
      - one-to-one: spare-public
        on: fibre
        outside: 192.0.2.97
        inside: spare
        hairpin: true
      - prefix-nat: yard-six
        on: fibre
        outside: '2001:db8:61:99::/64'
        inside: 'fd00:61:24::/64'
      - no-nat: as-is
        on: fibre
        from: campus
        to: 203.0.113.192/26
        service: https
      - source-nat: out
        on: fibre
        from: campus
        as: 192.0.2.100
        ports: 20000-29999
      - source-nat: partner
        on: staff
        from: 10.61.64.0/24
        to: 10.61.8.41
        service: tcp/8443
        as: interface
        destination: 10.61.8.40:443
    filter:
      - drop: night
        from: 203.0.113.160/27
        service: tcp/8443
        when: {days: mon-fri, hours: '08:00-18:00'}
      - reject: ports
        from: 203.0.113.96/27
        source-ports: 1024-65535
        service: tcp/8443
      - allow: led
        from: outside
        to: spare
        service: tcp/8443
        redirected: true
      - allow: web
        from: [outside, staff, visitors, vpn]
        to: yard
        service: [https, telescope, tcp/8443, tcp/8080, tcp/7625, ssh, icmp, http]
      - allow: inward
        from: [vpn, yard, visitors]
        to: staff
        service: [https, tcp/5900, icmp]
      - allow: outward
        from: [staff, yard]
        to: outside
  keep:
    interfaces:
      up: {address: 10.61.8.2/24, zone: staff}
      domes: {address: 10.61.16.1/24, zone: domes}
    routes: [{to: default, via: 10.61.8.1}]
    filter:
      - {allow: in, from: staff, to: domes, service: [https, icmp]}
      - {allow: out, from: domes, to: staff}
`

var everyField = flag.Bool("fields", false, "whether each change of a field is proven with real packets")

var onlyField = flag.String("field", "", "only the changes of keys with this in their names")

// A fieldChange gives keys of the base other values.
type fieldChange struct {
	keys     string // each as object/key
	old, new string
	unseen   string   // why no packet shows it
	also     []string // pairs, in what is compared and in what it is compared with
}

var fieldChanges = []fieldChange{
	{keys: "network-file/groups", old: "fronts: [203.0.113.64/27]", new: "fronts: [203.0.113.64/26]"},
	{keys: "network-file/services", old: "telescope: tcp/7624", new: "telescope: tcp/7626"},
	{keys: "network-file/hosts", old: "observer: {address: 203.0.113.70, serves: [https]}", new: "observer: {address: 203.0.113.70, serves: [telescope]}"},
	{keys: "network-file/gateways gateway/nat", old: "      - port-forward: web\n        on: fibre\n        service: https\n        to: archive\n", new: ""},
	{keys: "host/address", old: "spare: {address: 10.61.24.6,", new: "spare: {address: 10.61.24.7,"},
	{keys: "host/serves", old: "desk: {address: 10.61.8.40, gateway: rim, serves: [tcp/5900, https]}", new: "desk: {address: 10.61.8.40, gateway: rim, serves: [https]}"},
	{keys: "host/firewall host-firewall-rule/drop host-firewall-rule/from", old: "{drop: ssh, from: 10.61.8.0/25}", new: "{drop: ssh, from: 10.61.8.0/27}"},
	{keys: "host-firewall-rule/reject", old: "{reject: telescope, from: 10.61.32.0/24}", new: "{reject: telescope, from: 10.61.33.0/24}"},
	{keys: "host-firewall-rule/allow", old: "{allow: any}\n    relays", new: "{allow: tcp}\n    relays"},
	{keys: "host/relays relay/listen", old: "{listen: tcp/8080, to:", new: "{listen: tcp/8443, to:"},
	{keys: "relay/to", old: "to: 'spare:443'}", new: "to: 'desk:443'}"},
	{keys: "host/gateway", old: "serves: [https], gateway: keep}", new: "serves: [https], gateway: rim}", also: []string{"{to: 10.61.16.0/24, via: 10.61.8.2}\n", "{to: 10.61.99.0/24, via: 10.61.8.2}\n", "      vpn: {", "      side: {address: 10.61.16.2/24, zone: domes}\n      vpn: {", "    to: staff\n        service: [https", "    to: [staff, domes]\n        service: [https"}},
	{keys: "host/segment", unseen: "wires of one host are one in the lab", old: "segment: wire", new: "segment: cable", also: []string{"dome: {address: 10.61.16.9, serves: [https], gateway: keep}", "dome: {address: 10.61.16.9, serves: [https], segment: wire}", "      vpn: {", "      side: {address: 10.61.16.1/24, zone: side, segment: cable}\n      vpn: {", "      domes: {address: 10.61.16.1/24, zone: domes}", "      domes: {address: 10.61.16.1/24, zone: domes, segment: wire}"}},
	{keys: "host/answers-ping", old: "desk: {address: 10.61.8.40, ", new: "desk: {address: 10.61.8.40, answers-ping: false, "},
	{keys: "service/service", old: "{service: tcp/8443, at: 10.61.24.5}", new: "{service: tcp/8444, at: 10.61.24.5}"},
	{keys: "service/at", old: "{service: tcp/8443, at: 10.61.24.5}", new: "{service: tcp/8443, at: '2001:db8:61:24::5'}"},
	{keys: "gateway/interfaces interface/address", old: "staff: {address: 10.61.8.1/24,", new: "staff: {address: 10.61.8.3/24,"},
	{keys: "interface/vlan vlan/on", unseen: "a VLAN has a wire of its own in the lab", old: "vlan: {on: trunk, id: 30}", new: "vlan: {on: yard, id: 30}", also: []string{"state: up", "state: down"}},
	{keys: "interface/state", old: "zone: trunk, state: up}", new: "zone: trunk, state: down}"},
	{keys: "interface/upstream upstream/blocks", old: "blocks: [tcp/25]", new: "blocks: [tcp/25, https]"},
	{keys: "upstream/carrier-nat", old: "upstream: {blocks", new: "upstream: {carrier-nat: true, blocks"},
	{keys: "upstream/routes", old: "routes: [192.0.2.96/28,", new: "routes: [192.0.2.98/32,"},
	{keys: "upstream/beside", unseen: "it says who is there, and changes nothing that a gateway does", old: "upstream: {blocks", new: "upstream: {beside: none, blocks"},
	{keys: "interface/clients", old: "clients: [10.61.64.0/24]", new: "clients: [10.61.65.0/24]"},
	{keys: "gateway/routes route/to", old: "{to: 10.61.16.0/24, via: 10.61.8.2}", new: "{to: 10.61.16.0/25, via: 10.61.8.2}"},
	{keys: "route/via", old: "{to: default, via: 10.61.8.1}", new: "{to: default, via: 10.61.8.9}"},
	{keys: "route/blackhole", old: "{to: 10.61.16.0/24, via: 10.61.8.2}", new: "{to: 10.61.16.0/24, blackhole: true}"},
	{keys: "route/distance", old: "via: 10.61.8.2}\n", new: "via: 10.61.8.2, distance: 9}\n"},
	{keys: "gateway/serves", old: "serves: {ssh: [fibre, staff],", new: "serves: {ssh: [fibre],"},
	{keys: "handling/forwards", old: "    serves: {ssh: [fibre, staff]", new: "    handling: {forwards: carry-permission}\n    serves: {ssh: [fibre, staff]", also: []string{"to: yard\n        service: [https, telescope", "to: 10.61.24.6\n        service: [https, telescope"}},
	{keys: "handling/trust", old: "trust: [staff, yard,", new: "trust: [yard, staff,", also: []string{"    serves: {ssh: [fibre, staff]", "    handling: {unmatched: by-trust, trust: [staff, yard, visitors, [vpn, trunk], outside]}\n    serves: {ssh: [fibre, staff]"}},
	{keys: "handling/turn-back", old: "    serves: {ssh: [fibre, staff]", new: "    handling: {turn-back: allow}\n    serves: {ssh: [fibre, staff]", also: []string{"to: staff\n        service: [https, tcp/5900, icmp]", "to: [staff, domes]\n        service: [https, tcp/5900, icmp]", "from: [vpn, yard, visitors]", "from: [vpn, yard, visitors, staff]", "[outside, staff, visitors, vpn]", "[outside, staff, visitors, vpn, yard]"}},
	{keys: "handling/icmp", old: "    serves: {ssh: [fibre, staff]", new: "    handling: {icmp: untracked}\n    serves: {ssh: [fibre, staff]"},
	{keys: "handling/unreachable", old: "    serves: {ssh: [fibre, staff]", new: "    handling: {unreachable: silent}\n    serves: {ssh: [fibre, staff]"},
	{keys: "handling/nat-order", old: "    serves: {ssh: [fibre, staff]", new: "    handling: {nat-order: specific-first}\n    serves: {ssh: [fibre, staff]", also: []string{"      - port-forward: web\n", "      - {destination-nat: wide, on: fibre, to: spare, service: tcp/8443}\n      - port-forward: web\n"}},
	{keys: "port-forward/on", old: "port-forward: web\n        on: fibre", new: "port-forward: web\n        on: staff"},
	{keys: "port-forward/service", old: "        on: fibre\n        service: https\n        to: archive", new: "        on: fibre\n        service: telescope\n        to: archive"},
	{keys: "port-forward/to", old: "        on: fibre\n        service: https\n        to: archive", new: "        on: fibre\n        service: https\n        to: archive:8443"},
	{keys: "port-forward/at", old: "at: 192.0.2.98", new: "at: 192.0.2.99"},
	{keys: "port-forward/from", old: "from: fronts\n        service: tcp/8443", new: "from: 203.0.113.64/28\n        service: tcp/8443"},
	{keys: "port-forward/hairpin", old: "to: archive\n        hairpin: true", new: "to: archive\n        hairpin: false"},
	{keys: "destination-nat/on", old: "destination-nat: lapsed\n        on: visitors", new: "destination-nat: lapsed\n        on: staff"},
	{keys: "destination-nat/from", old: "from: 10.61.33.0/24", new: "from: 10.61.33.0/25"},
	{keys: "destination-nat/at", old: "at: any\n", new: "at: 203.0.113.0/24\n"},
	{keys: "destination-nat/service", old: "at: any\n        service: http\n", new: "at: any\n        service: [http, tcp/8080]\n"},
	{keys: "destination-nat/to", old: "to: spare:443", new: "to: archive:443"},
	{keys: "one-to-one/on", old: "one-to-one: spare-public\n        on: fibre", new: "one-to-one: spare-public\n        on: trunk"},
	{keys: "one-to-one/outside", old: "outside: 192.0.2.97", new: "outside: 192.0.2.101"},
	{keys: "one-to-one/inside", old: "inside: spare", new: "inside: archive", also: []string{"archive:\n    address: [10.61.24.5, '2001:db8:61:24::5', 'fd00:61:24::5']", "archive:\n    address: 10.61.24.5", "at: '2001:db8:61:24::5'", "at: 10.61.24.5"}},
	{keys: "one-to-one/hairpin", old: "inside: spare\n        hairpin: true", new: "inside: spare\n        hairpin: false"},
	{keys: "prefix-nat/on", unseen: "prefix-nat is left out in the kernel", old: "prefix-nat: yard-six\n        on: fibre", new: "prefix-nat: yard-six\n        on: staff"},
	{keys: "prefix-nat/outside", unseen: "prefix-nat is left out in the kernel", old: "outside: '2001:db8:61:99::/64'", new: "outside: '2001:db8:61:98::/64'"},
	{keys: "prefix-nat/inside", unseen: "prefix-nat is left out in the kernel", old: "inside: 'fd00:61:24::/64'", new: "inside: 'fd00:61:25::/64'"},
	{keys: "no-nat/on", old: "no-nat: as-is\n        on: fibre", new: "no-nat: as-is\n        on: trunk"},
	{keys: "no-nat/from", old: "from: campus\n        to: 203.0.113.192/26", new: "from: 10.61.8.0/25\n        to: 203.0.113.192/26"},
	{keys: "no-nat/to", old: "to: 203.0.113.192/26", new: "to: 203.0.113.192/27"},
	{keys: "no-nat/service", old: "to: 203.0.113.192/26\n        service: https", new: "to: 203.0.113.192/26\n        service: http"},
	{keys: "source-nat/on", old: "source-nat: out\n        on: fibre", new: "source-nat: out\n        on: vpn"},
	{keys: "source-nat/from", old: "from: campus\n        as:", new: "from: 10.61.8.0/24\n        as:"},
	{keys: "source-nat/service", old: "to: 10.61.8.41\n        service: tcp/8443", new: "to: 10.61.8.41\n        service: https", also: []string{"service: [https, tcp/5900, icmp]", "service: [https, tcp/5900, icmp, tcp/8443]"}},
	{keys: "source-nat/as", old: "as: 192.0.2.100", new: "as: 192.0.2.102"},
	{keys: "source-nat/ports", old: "ports: 20000-29999", new: "ports: 50000-50999"},
	{keys: "source-nat/destination", old: "destination: 10.61.8.40:443", new: "destination: 10.61.8.40:5900", also: []string{"service: [https, tcp/5900, icmp]", "service: [https, tcp/5900, icmp, tcp/8443]"}},
	{keys: "drop/from", old: "from: 203.0.113.160/27", new: "from: 203.0.113.160/28"},
	{keys: "drop/service", old: "from: 203.0.113.160/27\n        service: tcp/8443", new: "from: 203.0.113.160/27\n        service: https"},
	{keys: "drop/to", old: "from: 203.0.113.160/27\n", new: "from: 203.0.113.160/27\n        to: spare\n"},
	{keys: "drop/source-ports", old: "from: 203.0.113.160/27\n", new: "from: 203.0.113.160/27\n        source-ports: 1-1023\n"},
	{keys: "drop/when when/days", old: "days: mon-fri", new: "days: tue-fri"},
	{keys: "when/hours", old: "hours: '08:00-18:00'", new: "hours: '12:00-18:00'"},
	{keys: "drop/disabled", old: "drop: night\n", new: "drop: night\n        disabled: true\n"},
	{keys: "drop/until", old: "drop: night\n", new: "drop: night\n        until: 2027-01-12\n"},
	{keys: "reject/from", old: "from: 203.0.113.96/27", new: "from: 203.0.113.96/28"},
	{keys: "reject/service", old: "source-ports: 1024-65535\n        service: tcp/8443", new: "source-ports: 1024-65535\n        service: https"},
	{keys: "reject/to", old: "from: 203.0.113.96/27\n", new: "from: 203.0.113.96/27\n        to: archive\n"},
	{keys: "reject/source-ports", old: "source-ports: 1024-65535", new: "source-ports: 1-1023"},
	{keys: "reject/when", old: "reject: ports\n", new: "reject: ports\n        when: {days: sat}\n"},
	{keys: "reject/disabled", old: "reject: ports\n", new: "reject: ports\n        disabled: true\n"},
	{keys: "reject/until", old: "reject: ports\n", new: "reject: ports\n        until: 2027-01-12\n"},
	{keys: "allow/from", old: "from: [outside, staff, visitors, vpn]", new: "from: [outside, staff, visitors]"},
	{keys: "allow/to", old: "to: yard\n        service: [https, tel", new: "to: archive\n        service: [https, tel", also: []string{"drop: night", "drop: night"}},
	{keys: "allow/service", old: "service: [https, telescope, tcp/8443,", new: "service: [https, tcp/8443,"},
	{keys: "allow/source-ports", old: "allow: outward\n", new: "allow: outward\n        source-ports: 1024-65535\n"},
	{keys: "allow/redirected", old: "tcp/8443\n        redirected: true", new: "tcp/8443\n        redirected: false", also: []string{"icmp, http]", "icmp, http]", "telescope, tcp/8443, tcp/8080", "telescope, tcp/8080"}},
	{keys: "allow/when", old: "allow: outward\n", new: "allow: outward\n        when: {hours: '20:00-22:00'}\n"},
	{keys: "allow/disabled", old: "allow: outward\n", new: "allow: outward\n        disabled: true\n"},
	{keys: "allow/until", old: "allow: outward\n", new: "allow: outward\n        until: 2027-01-12\n"},
	{keys: "gateway/filter", old: "      - {allow: in, from: staff, to: domes, service: [https, icmp]}\n", new: ""},
	{keys: "port-forward/disabled", old: "- port-forward: web\n", new: "- port-forward: web\n        disabled: true\n"},
	{keys: "port-forward/until", old: "- port-forward: web\n", new: "- port-forward: web\n        until: 2027-01-12\n"},
	{keys: "port-forward/when", old: "- port-forward: web\n", new: "- port-forward: web\n        when: {days: sun}\n"},
	{keys: "destination-nat/disabled", old: "- destination-nat: lapsed\n", new: "- destination-nat: lapsed\n        disabled: true\n"},
	{keys: "destination-nat/until", old: "- destination-nat: lapsed\n", new: "- destination-nat: lapsed\n        until: 2027-01-12\n"},
	{keys: "destination-nat/when", old: "- destination-nat: lapsed\n", new: "- destination-nat: lapsed\n        when: {days: sun}\n"},
	{keys: "one-to-one/disabled", old: "- one-to-one: spare-public\n", new: "- one-to-one: spare-public\n        disabled: true\n"},
	{keys: "one-to-one/until", old: "- one-to-one: spare-public\n", new: "- one-to-one: spare-public\n        until: 2027-01-12\n"},
	{keys: "one-to-one/when", old: "- one-to-one: spare-public\n", new: "- one-to-one: spare-public\n        when: {days: sun}\n"},
	{keys: "prefix-nat/disabled", unseen: "prefix-nat is left out in the kernel", old: "- prefix-nat: yard-six\n", new: "- prefix-nat: yard-six\n        disabled: true\n"},
	{keys: "prefix-nat/until", unseen: "prefix-nat is left out in the kernel", old: "- prefix-nat: yard-six\n", new: "- prefix-nat: yard-six\n        until: 2027-01-12\n"},
	{keys: "prefix-nat/when", unseen: "prefix-nat is left out in the kernel", old: "- prefix-nat: yard-six\n", new: "- prefix-nat: yard-six\n        when: {days: sun}\n"},
	{keys: "no-nat/disabled", old: "- no-nat: as-is\n", new: "- no-nat: as-is\n        disabled: true\n"},
	{keys: "no-nat/until", old: "- no-nat: as-is\n", new: "- no-nat: as-is\n        until: 2027-01-12\n"},
	{keys: "no-nat/when", old: "- no-nat: as-is\n", new: "- no-nat: as-is\n        when: {days: sun}\n"},
	{keys: "source-nat/disabled", old: "- source-nat: out\n", new: "- source-nat: out\n        disabled: true\n"},
	{keys: "source-nat/until", old: "- source-nat: out\n", new: "- source-nat: out\n        until: 2027-01-12\n"},
	{keys: "source-nat/when", old: "- source-nat: out\n", new: "- source-nat: out\n        when: {days: sun}\n"},
	{keys: "interface/zone", old: "zone: trunk, state", new: "zone: vpn, state"},
	{keys: "interface/segment", old: "up: {address: 10.61.8.2/24, zone: staff}", new: "up: {address: 10.61.8.2/24, zone: staff, segment: cable}"},
	{keys: "gateway/handling handling/filter-sees", old: "    serves: {ssh: [fibre, staff]", new: "    handling: {filter-sees: original}\n    serves: {ssh: [fibre, staff]", also: []string{"to: yard\n        service: [https, telescope", "to: 10.61.24.0/28\n        service: [https, telescope"}},
	{keys: "handling/unmatched", old: "    serves: {ssh: [fibre, staff]", new: "    handling: {unmatched: by-trust, trust: [staff, yard, visitors, [vpn, trunk], outside]}\n    serves: {ssh: [fibre, staff]"},
	{keys: "source-nat/to", old: "to: 10.61.8.41", new: "to: 10.61.8.42", also: []string{"service: [https, tcp/5900, icmp]", "service: [https, tcp/5900, icmp, tcp/8443]"}},
	{keys: "drop/redirected", old: "from: 203.0.113.160/27\n", new: "from: 203.0.113.160/27\n        redirected: true\n"},
	{keys: "reject/redirected", old: "from: 203.0.113.96/27\n", new: "from: 203.0.113.96/27\n        redirected: true\n"},
}

// Whatever key of the file that decides about connections gets another value: compare says so, a network that is compiled out of the one
// before does as one that is compiled anew, and real packets show it.
func TestEveryFieldMakesADifference(t *testing.T) {
	t.Parallel()
	seen := map[string]bool{}
	for _, c := range fieldChanges {
		for _, key := range strings.Fields(c.keys) {
			seen[key] = true
		}
		text := strings.NewReplacer(c.also...).Replace(fieldsBase)
		other := strings.Replace(text, c.old, c.new, 1)
		if other == text {
			t.Errorf("%s: %q does not stand in the base", c.keys, c.old)
			continue
		}
		for _, text := range []string{text, other} {
			if _, err := netfile.Parse("fields.yaml", []byte(text)); err != nil {
				t.Errorf("%s: %q: %v", c.keys, c.new, err)
				seen["wrong"] = true
			}
		}
		if seen["wrong"] {
			delete(seen, "wrong")
			continue
		}
		was, is := netfiletest.Parse(t, text), netfiletest.Parse(t, other)
		was.Seal()
		is.Seal()
		a, b := walk.Compile(was, nil), walk.Compile(is, nil)
		again := walk.Compile(is, a)
		told := network.ToldOtherwise(was.Gateways[0], is.Gateways[0])
		if list, err := reach.Differences(a, b, network.Times{}, true); err != nil || len(list)+len(told) == 0 {
			t.Errorf("%s: compare says that %q is the same as %q, %v", c.keys, c.new, c.old, err)
		}
		if list, err := reach.Differences(b, again, network.Times{}, true); err != nil || len(list) > 0 {
			t.Errorf("%s: %q compiled out of %q does otherwise than compiled anew: %v, %v", c.keys, c.new, c.old, list, err)
		}
		if testing.Short() || !*everyField || c.unseen != "" || !strings.Contains(c.keys, *onlyField) {
			continue
		}
		if fate, why := foundOut(t, 1, text, other, 2); fate != "found" {
			t.Errorf("%s: %q in place of %q: %s: %s", c.keys, c.new, c.old, fate, why)
		}
	}
	data, err := os.ReadFile("../../docs/network.schema.json")
	if err != nil {
		t.Fatal(err)
	}
	var schema struct {
		Defs map[string]struct {
			Properties map[string]any `json:"properties"`
		} `json:"$defs"`
	}
	if err := json.Unmarshal(data, &schema); err != nil {
		t.Fatal(err)
	}
	for object, o := range schema.Defs {
		for key := range o.Properties {
			name := object + "/" + key
			_, isAside := aside[name]
			if isAside = isAside || slices.Contains(asideObjects, object) || slices.Contains(asideKeys, key) || key == object && object != "service"; isAside == seen[name] {
				t.Errorf("%s is changed: %v, aside: %v", name, seen[name], isAside)
			}
		}
	}
}

// A relay that hands on to another machine, or another port, is found out: who answers behind it is compared.
func TestWhoAnswersBehindARelayIsCompared(t *testing.T) {
	if testing.Short() {
		t.Skip("it sends real packets")
	}
	t.Parallel()
	relayed := func(c walk.Connection) bool {
		return c.Packet.DestinationPort == 8080 && c.Packet.Protocol == header.TCP && c.Packet.Destination == netip.MustParseAddr("10.61.24.5")
	}
	for _, target := range []string{"spare:443", "desk:443", "127.0.0.1:443"} {
		cases := proved(t, fieldsBase, strings.Replace(fieldsBase, "to: 'spare:443'}", "to: '"+target+"'}", 1), 1, 6, relayed)
		differ := unexplained(cases)
		if same := target == "spare:443"; same != (len(differ) == 0) || len(cases) == 0 {
			t.Errorf("%s: of %d differ %q", target, len(cases), differ)
		}
	}
}
