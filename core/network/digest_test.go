package network

import (
	"net/netip"
	"reflect"
	"testing"

	"hollowbridge/core/header"
)

// Aside are the fields of rules that say nothing of what happens to a packet; any other has to be in the digest.
var aside = map[string]string{
	"Gateway": "a rule is compared with one of the same gateway", "Name": "what it is called", "Number": "where it stands is told by its list",
	"Note": "why", "Owner": "whose", "Accept": "what check says", "Place": "where in the file", "Log": "what is written down",
	"AtText": "as written", "Service": "as written", "TargetAs": "as written", "TargetIs": "as written", "DestinationAs": "as written",
	"Text": "as written", "ServiceText": "as written", "Host": "a host stands for its addresses, which are in Set",
	"Until": "it is over then, which is another field", "Expired": "by the time that is asked about, as is gone",
	"Prefixes": "made of Outside and Inside", "Does": "Kind says it", "Verb": "Kind says it",
}

// Whatever field of a rule is given another value, its digest is another one: so nothing that is recompiled, and
// nothing that is compared, can miss it.
func TestEveryFieldOfARuleIsInItsDigest(t *testing.T) {
	fields := 0
	iface := &Interface{Name: "fibre", Index: 1}
	set := header.Single(netip.MustParseAddr("10.0.0.1"))
	expression := func() Expression {
		return Expression{Items: []Item{{Set: set, Zone: "yard", List: []Item{{Set: set}}, Except: &Expression{Items: []Item{{Set: set}}}}}}
	}
	when := func() *Schedule { return &Schedule{Days: [7]bool{true}, First: 10, Last: 20} }
	nat := func() any {
		return &NATRule{
			Rule: Rule{Kind: "port-forward", When: when(), over: 1000}, On: []*Interface{iface}, From: expression(), To: expression(), At: set, Ports: []PortMap{{Protocol: header.TCP, Ports: header.Ports{First: 1, Last: 2}}},
			Services: header.Services{{Protocol: header.TCP, Ports: header.Ports{First: 1, Last: 2}}}, As: Pool{Set: set},
		}
	}
	filter := func() any {
		return &FilterRule{Rule: Rule{Kind: "allow", When: when(), over: 1000}, From: expression(), To: expression(), Services: header.Services{{Protocol: header.TCP}}, SourcePorts: []header.Ports{{First: 1, Last: 2}}}
	}
	digestOf := func(rule any) Digest {
		g := &Gateway{}
		switch r := rule.(type) {
		case *NATRule:
			g.NAT = []*NATRule{r}
		case *FilterRule:
			g.Filter = []*FilterRule{r}
		}
		d := (&Network{Gateways: []*Gateway{g}}).DigestsOf().Gateways[0]
		return append(d.NAT, d.Filter...)[0]
	}
	for _, fresh := range []func() any{nat, filter} {
		was := digestOf(fresh())
		for _, path := range paths(reflect.ValueOf(fresh()).Elem(), nil) {
			fields++
			rule := fresh()
			path.alter(t, reflect.ValueOf(rule).Elem())
			if digestOf(rule) == was {
				t.Errorf("%T: with another %s it has the same digest", rule, path)
			}
		}
	}
	if fields < 60 {
		t.Errorf("only %d fields were altered", fields)
	}
}

// A path leads to a value in a struct, by fields and by elements of lists.
type path []step

type step struct {
	name  string
	index int // of a field, or of an element where there is no name
}

func (p path) String() string {
	text := ""
	for _, s := range p {
		text += "/" + s.name
	}
	return text
}

// paths returns the ways to all values that can be altered, but those aside.
func paths(v reflect.Value, to path) (all []path) {
	with := func(s step) path { return append(to[:len(to):len(to)], s) }
	switch v.Kind() {
	case reflect.Struct:
		if v.Type() == reflect.TypeFor[header.Addresses]() || v.Type() == reflect.TypeFor[netip.Addr]() {
			return []path{to}
		}
		for i := range v.NumField() {
			if name := v.Type().Field(i).Name; aside[name] == "" {
				all = append(all, paths(v.Field(i), with(step{name, i}))...)
			}
		}
		return all
	case reflect.Slice, reflect.Array:
		for i := range v.Len() {
			all = append(all, paths(v.Index(i), with(step{"", i}))...)
		}
		if v.Kind() == reflect.Slice && v.Len() > 0 {
			all = append(all, to)
		}
		return all
	case reflect.Pointer:
		if v.IsNil() {
			return nil
		}
		if v.Type() == reflect.TypeFor[*Interface]() {
			return []path{to}
		}
		return append(paths(v.Elem(), to), to)
	}
	return []path{to}
}

// alter gives the value at the end of the path another one.
func (p path) alter(t *testing.T, v reflect.Value) {
	for _, s := range p {
		if v.Kind() == reflect.Pointer {
			v = v.Elem()
		}
		if s.name != "" {
			v = v.Field(s.index)
		} else {
			v = v.Index(s.index)
		}
	}
	v = reflect.NewAt(v.Type(), v.Addr().UnsafePointer()).Elem() // unexported fields too
	switch x := v.Interface().(type) {
	case header.Addresses:
		v.Set(reflect.ValueOf(header.Single(netip.MustParseAddr("10.9.9.9"))))
	case netip.Addr:
		v.Set(reflect.ValueOf(netip.MustParseAddr("10.9.9.9")))
	case *Interface:
		v.Set(reflect.ValueOf(&Interface{Name: "radio", Index: x.Index + 1}))
	default:
		switch v.Kind() {
		case reflect.Slice, reflect.Pointer:
			v.SetZero()
		case reflect.Bool:
			v.SetBool(!v.Bool())
		case reflect.String:
			v.SetString(v.String() + "x")
		case reflect.Int, reflect.Int64:
			v.SetInt(v.Int() + 1)
		case reflect.Uint8, reflect.Uint16, reflect.Uint64:
			v.SetUint(v.Uint() + 1)
		default:
			t.Fatalf("%s: a %s can't be altered", p, v.Type())
		}
	}
}
