package netfile

import (
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A shape is what may stand behind a key.
type shape struct {
	kind   shapeKind
	words  []string // of oneWord
	object *object  // of block, named and list
}

type shapeKind uint8

const (
	text       shapeKind = iota // a line of text
	number                      // a whole number
	flagShape                   // true or false
	oneWord                     // one of words
	expression                  // an address expression, or a list of them
	service                     // a service, or a list of them
	texts                       // a text, or a list of texts
	words                       // a list of words
	block                       // one object
	named                       // objects by name
	list                        // a list of objects
	anyNames                    // texts by name
	groupBody                   // what stands behind a group's name
	natRule                     // a rule of `nat`
	filterRule                  // a rule of `filter`
	hostServe                   // a service, or a service bound to an address
	order                       // texts in order, those in brackets alike
)

// A key is one key of an object.
type key struct {
	name     string
	shape    shape
	required bool
	meaning  string
	without  string // what an error adds where it is missing
}

// An object is the keys that may stand together. The reader and the JSON Schema
// are both made from these tables.
type object struct {
	name string // as errors call it
	keys []key
}

func (o *object) names() []string {
	names := make([]string, len(o.keys))
	for i := range o.keys {
		names[i] = o.keys[i].name
	}
	return names
}

func (o *object) key(name string) *key {
	for i := range o.keys {
		if o.keys[i].name == name {
			return &o.keys[i]
		}
	}
	return nil
}

func is(kind shapeKind) shape { return shape{kind: kind} }

func of(kind shapeKind, o *object) shape { return shape{kind: kind, object: o} }

var fileObject = &object{"network file", []key{
	{"network", is(text), true, "name of the network", ""},
	{"timezone", is(text), false, "of all hours in the file, as Europe/Oslo; UTC where absent", ""},
	{"groups", is(groupBody), false, "named sets of addresses: addresses, prefixes, ranges, hosts, other groups, files", ""},
	{"services", shape{kind: anyNames}, false, "named services: protocol and ports, or other services", ""},
	{"hosts", of(named, hostObject), false, "machines that serve something", ""},
	{"gateways", of(named, gatewayObject), true, "edge routers and firewalls", ""},
	{"expect", of(list, expectObject), false, "what must hold", ""},
}}

var listFileObject = &object{"list", []key{
	{"file", is(text), true, "a file with an address, prefix or range on each line, beside the network file", ""},
}}

var hostObject = &object{"host", []key{
	{"address", is(texts), true, "its addresses", ""},
	{"assigned", shape{kind: oneWord, words: []string{string(network.Fixed), string(network.Reserved), string(network.Dynamic)}}, false, "how it got its address", ""},
	{"serves", of(hostServe, boundServiceObject), false, "what it listens on", ""},
	{"firewall", of(list, hostRuleObject), false, "its own firewall; first match decides, no match is dropped; absent is open", ""},
	{"relays", of(list, relayObject), false, "listeners that hand on to another port or machine", ""},
	{"gateway", is(text), false, "its default gateway, by name or address, where its segments have several", ""},
	{"segment", is(text), false, "the segment it is on, where prefixes overlap", ""},
	{"answers-ping", is(flagShape), false, "whether it answers pings; true where absent", ""},
	ownerKey, untilKey,
}}

var boundServiceObject = &object{"service", []key{
	{"service", is(service), true, "what it listens on", ""},
	{"at", is(text), true, "the one address it listens at; a loopback address for what only its own relays reach", ""},
}}

var hostRuleObject = &object{"host firewall rule", []key{
	{"allow", is(service), false, "services to let in", ""},
	{"drop", is(service), false, "services to throw away", ""},
	{"reject", is(service), false, "services to refuse", ""},
	{"from", is(expression), false, "who; any where absent", ""},
}}

var relayObject = &object{"relay", []key{
	{"listen", is(service), true, "what it listens on", ""},
	{"to", is(text), true, "where it hands on to: an address or host, with :port where it differs", ""},
}}

// formerlyKey is the key of the name that a gateway has on its machine, where that is another one.
const formerlyKey = "formerly"

var gatewayObject = &object{"gateway", []key{
	{"interfaces", of(named, interfaceObject), true, "where it meets segments", ""},
	{"routes", of(list, routeObject), false, "static routes", ""},
	{"serves", shape{kind: anyNames}, false, "what the gateway itself answers, and on which interfaces or zones", ""},
	{"handling", of(block, handlingObject), false, "how it treats what gateways treat differently", ""},
	{"nat", is(natRule), false, "translation rules, in order", ""},
	{"filter", is(filterRule), false, "filter rules; first match decides", ""},
	{"logging", of(block, loggingObject), false, "what it writes down", ""},
	{"limits", of(block, limitsObject), false, "what it has room for", ""},
	{"mappings", of(block, mappingsObject), false, "automatic port mappings; absent is off", ""},
	{"control", of(block, controlObject), false, "where the running gateway is asked and told what to do", ""},
	{formerlyKey, is(text), false, "its name on its machine, which was not renamed yet: it is asked by that", ""},
	ownerKey, untilKey,
}}

// deviceKey is the key of an interface's name on the machine itself.
const deviceKey = "device"

var interfaceObject = &object{"interface", []key{
	{"address", is(texts), false, "its addresses, each as ADDRESS/BITS; dynamic where the provider gives the IPv4 one", ""},
	{"zone", is(text), true, "the zone it belongs to", ""},
	{deviceKey, is(text), false, "its name on the machine itself", ""},
	{"segment", is(text), false, "the segment it is on, where prefixes overlap", ""},
	{"vlan", of(block, vlanObject), false, "set for a VLAN on another interface", ""},
	{"state", shape{kind: oneWord, words: []string{"up", "down"}}, false, "up where absent", ""},
	{"upstream", of(block, upstreamObject), false, "what the network on the other side does to packets", ""},
	{"clients", is(texts), false, "prefixes of VPN clients that arrive here, already decrypted", ""},
}}

var vlanObject = &object{"vlan", []key{
	{"on", is(text), true, "the interface that carries it", ""},
	{"id", is(number), true, "1 to 4094", ""},
}}

var upstreamObject = &object{"upstream", []key{
	{"blocks", is(service), false, "services it does not let pass", ""},
	{"carrier-nat", is(flagShape), false, "whether it translates addresses itself, so that nothing gets in", ""},
	{"routes", is(texts), false, "further prefixes that the provider sends here", ""},
	{"beside", shape{kind: oneWord, words: []string{besideNone}}, false, "none: nobody else is on this segment, and hands the gateway packets of its own", ""},
}}

var routeObject = &object{"route", []key{
	{"to", is(text), true, "a prefix, or default", ""},
	{"via", is(text), false, "the next hop: an address, ADDRESS%INTERFACE for a link-local one, or an interface alone", ""},
	{"blackhole", is(flagShape), false, "true throws packets away", ""},
	{"distance", is(number), false, "administrative distance, 1 to 255; 1 where absent", ""},
}}

const trustKey = "trust"

var handlingObject = func() *object {
	o := &object{name: "handling"}
	for _, k := range network.HandlingKeys {
		s := shape{kind: oneWord, words: k.Words}
		if k.Words[1] == "true" {
			s = is(flagShape)
		}
		o.keys = append(o.keys, key{name: k.Key, shape: s, meaning: k.Meaning})
	}
	o.keys = append(o.keys, key{name: trustKey, shape: is(order), meaning: "with `unmatched: by-trust`, the gateway's zones, most trusted first, those in brackets alike"})
	return o
}()

var loggingObject = &object{"logging", []key{
	{"enabled", is(flagShape), false, "whether rules with `log: true` write anything", ""},
	{"unmatched", is(flagShape), false, "whether packets that no filter rule matches are logged", ""},
	{"syslog", is(text), false, "where to send it: udp://ADDRESS:PORT, tcp://ADDRESS:PORT or tls://ADDRESS:PORT", ""},
}}

var controlObject = &object{"control", []key{
	{"socket", is(text), false, "a Unix socket", ""},
	{"listen", is(text), false, "ADDRESS:PORT, by TLS", ""},
	{"token", is(text), false, "with listen, a file with the token that callers must know", ""},
	{"certificate", is(text), false, "with listen, a file with the gateway's certificate, which callers compare", ""},
	{"key", is(text), false, "with listen, a file with the certificate's key, which only the gateway needs", ""},
}}

var limitsObject = &object{"limits", []key{
	{"port-forwards", is(number), false, "how many port forwards it has room for", ""},
	{"sessions", is(number), false, "how many sessions it can remember", ""},
}}

var mappingsObject = &object{"mappings", []key{
	{"protocols", shape{kind: words, words: network.MappingProtocols}, true, "by which protocols programs may ask", ""},
	{"on", is(texts), true, "interfaces or zones where it listens", ""},
	{"external", is(text), true, "the interface on which mappings are opened", ""},
	{"at-most", is(number), false, "how many mappings all machines may have together; 10000 where absent", ""},
	{"rules", of(list, mappingRuleObject), false, "who may have which ports; first match decides, no match is refused", ""},
}}

var mappingRuleObject = &object{"mapping rule", []key{
	{"allow", is(expression), false, "machines that may", ""},
	{"drop", is(expression), false, "machines that may not", ""},
	{"by", shape{kind: words, words: network.MappingProtocols}, false, "by which protocols; all where absent", ""},
	{"transport", shape{kind: words, words: mappedTransports}, false, "for which transport protocols; both where absent", ""},
	{"ports", is(text), false, "outside ports; 1024-65535 where absent", ""},
	{"inside-ports", is(text), false, "ports of the machine; all where absent", ""},
	{"for", is(expression), false, "machines that it may ask for besides itself", ""},
	{"shortest", is(text), false, "the shortest lifetime, as 2m", ""},
	{"lifetime", is(text), false, "the longest, as 30m, 1h or 7d; as asked for where absent", ""},
	{"at-most", is(number), false, "how many mappings one machine may have", ""},
	{"ask", is(flagShape), false, "true: each waits until an administrator approves it", ""},
}}

// mappedTransports are the protocols that mappings are for.
var mappedTransports = []string{header.TCP.String(), header.UDP.String()}

var expectObject = &object{"expectation", []key{
	{"say", is(text), true, "what must hold, in a sentence", ""},
	{"from", is(expression), false, "whose connections", ""},
	{"only", is(expression), false, "nobody but these may reach", ""},
	{"never", is(expression), false, "these may not reach it by any address", ""},
	{"to", is(expression), false, "where they are sent", ""},
	{"reach", is(expression), false, "with only and never: the hosts or addresses behind all translation", ""},
	{"service", is(service), false, "which services; all where absent", ""},
	{"reaches", is(text), false, "the host that all of them must reach", ""},
	{"stops", is(flagShape), false, "true: none of them may reach anything", ""},
}}

var scheduleObject = &object{"when", []key{
	{"days", is(text), false, "as mon-fri or sat,sun; every day where absent", ""},
	{"hours", is(text), false, "as 08:00-18:00; all day where absent", ""},
}}

var (
	ownerKey = key{"owner", is(text), false, "whose it is", ""}
	untilKey = key{"until", is(text), false, "its last day, as 2027-01-31, or a time, as 2027-01-31 14:00; check says when that is over", ""}
)

var commonKeys = []key{
	{"log", is(flagShape), false, "write down what matches", ""},
	{"note", is(text), false, "why the rule is there", ""},
	{"when", of(block, scheduleObject), false, "the times it is active", ""},
	ownerKey,
	{"until", is(text), false, "its last day, as 2027-01-31, or a time, as 2027-01-31 14:00; it takes no part afterwards", ""},
	{"disabled", is(flagShape), false, "true takes the rule out", ""},
	{"accept", is(texts), false, "findings of check that are meant to be; the note says why", ""},
}

func ruleObject(name string, own ...key) *object {
	keys := append([]key{{name, is(text), true, "the rule's name", ""}}, own...)
	return &object{name, append(keys, commonKeys...)}
}

var onKey = key{"on", is(texts), true, "interfaces or zones it arrives on", "; bound to none, it would do nothing"}

// natObjects are the kinds of NAT rule, in the order of network.NATKind.
var natObjects = []*object{
	network.PortForward: ruleObject("port-forward", onKey,
		key{"service", is(service), true, "what the outsider connects to", ""},
		key{"to", is(text), true, "host or address, with :port, :port-port or a list of them where it differs", ""},
		key{"at", is(expression), false, "original destination; the interface's own addresses where absent", ""},
		key{"from", is(expression), false, "who may use it", ""},
		key{"hairpin", is(flagShape), false, "whether inside clients may use the outside address too", ""}),
	network.DestinationNAT: ruleObject("destination-nat", onKey,
		key{"to", is(text), true, "host or address, with :port where it differs", ""},
		key{"at", is(expression), false, "original destination; any where absent", ""},
		key{"from", is(expression), false, "whose connections", ""},
		key{"service", is(service), false, "which services; all where absent", ""}),
	network.OneToOne: ruleObject("one-to-one", onKey,
		key{"outside", is(text), true, "outside address, prefix or range", ""},
		key{"inside", is(text), true, "host, or as many inside addresses", ""},
		key{"hairpin", is(flagShape), false, "whether inside clients may use the outside address too", ""}),
	network.PrefixNAT: ruleObject("prefix-nat", onKey,
		key{"outside", is(text), true, "outside IPv6 prefix", ""},
		key{"inside", is(text), true, "inside IPv6 prefix of the same length", ""}),
	network.SourceNAT: ruleObject("source-nat",
		key{"on", is(texts), true, "interfaces or zones it leaves by", ""},
		key{"from", is(expression), false, "whose source", ""},
		key{"to", is(expression), false, "on the way to whom", ""},
		key{"service", is(service), false, "which services, as they go on; all where absent", ""},
		key{"as", is(texts), true, "interface, an address, or a range", ""},
		key{"ports", is(text), false, "ports to choose from; " + network.WithoutPorts, ""},
		key{"destination", is(text), false, "rewrites the destination too: address or host, with :port where it differs", ""}),
	network.NoNAT: ruleObject("no-nat",
		key{"on", is(texts), false, "interfaces or zones it leaves by; any where absent", ""},
		key{"from", is(expression), false, "whose source is kept", ""},
		key{"to", is(expression), false, "on the way to whom", ""},
		key{"service", is(service), false, "which services, as they go on; all where absent", ""}),
}

// filterObjects are the verbs of the filter, in the order of network.Verbs.
var filterObjects = func() []*object {
	var objects []*object
	for _, verb := range network.Verbs {
		objects = append(objects, ruleObject(string(verb),
			key{"from", is(expression), false, "came in by a zone, or these addresses", ""},
			key{"to", is(expression), false, "leaves by a zone, or these addresses", ""},
			key{"service", is(service), false, "which services; all where absent", ""},
			key{"source-ports", is(texts), false, "ports the connection comes from", ""},
			key{"redirected", is(flagShape), false, "true: only what a NAT rule led here", ""}))
	}
	return objects
}()
