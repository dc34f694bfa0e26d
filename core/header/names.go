package header

import (
	_ "embed"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// servicesText holds a line "NAME PROTOCOL[+PROTOCOL]/PORT" for every name, but for
// four that are a maker's, that IANA registered for a port below 1024 and for those in common use above (Service
// Name and Transport Protocol Port Number Registry), with the protocols that the
// service is used with in practice.
//
//go:embed services.txt
var servicesText string

type nameTables struct {
	byName map[string]Services
	byPort map[Protocol]map[uint16]string
	names  []string
}

var loadNames = sync.OnceValue(func() nameTables {
	t := nameTables{map[string]Services{}, map[Protocol]map[uint16]string{}, nil}
	for line := range strings.Lines(servicesText) {
		name, where, _ := strings.Cut(strings.TrimSpace(line), " ")
		protocols, digits, _ := strings.Cut(where, "/")
		port, err := strconv.ParseUint(digits, 10, 16)
		if err != nil {
			panic("services.txt: " + line)
		}
		for protocolName := range strings.SplitSeq(protocols, "+") {
			protocol, _ := ParseProtocol(protocolName)
			t.byName[name] = append(t.byName[name], Service{protocol, Ports{uint16(port), uint16(port)}})
			if t.byPort[protocol] == nil {
				t.byPort[protocol] = map[uint16]string{}
			}
			if _, taken := t.byPort[protocol][uint16(port)]; !taken {
				t.byPort[protocol][uint16(port)] = name
			}
		}
		t.names = append(t.names, name)
	}
	slices.Sort(t.names)
	t.names = slices.Compact(t.names)
	return t
})

// NamedService returns what a registered name stands for. found is false for an
// unknown name; a name that was given to several ports is an error, because
// opening all of them is seldom meant.
func NamedService(name string) (services Services, found bool, err error) {
	services = loadNames().byName[name]
	if len(services) == 0 {
		return nil, false, nil
	}
	for _, s := range services[1:] {
		if s.Ports != services[0].Ports {
			return nil, true, fmt.Errorf("%s: this name stands for several ports (%s); write the one that is meant", name, services)
		}
	}
	return services, true, nil
}

// ServiceNames returns all registered names in alphabetical order.
func ServiceNames() []string { return loadNames().names }

// NameOf returns the registered name of a protocol's port, or "".
func NameOf(protocol Protocol, port uint16) string { return loadNames().byPort[protocol][port] }

// called are words by which people call services that IANA registered by another name.
var called = map[string]string{
	"afp": "afpovertcp", "cifs": "microsoft-ds", "dhcp": "bootps", "ike": "isakmp", "imap4": "imap", "raw-print": "pdl-datastream",
	"l2tp": "l2f", "modbus": "mbap", "mqtts": "secure-mqtt", "nat-t": "ipsec-nat-t", "netbios": "netbios-ssn", "opc-ua": "opcua-tcp", "portmap": "sunrpc",
	"postgres": "postgresql", "rdp": "ms-wbt-server", "rpc": "sunrpc", "rtp": "avt-profile-1", "smb": "microsoft-ds",
	"socks5": "socks", "upnp": "ssdp", "vnc": "rfb", "web": "http", "xmpp": "xmpp-client",
}

// CalledServices returns the words by which people call services that have another registered name, in alphabetical order.
func CalledServices() []string { return slices.Sorted(maps.Keys(called)) }

// RegisteredName returns the registered name of what people call by another word, or "".
func RegisteredName(word string) string { return called[strings.ToLower(word)] }
