package network

// A Severity is how much a finding matters.
type Severity string

// The severities.
const (
	Danger  Severity = "danger"
	Mistake Severity = "mistake"
	Note    Severity = "note"
)

// Severities lists them, the gravest first.
var Severities = []Severity{Danger, Mistake, Note}

// A FindingKind is a kind of thing that is valid but probably wrong or dangerous. What finds it
// stands in core/advice, by its subject; a rule can accept it by name.
type FindingKind uint8

// The findings, in the order in which they are told of one line.
const (
	HiddenRule FindingKind = iota
	RedundantRule
	HalfHidden
	SamePort
	ForwardNotPermitted
	WrongSide
	UnusedRule
	NoSuchHost
	DynamicTarget
	DynamicOutside
	NotServed
	HostRefuses
	UpstreamBlocks
	NotSentHere
	TLSToPlain
	OneToOneWide
	LeakingSource
	NoDefaultRoute
	BackupLeaks
	ICMPv6Dropped
	EmptyGroup
	GroupOfEverything
	AnyService
	AdministrationOpen
	DatabaseOpen
	FileSharingOpen
	ControlOpen
	AmplifierOpen
	ClearTextOpen
	GatewayOpen
	NobodyThere
	BesideUplink
	DropList
	DNSAnywhere
	NoHairpin
	NoTurnBack
	LogWithoutLogging
	BusyLog
	TooManyForwards
	PortsNearlyGone
	DisabledRule
	Expired
	ExpiresSoon
	MappingsOpen
	MappingsLowPorts
	MappingsForever
	MappingsOutside
	MappingsForNobody
	TwinAddress
)

var findings = [...]struct {
	name     string
	severity Severity
	why      string // one sentence
}{
	HiddenRule:          {"hidden-rule", Mistake, "A rule that can never match gives a false feeling of what is allowed or stopped."},
	RedundantRule:       {"redundant-rule", Note, "Rules in front of it say the same of all that it is for, so it changes nothing."},
	HalfHidden:          {"half-hidden", Note, "Part of what the rule is for is decided otherwise by a rule in front of it, and neither is the special case of the other."},
	SamePort:            {"same-port", Mistake, "Two forwards want the same outside address and port; only the first one gets it."},
	ForwardNotPermitted: {"forward-not-permitted", Mistake, "A forward that no filter rule lets through does nothing."},
	WrongSide:           {"wrong-side", Mistake, "The filter rule names the address or port on the side of the translation that this gateway's filter does not see."},
	UnusedRule:          {"unused-rule", Note, "No connection that can exist ever comes to this filter rule: it may be left over, or be meant for a forward that does not exist."},
	NoSuchHost:          {"no-such-host", Mistake, "Nobody has the address that the forward leads to."},
	DynamicTarget:       {"dynamic-target", Mistake, "A host whose address changes will one day not be where the forward leads."},
	DynamicOutside:      {"dynamic-outside", Mistake, "The provider gives this interface another address tomorrow, and then the rule is for nobody's."},
	NotServed:           {"not-served", Mistake, "The host does not listen on the port that the forward leads to."},
	HostRefuses:         {"host-refuses", Mistake, "The host's own firewall lets nobody in whom the forward sends there."},
	UpstreamBlocks:      {"upstream-blocks", Mistake, "The uplink's network does not let these connections in, so the forward can't be reached from outside."},
	NotSentHere:         {"not-sent-here", Mistake, "Packets for an outside address come only if it is in a prefix of the uplink, or if the provider sends them here."},
	TLSToPlain:          {"tls-to-plain", Mistake, "Clients speak TLS to this port; a plain page can't answer them, and they see an error."},
	OneToOneWide:        {"one-to-one-wide", Danger, "More is let through to the host than it serves today; whatever it starts tomorrow is open at once."},
	LeakingSource:       {"leaking-source", Mistake, "A private source that leaves untranslated can never be answered."},
	NoDefaultRoute:      {"no-default-route", Mistake, "A gateway without a default route reaches only what its routes name."},
	BackupLeaks:         {"backup-leaks", Mistake, "On the day the first uplink fails, the sources that it translates leave by the other one as they are, and no answer comes back."},
	ICMPv6Dropped:       {"icmpv6-dropped", Note, "Echo and errors of ICMPv6 are to pass (RFC 4890, 4.3.1): without them nobody can test a path, and where errors are lost too, connections hang once they carry much."},
	EmptyGroup:          {"empty-group", Mistake, "A rule for an empty group matches nobody."},
	GroupOfEverything:   {"group-of-everything", Danger, "A group that holds everything makes every rule that names it a rule for anybody."},
	AnyService:          {"any-service", Danger, "A rule from outside without services opens every port, also those nobody thought of."},
	AdministrationOpen:  {"administration-open", Danger, "Remote administration that everybody can reach is found and tried within hours."},
	DatabaseOpen:        {"database-open", Danger, "A database that everybody can reach is copied or held to ransom within days."},
	FileSharingOpen:     {"file-sharing-open", Danger, "File sharing is made for a trusted network; worms look for it all over the internet."},
	ControlOpen:         {"control-open", Danger, "Protocols of industrial control know no password: who reaches them moves the machine."},
	AmplifierOpen:       {"amplifier-open", Danger, "Who says he is somebody else makes it send that victim many times what he sends."},
	ClearTextOpen:       {"clear-text-open", Danger, "A clear-text service shows passwords and contents to everyone on the way."},
	GatewayOpen:         {"gateway-open", Danger, "The gateway's own administration can be reached from the internet."},
	NobodyThere:         {"nobody-there", Mistake, "Whatever is there without the file knowing, or is put there tomorrow, is open at once; or the rule is left over."},
	BesideUplink:        {"beside-uplink", Mistake, "Machines on the segment of an uplink, the provider's and his other customers', can hand the gateway packets for inside addresses; a rule for what is redirected alone does not let them through."},
	DropList:            {"drop-list", Note, "A machine that nobody has listed is let through; a list of who is allowed fails the other way."},
	DNSAnywhere:         {"dns-anywhere", Note, "People who are sent to a notice page can still ask any name server, and tunnel through it."},
	NoHairpin:           {"no-hairpin", Note, "People inside who use the outside name end at the gateway itself; other forwards of this gateway let them."},
	NoTurnBack:          {"no-turn-back", Mistake, "A hairpin for people beside the host has to leave by the interface it came in by, and the gateway refuses that."},
	LogWithoutLogging:   {"log-without-logging", Mistake, "The rule asks for logging, but the gateway's logging is off."},
	BusyLog:             {"busy-log", Note, "A rule that matches nearly everything fills the log, and what matters is not seen in it."},
	PortsNearlyGone:     {"ports-nearly-gone", Mistake, "Who gets no outside port any more gets no connection, and nobody is told why; more addresses, or a wider range of ports, make room."},
	TooManyForwards:     {"too-many-forwards", Mistake, "The gateway has no room for so many forwards."},
	DisabledRule:        {"disabled-rule", Note, "A rule that is switched off is often left over from a test."},
	Expired:             {"expired", Note, "What was for a time, and is left when that is over, hides what is meant; or it is still needed, and gone."},
	ExpiresSoon:         {"expires-soon", Note, "Somebody who still needs it on the day after is told too late."},
	MappingsOpen:        {"mappings-open", Danger, "Every machine, also one that nobody looks after, can open ports to itself for the internet."},
	MappingsLowPorts:    {"mappings-low-ports", Danger, "Ports below 1024 are those of well-known services; a program that opens one takes its place."},
	MappingsForever:     {"mappings-forever", Note, "Without a longest lifetime a mapping outlives the program that asked for it, up to a year."},
	MappingsOutside:     {"mappings-outside", Danger, "Whoever can ask from the internet opens the network from outside."},
	MappingsForNobody:   {"mappings-for-nobody", Mistake, "What no rule is for is refused, so without one that allows something every program is told no."},
	TwinAddress:         {"twin-address", Note, "Two hosts have the same address on different segments; rules that name one match both."},
}

// FindingKinds lists all kinds of finding.
func FindingKinds() []FindingKind {
	list := make([]FindingKind, len(findings))
	for i := range findings {
		list[i] = FindingKind(i)
	}
	return list
}

// FindingNames returns the names of all findings.
func FindingNames() []string {
	names := make([]string, len(findings))
	for i := range findings {
		names[i] = findings[i].name
	}
	return names
}

// FindingOf returns the finding of a name; ok is false where there is none.
func FindingOf(name string) (f FindingKind, ok bool) {
	for i := range findings {
		if findings[i].name == name {
			return FindingKind(i), true
		}
	}
	return 0, false
}

// String returns the finding's name.
func (f FindingKind) String() string { return findings[f].name }

// Severity returns how much it matters.
func (f FindingKind) Severity() Severity { return findings[f].severity }

// Why returns why it matters, as a sentence.
func (f FindingKind) Why() string { return findings[f].why }
