package network

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"hollowbridge/core/header"
)

// A NATKind is one of the kinds of NAT rule.
type NATKind uint8

// The kinds of NAT rule.
const (
	PortForward NATKind = iota
	DestinationNAT
	OneToOne
	PrefixNAT
	SourceNAT
	NoNAT
	Mapped // by a program: such a rule stands in no file
)

// natKinds is all that is said of a kind of rule apart from the keys it has in the file
// (internal/netfile/schema.go) and what it does to a packet (core/engine, steps 3 and 8).
var natKinds = [...]struct {
	name    string
	permits bool // brings its own permission with `forwards: carry-permission`

	// listens returns the destinations it is for of what arrives by an interface; nil where
	// rules of the kind are not looked at when the destination is translated.
	listens func(r *NATRule, in *Interface) header.Addresses
	// hides returns the sources it can be for of what leaves by an interface; nil where rules
	// of the kind are not looked at when the source is translated.
	hides  func(r *NATRule, out *Interface) header.Addresses
	claims func(r *NATRule) header.Addresses // its outside addresses
	reads  func(r *NATRule) string           // half a sentence
}{
	PortForward: {name: "port-forward", permits: true, listens: (*NATRule).forwardListens, reads: (*NATRule).forwardText, claims: func(r *NATRule) header.Addresses {
		if r.At.IsAll() {
			return header.Addresses{}
		}
		return r.At
	}},
	DestinationNAT: {name: "destination-nat", permits: true, listens: (*NATRule).forwardListens, reads: (*NATRule).forwardText, claims: nothing},
	OneToOne:       {name: "one-to-one", listens: outsideOf, hides: insideOf, claims: func(r *NATRule) header.Addresses { return header.AddressesOf(r.Outside) }, reads: bothWaysText},
	PrefixNAT:      {name: "prefix-nat", listens: outsideOf, hides: insideOf, claims: func(r *NATRule) header.Addresses { return header.AddressesOf(r.Outside) }, reads: bothWaysText},
	SourceNAT:      {name: "source-nat", hides: (*NATRule).poolHides, claims: func(r *NATRule) header.Addresses { return r.As.Set }, reads: sourceText},
	NoNAT: {name: "no-nat", hides: func(*NATRule, *Interface) header.Addresses { return header.AllAddresses() }, claims: nothing, reads: func(r *NATRule) string {
		text := fmt.Sprintf("%s%s%s: source kept", cmp.Or(r.From.Text, "any"), toText(r.To), serviceText(r.Service))
		if len(r.On) > 0 {
			text += ", out by " + r.onText()
		}
		return text
	}},
	Mapped: {name: MappingKind, permits: true, listens: (*NATRule).forwardListens, claims: nothing, reads: (*NATRule).forwardText},
}

func (k NATKind) String() string { return natKinds[k].name }

// RewritesDestination reports whether rules of the kind are looked at when the
// destination is translated.
func (k NATKind) RewritesDestination() bool { return natKinds[k].listens != nil }

// RewritesSource reports whether rules of the kind are looked at when the
// source is translated.
func (k NATKind) RewritesSource() bool { return natKinds[k].hides != nil }

// Permits reports whether rules of the kind are forwards, which bring their own
// permission at gateways with `forwards: carry-permission`.
func (k NATKind) Permits() bool { return natKinds[k].permits }

// NATKindNames returns the names of the kinds that stand in a file, in the order of NATKind.
func NATKindNames() []string {
	names := make([]string, Mapped)
	for i := range names {
		names[i] = natKinds[i].name
	}
	return names
}

// Listens returns the destinations that the rule translates of what arrives by an interface:
// none where it is not for that, or for no destination. By the rule's own hairpin it is also
// for what arrives from inside.
func (r *NATRule) Listens(in *Interface) header.Addresses {
	if !r.Does.RewritesDestination() || !slices.Contains(r.On, in) && !r.HairpinsAt(in) {
		return header.Addresses{}
	}
	return natKinds[r.Does].listens(r, in)
}

// HairpinsAt reports whether what arrives by an interface comes to the rule by its hairpin.
func (r *NATRule) HairpinsAt(in *Interface) bool {
	return r.Hairpin && !in.IsUplink() && !slices.Contains(r.On, in)
}

// Hides returns the sources that the rule can be for of what leaves by an interface.
func (r *NATRule) Hides(out *Interface) header.Addresses {
	if !r.Does.RewritesSource() || len(r.On) > 0 && !slices.Contains(r.On, out) {
		return header.Addresses{}
	}
	return natKinds[r.Does].hides(r, out)
}

// Claims returns the outside addresses of a rule; none where it is disabled.
func (r *NATRule) Claims() header.Addresses {
	if r.Off() {
		return header.Addresses{}
	}
	return natKinds[r.Does].claims(r)
}

// Text says in half a sentence what the rule does.
func (r *NATRule) Text() string { return natKinds[r.Does].reads(r) }

func nothing(*NATRule) header.Addresses { return header.Addresses{} }

func outsideOf(r *NATRule, _ *Interface) header.Addresses { return header.AddressesOf(r.Outside) }

func insideOf(r *NATRule, _ *Interface) header.Addresses { return header.AddressesOf(r.Inside) }

// forwardListens returns the original destinations of a forward: those written, or the
// addresses of the interface, or, by its hairpin, of those that it is bound to.
func (r *NATRule) forwardListens(in *Interface) header.Addresses {
	to := r.At
	switch {
	case r.AtOwn && slices.Contains(r.On, in):
		to = in.Own()
	case r.AtOwn:
		to = r.OwnAddresses()
	}
	return to.Intersect(r.Target.Families())
}

// OwnAddresses returns the addresses of the interfaces that the rule is bound to.
func (r *NATRule) OwnAddresses() header.Addresses {
	var own header.Addresses
	for _, i := range r.On {
		own = own.Union(i.Own())
	}
	return own
}

// poolHides returns all sources of the families of which a source-nat rule has an address.
func (r *NATRule) poolHides(out *Interface) header.Addresses {
	var families header.Addresses
	for _, family := range header.Families {
		_, has := r.As.Set.FirstOf(family)
		if r.As.Interface {
			_, has = out.Address(family)
		}
		if has && (!r.Destination.IsValid() || header.FamilyOf(r.Destination) == family) {
			families = families.Union(family.All())
		}
	}
	return families
}

func (r *NATRule) onText() string { return strings.Join(InterfaceNames(r.On), ", ") }

func bothWaysText(r *NATRule) string {
	return fmt.Sprintf("%s: %s <-> %s", r.onText(), r.AtText, r.TargetAs)
}

func sourceText(r *NATRule) string {
	text := fmt.Sprintf("%s%s%s, out by %s, as %s", cmp.Or(r.From.Text, "any"), toText(r.To), serviceText(r.Service), r.onText(), r.As.Text)
	if r.SourcePorts.First != 0 {
		text += ", ports " + r.SourcePorts.String()
	}
	if r.DestinationAs != "" {
		text += ", to " + r.DestinationAs + " instead"
	}
	return text
}

func serviceText(service string) string {
	if service == "" {
		return ""
	}
	return ", " + service
}

func toText(to Expression) string {
	if to.IsAny() {
		return ""
	}
	return " to " + to.Text
}

func (r *NATRule) forwardText() string {
	text := r.onText() + ":"
	if !r.AtOwn {
		text += " " + cmp.Or(r.AtText, "any")
	}
	if len(r.Ports) == 0 {
		text += " any service"
	}
	for i, m := range r.Ports {
		if i > 0 {
			text += ","
		}
		text += " " + header.Service{Protocol: m.Protocol, Ports: m.Ports}.String()
	}
	text += " -> " + r.TargetAs
	if !r.From.IsAny() {
		text += ", from " + r.From.Text
	}
	return text
}
