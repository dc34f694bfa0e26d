// Package igd is what a UPnP Internet Gateway Device, version 1 or 2, says of itself and how it is
// called: descriptions, calls and faults as they stand on the wire, and nothing else.
package igd

import (
	"encoding/xml"
	"fmt"
	"strings"
)

// A Service is one service of the device: its actions, and the variables that they are about.
type Service struct {
	Kind      string // as WANIPConnection
	Versions  [2]int // as parts of a device of version 1 and 2; 0 where it has none
	ID        string
	Path      string // of calls; its description stands there with .xml, its events with /events
	Actions   []Action
	Variables []Variable
}

// An Action is what a service can be asked for.
type Action struct {
	Name    string
	Since   int // the version of the service that has it first
	In, Out []Argument
}

// An Argument of an action is about a variable.
type Argument struct{ Name, Variable string }

// A Variable is part of a service's state.
type Variable struct {
	Name    string
	Type    string
	Values  []string // those that it can have; any where empty
	Evented bool
}

// Kinds of the device's services and parts, without their versions.
const (
	WANIPConnection          = "WANIPConnection"
	WANPPPConnection         = "WANPPPConnection" // which others' devices have
	WANCommonInterfaceConfig = "WANCommonInterfaceConfig"
	WANIPv6FirewallControl   = "WANIPv6FirewallControl"
	Layer3Forwarding         = "Layer3Forwarding"
	GatewayDevice            = "InternetGatewayDevice"
	WANDevice                = "WANDevice"
	WANConnectionDevice      = "WANConnectionDevice"
)

const (
	devicePrefix  = "urn:schemas-upnp-org:device:"
	servicePrefix = "urn:schemas-upnp-org:service:"
)

// ServiceType returns the type of a service of a version.
func ServiceType(kind string, version int) string {
	return fmt.Sprintf("%s%s:%d", servicePrefix, kind, version)
}

// DeviceType returns the type of a device of a version.
func DeviceType(kind string, version int) string {
	return fmt.Sprintf("%s%s:%d", devicePrefix, kind, version)
}

// args makes arguments of "name variable" pairs.
func args(pairs ...string) []Argument {
	var list []Argument
	for i := 0; i < len(pairs); i += 2 {
		list = append(list, Argument{pairs[i], pairs[i+1]})
	}
	return list
}

// mappingKey is what a mapping is known by, and mappingEntry what it is else.
var (
	mappingKey   = args("NewRemoteHost", "RemoteHost", "NewExternalPort", "ExternalPort", "NewProtocol", "PortMappingProtocol")
	mappingEntry = args("NewInternalPort", "InternalPort", "NewInternalClient", "InternalClient", "NewEnabled", "PortMappingEnabled",
		"NewPortMappingDescription", "PortMappingDescription", "NewLeaseDuration", "PortMappingLeaseDuration")
	wholeMapping = append(append([]Argument(nil), mappingKey...), mappingEntry...)
	portRange    = args("NewStartPort", "ExternalPort", "NewEndPort", "ExternalPort", "NewProtocol", "PortMappingProtocol", "NewManage", "A_ARG_TYPE_Manage")
)

// ConnectionID names the service that maps ports.
const ConnectionID = "urn:upnp-org:serviceId:WANIPConn1"

// Services are those of the device (WANIPConnection:1 and :2, WANCommonInterfaceConfig:1, Layer3Forwarding:1 and
// WANIPv6FirewallControl:1 of the UPnP Forum).
var Services = []*Service{
	{
		Kind: Layer3Forwarding, Versions: [2]int{1, 1}, ID: "urn:upnp-org:serviceId:L3Forwarding1", Path: "/forwarding",
		Actions: []Action{
			{"SetDefaultConnectionService", 1, args("NewDefaultConnectionService", "DefaultConnectionService"), nil},
			{"GetDefaultConnectionService", 1, nil, args("NewDefaultConnectionService", "DefaultConnectionService")},
		},
		Variables: []Variable{{"DefaultConnectionService", "string", nil, true}},
	},
	{
		Kind: WANCommonInterfaceConfig, Versions: [2]int{1, 1}, ID: "urn:upnp-org:serviceId:WANCommonIFC1", Path: "/common",
		Actions: []Action{{"GetCommonLinkProperties", 1, nil, args("NewWANAccessType", "WANAccessType", "NewLayer1UpstreamMaxBitRate", "Layer1UpstreamMaxBitRate",
			"NewLayer1DownstreamMaxBitRate", "Layer1DownstreamMaxBitRate", "NewPhysicalLinkStatus", "PhysicalLinkStatus")}},
		Variables: []Variable{{"WANAccessType", "string", []string{"DSL", "POTS", "Cable", "Ethernet"}, false}, {"Layer1UpstreamMaxBitRate", "ui4", nil, false},
			{"Layer1DownstreamMaxBitRate", "ui4", nil, false}, {"PhysicalLinkStatus", "string", []string{"Up", "Down"}, true}},
	},
	{
		Kind: WANIPConnection, Versions: [2]int{1, 2}, ID: ConnectionID, Path: "/connection",
		Actions: []Action{
			{"SetConnectionType", 1, args("NewConnectionType", "ConnectionType"), nil},
			{"GetConnectionTypeInfo", 1, nil, args("NewConnectionType", "ConnectionType", "NewPossibleConnectionTypes", "PossibleConnectionTypes")},
			{"RequestConnection", 1, nil, nil},
			{"ForceTermination", 1, nil, nil},
			{"GetStatusInfo", 1, nil, args("NewConnectionStatus", "ConnectionStatus", "NewLastConnectionError", "LastConnectionError", "NewUptime", "Uptime")},
			{"GetNATRSIPStatus", 1, nil, args("NewRSIPAvailable", "RSIPAvailable", "NewNATEnabled", "NATEnabled")},
			{"GetGenericPortMappingEntry", 1, args("NewPortMappingIndex", "PortMappingNumberOfEntries"), wholeMapping},
			{"GetSpecificPortMappingEntry", 1, mappingKey, mappingEntry},
			{"AddPortMapping", 1, wholeMapping, nil},
			{"AddAnyPortMapping", 2, wholeMapping, args("NewReservedPort", "ExternalPort")},
			{"DeletePortMapping", 1, mappingKey, nil},
			{"DeletePortMappingRange", 2, portRange, nil},
			{"GetExternalIPAddress", 1, nil, args("NewExternalIPAddress", "ExternalIPAddress")},
			{"GetListOfPortMappings", 2, append(append([]Argument(nil), portRange...), Argument{"NewNumberOfPorts", "PortMappingNumberOfEntries"}), args("NewPortListing", "A_ARG_TYPE_PortListing")},
		},
		Variables: []Variable{
			{"ConnectionType", "string", nil, false}, {"PossibleConnectionTypes", "string", []string{"Unconfigured", "IP_Routed", "IP_Bridged"}, true},
			{"ConnectionStatus", "string", []string{"Unconfigured", "Connecting", "Connected", "PendingDisconnect", "Disconnecting", "Disconnected"}, true},
			{"LastConnectionError", "string", []string{"ERROR_NONE"}, false}, {"Uptime", "ui4", nil, false}, {"RSIPAvailable", "boolean", nil, false},
			{"NATEnabled", "boolean", nil, false}, {"ExternalIPAddress", "string", nil, true}, {"PortMappingNumberOfEntries", "ui2", nil, true},
			{"RemoteHost", "string", nil, false}, {"ExternalPort", "ui2", nil, false}, {"PortMappingProtocol", "string", []string{"TCP", "UDP"}, false},
			{"InternalPort", "ui2", nil, false}, {"InternalClient", "string", nil, false}, {"PortMappingEnabled", "boolean", nil, false},
			{"PortMappingDescription", "string", nil, false}, {"PortMappingLeaseDuration", "ui4", nil, false},
			{"A_ARG_TYPE_Manage", "boolean", nil, false}, {"A_ARG_TYPE_PortListing", "string", nil, false}, {"SystemUpdateID", "ui4", nil, true},
		},
	},
	{
		Kind: WANIPv6FirewallControl, Versions: [2]int{0, 1}, ID: "urn:upnp-org:serviceId:WANIPv6Firewall1", Path: "/firewall",
		Actions: []Action{
			{"GetFirewallStatus", 1, nil, args("FirewallEnabled", "FirewallEnabled", "InboundPinholeAllowed", "InboundPinholeAllowed")},
			{"AddPinhole", 1, args("RemoteHost", "A_ARG_TYPE_IPv6Address", "RemotePort", "A_ARG_TYPE_Port", "InternalClient", "A_ARG_TYPE_IPv6Address",
				"InternalPort", "A_ARG_TYPE_Port", "Protocol", "A_ARG_TYPE_Protocol", "LeaseTime", "A_ARG_TYPE_LeaseTime"), args("UniqueID", "A_ARG_TYPE_UniqueID")},
			{"UpdatePinhole", 1, args("UniqueID", "A_ARG_TYPE_UniqueID", "NewLeaseTime", "A_ARG_TYPE_LeaseTime"), nil},
			{"DeletePinhole", 1, args("UniqueID", "A_ARG_TYPE_UniqueID"), nil},
			{"GetPinholePackets", 1, args("UniqueID", "A_ARG_TYPE_UniqueID"), args("PinholePackets", "A_ARG_TYPE_PinholePackets")},
		},
		Variables: []Variable{
			{"FirewallEnabled", "boolean", nil, true}, {"InboundPinholeAllowed", "boolean", nil, true}, {"A_ARG_TYPE_IPv6Address", "string", nil, false},
			{"A_ARG_TYPE_Port", "ui2", nil, false}, {"A_ARG_TYPE_Protocol", "ui2", nil, false}, {"A_ARG_TYPE_LeaseTime", "ui4", nil, false}, {"A_ARG_TYPE_UniqueID", "ui2", nil, false},
			{"A_ARG_TYPE_PinholePackets", "ui4", nil, false},
		},
	},
}

// Action returns an action of the service in a version, or nil.
func (s *Service) Action(name string, version int) *Action {
	for i := range s.Actions {
		if a := &s.Actions[i]; a.Name == name && a.Since <= version {
			return a
		}
	}
	return nil
}

// Paths of the descriptions of the device, as one of version 1 and as one of version 2.
var DevicePaths = [2]string{"/igd1.xml", "/igd2.xml"}

// A Device is what is said of this one.
type Device struct {
	UUID   string // of the root; the parts have others, made of it
	Name   string // for people
	Serial string
}

// PartUUID returns the UUID of a part: 0 is the root, 1 and 2 what is in it.
func (d *Device) PartUUID(part int) string {
	if part == 0 {
		return d.UUID
	}
	return fmt.Sprintf("%s%02x", d.UUID[:len(d.UUID)-2], part)
}

// Describe returns the description of the device in a version, 1 or 2.
func (d *Device) Describe(version int) []byte {
	var b strings.Builder
	b.WriteString(xml.Header)
	b.WriteString(`<root xmlns="urn:schemas-upnp-org:device-1-0" configId="1"><specVersion><major>1</major><minor>1</minor></specVersion>`)
	device := func(kind string, part int, services []string, inside func()) {
		fmt.Fprintf(&b, "<device><deviceType>%s</deviceType><friendlyName>%s</friendlyName><manufacturer>hollowbridge</manufacturer>"+
			"<modelName>hollowbridge</modelName><serialNumber>%s</serialNumber><UDN>uuid:%s</UDN>", DeviceType(kind, version), escape(d.Name), escape(d.Serial), d.PartUUID(part))
		var list strings.Builder
		for _, s := range Services {
			for _, kind := range services {
				if s.Kind == kind && s.Versions[version-1] > 0 {
					fmt.Fprintf(&list, "<service><serviceType>%s</serviceType><serviceId>%s</serviceId><SCPDURL>%s%d.xml</SCPDURL><controlURL>%s</controlURL><eventSubURL>%s/events</eventSubURL></service>",
						ServiceType(s.Kind, s.Versions[version-1]), s.ID, s.Path, s.Versions[version-1], s.Path, s.Path)
				}
			}
		}
		if list.Len() > 0 {
			fmt.Fprintf(&b, "<serviceList>%s</serviceList>", list.String())
		}
		if inside != nil {
			b.WriteString("<deviceList>")
			inside()
			b.WriteString("</deviceList>")
		}
		b.WriteString("</device>")
	}
	device(GatewayDevice, 0, []string{Layer3Forwarding}, func() {
		device(WANDevice, 1, []string{WANCommonInterfaceConfig}, func() {
			device(WANConnectionDevice, 2, []string{WANIPConnection, WANIPv6FirewallControl}, nil)
		})
	})
	b.WriteString("</root>\n")
	return []byte(b.String())
}

// Describe returns the description of the service in a version.
func (s *Service) Describe(version int) []byte {
	var b strings.Builder
	b.WriteString(xml.Header)
	b.WriteString(`<scpd xmlns="urn:schemas-upnp-org:service-1-0" configId="1"><specVersion><major>1</major><minor>0</minor></specVersion><actionList>`)
	for i := range s.Actions {
		a := &s.Actions[i]
		if a.Since > version {
			continue
		}
		fmt.Fprintf(&b, "<action><name>%s</name><argumentList>", a.Name)
		for _, of := range []struct {
			way  string
			list []Argument
		}{{"in", a.In}, {"out", a.Out}} {
			for _, arg := range of.list {
				fmt.Fprintf(&b, "<argument><name>%s</name><direction>%s</direction><relatedStateVariable>%s</relatedStateVariable></argument>", arg.Name, of.way, arg.Variable)
			}
		}
		b.WriteString("</argumentList></action>")
	}
	b.WriteString("</actionList><serviceStateTable>")
	for _, v := range s.Variables {
		events := "no"
		if v.Evented {
			events = "yes"
		}
		fmt.Fprintf(&b, `<stateVariable sendEvents="%s"><name>%s</name><dataType>%s</dataType>`, events, v.Name, v.Type)
		if len(v.Values) > 0 {
			b.WriteString("<allowedValueList>")
			for _, value := range v.Values {
				fmt.Fprintf(&b, "<allowedValue>%s</allowedValue>", value)
			}
			b.WriteString("</allowedValueList>")
		}
		b.WriteString("</stateVariable>")
	}
	b.WriteString("</serviceStateTable></scpd>\n")
	return []byte(b.String())
}

func escape(text string) string {
	var b strings.Builder
	xml.EscapeText(&b, []byte(text))
	return b.String()
}
