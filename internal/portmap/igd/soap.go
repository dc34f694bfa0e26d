package igd

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
)

// Bounds of what is read.
const (
	MostCall  = 16 << 10 // bytes of a call, or of an answer to one
	mostDeep  = 8        // elements within each other
	mostNames = 64       // elements
	mostText  = 1024     // bytes of the value of an argument, but for the lists that a device answers
	mostList  = 64 << 10
)

const (
	envelopeSpace = "http://schemas.xmlsoap.org/soap/envelope/"
	encodingStyle = "http://schemas.xmlsoap.org/soap/encoding/"
	controlSpace  = "urn:schemas-upnp-org:control-1-0"
)

// Args are the arguments of a call, or of its answer, by name.
type Args map[string]string

// A Call asks a service for an action.
type Call struct {
	Kind    string // of the service
	Version int
	Action  string
	Args    Args
}

// A Fault is an error that a device answers, by a code of the standards.
type Fault struct {
	Code        int
	Description string
}

func (f *Fault) Error() string { return fmt.Sprintf("%d %s", f.Code, f.Description) }

// Codes of faults (UPnP Device Architecture 3.2.2, WANIPConnection:2 2.5, WANIPv6FirewallControl:1
// 2.6).
const (
	InvalidAction           = 401
	InvalidArgs             = 402
	ActionFailed            = 501
	ValueInvalid            = 600
	ValueOutOfRange         = 601
	StringTooLong           = 605
	NotAuthorized           = 606
	PinholeSpaceExhausted   = 701
	NoSuchPinhole           = 704
	PinholeProtocol         = 705
	PinholePortWildcard     = 706
	PinholeProtocolWildcard = 707
	ArrayIndexInvalid       = 713
	NoSuchEntry             = 714
	WildcardSource          = 715
	WildcardPort            = 716
	Conflict                = 718
	NoPortMapsAvailable     = 728
	ConflictingMechanism    = 729
	PortMappingNotFound     = 730
	WildcardInternalPort    = 732
	Inconsistent            = 733
)

var faults = map[int]string{
	InvalidAction: "Invalid Action", InvalidArgs: "Invalid Args", ActionFailed: "Action Failed", ValueInvalid: "Argument Value Invalid",
	ValueOutOfRange: "Argument Value Out of Range", StringTooLong: "String Argument Too Long", NotAuthorized: "Action not authorized",
	PinholeSpaceExhausted: "PinholeSpaceExhausted", NoSuchPinhole: "NoSuchEntry", PinholeProtocol: "ProtocolNotSupported",
	PinholePortWildcard: "InternalPortWildcardingNotAllowed", PinholeProtocolWildcard: "ProtocolWildcardingNotAllowed",
	ArrayIndexInvalid: "SpecifiedArrayIndexInvalid", NoSuchEntry: "NoSuchEntryInArray", WildcardSource: "WildCardNotPermittedInSrcIP",
	WildcardPort: "WildCardNotPermittedInExtPort", Conflict: "ConflictInMappingEntry", NoPortMapsAvailable: "NoPortMapsAvailable",
	ConflictingMechanism: "ConflictWithOtherMechanisms", PortMappingNotFound: "PortMappingNotFound", WildcardInternalPort: "WildCardNotPermittedInIntPort",
	Inconsistent: "InconsistentParameters",
}

// NewFault returns a fault by its code.
func NewFault(code int) *Fault { return &Fault{code, faults[code]} }

// A node is an element: its children, or its text.
type node struct {
	name     xml.Name
	children []*node
	text     string
}

func (n *node) child(name string) *node {
	for _, c := range n.children {
		if c.name.Local == name {
			return c
		}
	}
	return nil
}

// parse reads a document within bounds. Declarations of documents and entities, and instructions
// other than the first line's, are errors.
func parse(data []byte, longest int) (*node, error) {
	d := xml.NewDecoder(bytes.NewReader(data))
	d.Entity = nil
	var open []*node
	var root *node
	count := 0
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) && root != nil && len(open) == 0 {
			return root, nil
		}
		if err != nil {
			return nil, fmt.Errorf("no XML: %w", err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			if count++; count > mostNames || len(open) >= mostDeep || root != nil && len(open) == 0 {
				return nil, errors.New("XML with too many elements")
			}
			n := &node{name: t.Name}
			if len(open) > 0 {
				parent := open[len(open)-1]
				parent.children = append(parent.children, n)
			} else {
				root = n
			}
			open = append(open, n)
		case xml.EndElement:
			open = open[:len(open)-1]
		case xml.CharData:
			if len(open) == 0 {
				continue
			}
			n := open[len(open)-1]
			if len(n.text)+len(t) > longest {
				return nil, errors.New("XML with a value that is too long")
			}
			n.text += string(t)
		case xml.ProcInst:
			if t.Target != "xml" {
				return nil, errors.New("XML with instructions")
			}
		case xml.Directive:
			return nil, errors.New("XML that declares entities or a kind of document")
		}
	}
}

// body returns what stands in the body of an envelope.
func body(data []byte, longest int) (*node, error) {
	if len(data) > max(MostCall, longest) {
		return nil, errors.New("a message that is too long")
	}
	root, err := parse(data, longest)
	if err != nil {
		return nil, err
	}
	if root.name != (xml.Name{Space: envelopeSpace, Local: "Envelope"}) {
		return nil, errors.New("no envelope of SOAP")
	}
	b := root.child("Body")
	if b == nil || len(b.children) != 1 {
		return nil, errors.New("an envelope of SOAP whose body is not one element")
	}
	return b.children[0], nil
}

// ParseCall reads a call: its body, and the header SOAPACTION, which must say the same. A call that
// the device has no action for is a Fault.
func ParseCall(data []byte, header string) (*Call, *Service, error) {
	n, err := body(data, mostText)
	if err != nil {
		return nil, nil, err
	}
	kind, version, ok := splitService(n.name.Space)
	if !ok || strings.Trim(header, `"`) != n.name.Space+"#"+n.name.Local {
		return nil, nil, NewFault(InvalidAction)
	}
	at := slices.IndexFunc(Services, func(s *Service) bool { return s.Kind == kind })
	if at < 0 || version > Services[at].Versions[1] {
		return nil, nil, NewFault(InvalidAction)
	}
	s := Services[at]
	action := s.Action(n.name.Local, version)
	if action == nil {
		return nil, nil, NewFault(InvalidAction)
	}
	c := &Call{Kind: kind, Version: version, Action: action.Name, Args: Args{}}
	for _, arg := range n.children {
		if _, twice := c.Args[arg.name.Local]; twice || len(arg.children) > 0 {
			return nil, nil, NewFault(InvalidArgs)
		}
		c.Args[arg.name.Local] = strings.TrimSpace(arg.text)
	}
	for _, in := range action.In {
		if _, has := c.Args[in.Name]; !has {
			return nil, nil, NewFault(InvalidArgs)
		}
	}
	return c, s, nil
}

// splitService takes the type of a service apart.
func splitService(text string) (kind string, version int, ok bool) {
	rest, ok := strings.CutPrefix(text, servicePrefix)
	kind, number, found := strings.Cut(rest, ":")
	version, err := strconv.Atoi(number)
	return kind, version, ok && found && err == nil && version > 0
}

// Header returns what SOAPACTION says of the call.
func (c *Call) Header() string {
	return fmt.Sprintf("%q", ServiceType(c.Kind, c.Version)+"#"+c.Action)
}

// Append appends the call as it stands on the wire.
func (c *Call) Append(b []byte) []byte {
	a := serviceOf(c.Kind).Action(c.Action, c.Version)
	return message(b, ServiceType(c.Kind, c.Version), c.Action, a.In, c.Args)
}

// AppendAnswer appends the answer to the call.
func (c *Call) AppendAnswer(b []byte, out Args) []byte {
	a := serviceOf(c.Kind).Action(c.Action, c.Version)
	return message(b, ServiceType(c.Kind, c.Version), c.Action+"Response", a.Out, out)
}

// serviceOf returns a service by its kind. One of a dialed line has the same actions (WANPPPConnection:1, 2.4).
func serviceOf(kind string) *Service {
	if kind == WANPPPConnection {
		kind = WANIPConnection
	}
	return Services[slices.IndexFunc(Services, func(s *Service) bool { return s.Kind == kind })]
}

func message(b []byte, space, name string, order []Argument, args Args) []byte {
	b = envelope(b)
	b = fmt.Appendf(b, `<u:%s xmlns:u="%s">`, name, space)
	for _, arg := range order {
		b = fmt.Appendf(b, "<%s>%s</%s>", arg.Name, escape(args[arg.Name]), arg.Name)
	}
	return fmt.Appendf(b, "</u:%s></s:Body></s:Envelope>\n", name)
}

func envelope(b []byte) []byte {
	return fmt.Appendf(b, `%s<s:Envelope xmlns:s="%s" s:encodingStyle="%s"><s:Body>`, xml.Header, envelopeSpace, encodingStyle)
}

// Append appends the fault as it stands on the wire; it is answered with HTTP's status 500.
func (f *Fault) Append(b []byte) []byte {
	b = envelope(b)
	return fmt.Appendf(b, `<s:Fault><faultcode>s:Client</faultcode><faultstring>UPnPError</faultstring><detail><UPnPError xmlns="%s">`+
		"<errorCode>%d</errorCode><errorDescription>%s</errorDescription></UPnPError></detail></s:Fault></s:Body></s:Envelope>\n", controlSpace, f.Code, escape(f.Description))
}

// ParseAnswer reads the answer to the call. One that refuses is a Fault.
func (c *Call) ParseAnswer(data []byte) (Args, error) {
	n, err := body(data, mostList)
	if err != nil {
		return nil, err
	}
	if n.name.Local == "Fault" {
		detail := n.child("detail")
		if detail == nil || detail.child("UPnPError") == nil {
			return nil, errors.New("a fault that says nothing")
		}
		said, f := detail.child("UPnPError"), &Fault{}
		if code := said.child("errorCode"); code != nil {
			f.Code, _ = strconv.Atoi(strings.TrimSpace(code.text))
		}
		if text := said.child("errorDescription"); text != nil {
			f.Description = strings.TrimSpace(text.text)
		}
		return nil, f
	}
	if n.name.Local != c.Action+"Response" {
		return nil, fmt.Errorf("no answer to %s", c.Action)
	}
	out := Args{}
	for _, arg := range n.children {
		out[arg.name.Local] = strings.TrimSpace(arg.text)
	}
	return out, nil
}

// A Control is where a service of a device is called.
type Control struct {
	Kind    string
	Version int
	URL     string // as it stands in the description
}

// ParseDescription reads from the description of a device where its services are called.
func ParseDescription(data []byte) (base string, list []Control, err error) {
	if len(data) > MostDescription {
		return "", nil, errors.New("a description that is too long")
	}
	d := xml.NewDecoder(bytes.NewReader(data))
	d.Entity = nil
	type service struct {
		Type    string `xml:"serviceType"`
		Control string `xml:"controlURL"`
	}
	type device struct {
		Services []service `xml:"serviceList>service"`
		Parts    []struct {
			Services []service `xml:"serviceList>service"`
			Parts    []struct {
				Services []service `xml:"serviceList>service"`
			} `xml:"deviceList>device"`
		} `xml:"deviceList>device"`
	}
	var root struct {
		Base   string `xml:"URLBase"`
		Device device `xml:"device"`
	}
	if bytes.Contains(data, []byte("<!")) && bytes.Contains(data, []byte("<!DOCTYPE")) {
		return "", nil, errors.New("a description that declares a kind of document")
	}
	if err := d.Decode(&root); err != nil {
		return "", nil, fmt.Errorf("no description: %w", err)
	}
	add := func(services []service) {
		for _, s := range services {
			if kind, version, ok := splitService(strings.TrimSpace(s.Type)); ok {
				list = append(list, Control{kind, version, strings.TrimSpace(s.Control)})
			}
		}
	}
	add(root.Device.Services)
	for _, part := range root.Device.Parts {
		add(part.Services)
		for _, inner := range part.Parts {
			add(inner.Services)
		}
	}
	return strings.TrimSpace(root.Base), list, nil
}

// MostDescription is how many bytes of a description are read.
const MostDescription = 256 << 10

// A Listed mapping is one of GetListOfPortMappings.
type Listed struct {
	RemoteHost  string `xml:"NewRemoteHost"`
	External    uint16 `xml:"NewExternalPort"`
	Protocol    string `xml:"NewProtocol"`
	Internal    uint16 `xml:"NewInternalPort"`
	Client      string `xml:"NewInternalClient"`
	Enabled     int    `xml:"NewEnabled"`
	Description string `xml:"NewDescription"`
	Lease       uint32 `xml:"NewLeaseTime"`
}

// AppendListing writes the list that GetListOfPortMappings answers: a document of its own.
func AppendListing(b []byte, list []Listed) []byte {
	b = append(b, xml.Header...)
	b = append(b, `<p:PortMappingList xmlns:p="urn:schemas-upnp-org:gw:WANIPConnection">`...)
	for _, l := range list {
		b = fmt.Appendf(b, "<p:PortMappingEntry><p:NewRemoteHost>%s</p:NewRemoteHost><p:NewExternalPort>%d</p:NewExternalPort><p:NewProtocol>%s</p:NewProtocol>"+
			"<p:NewInternalPort>%d</p:NewInternalPort><p:NewInternalClient>%s</p:NewInternalClient><p:NewEnabled>%d</p:NewEnabled>"+
			"<p:NewDescription>%s</p:NewDescription><p:NewLeaseTime>%d</p:NewLeaseTime></p:PortMappingEntry>",
			escape(l.RemoteHost), l.External, escape(l.Protocol), l.Internal, escape(l.Client), l.Enabled, escape(l.Description), l.Lease)
	}
	return append(b, "</p:PortMappingList>"...)
}
