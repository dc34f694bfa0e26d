package network

import (
	"reflect"
	"slices"
	"strings"
)

// AlikeButForRules reports whether two networks say the same but for the rules of their gateways, their
// groups, which stand in rules as what they hold, and where in a file things stand. It looks at
// every field there is, so that nothing can be forgotten; of what it does not know how to
// compare it says that it differs.
func AlikeButForRules(n, m *Network) bool {
	a := alike{seen: map[[2]uintptr]bool{}, without: []string{"NAT", "Filter"}}
	return a.fields(reflect.ValueOf(n).Elem(), reflect.ValueOf(m).Elem(), "Name", "Groups", "Expect", "Digests", "Services")
}

// AlikeButForName reports whether two networks say the same but for a name that the later one has in place of another one, wherever
// it stands as a word, and where in a file things stand.
func AlikeButForName(n, m *Network, old, name string) bool {
	a := alike{seen: map[[2]uintptr]bool{}, now: func(word string) string {
		if word == old {
			return name
		}
		return word
	}}
	return a.fields(reflect.ValueOf(n).Elem(), reflect.ValueOf(m).Elem(), "Now", "Today")
}

// Alike compares values; those that are being compared are the same, unless something else differs.
type alike struct {
	seen map[[2]uintptr]bool
	now  func(word string) string // what words of texts may have become, if that is another one

	without []string // fields of gateways that are not looked at
}

// texts reports whether one text says what another one does, but for what words may have become.
func (a *alike) texts(s, t string) bool {
	if s == t || a.now == nil {
		return s == t
	}
	isEnd := func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '_' || r == '.')
	}
	for {
		i, j := strings.IndexFunc(s, isEnd), strings.IndexFunc(t, isEnd)
		if i < 0 || j < 0 {
			return i == j && (s == t || a.now(s) == t)
		}
		if word := s[:i]; word != t[:j] && a.now(word) != t[:j] || s[i] != t[j] {
			return false
		}
		s, t = s[i+1:], t[j+1:]
	}
}

var (
	positionType = reflect.TypeFor[Position]()
	gatewayType  = reflect.TypeFor[Gateway]()
)

// maps reports whether two maps have the same keys, but for names that are others now, with values that are alike.
func (a *alike) maps(v, w reflect.Value) bool {
	if v.Len() != w.Len() {
		return false
	}
	for key, value := range v.Seq2() {
		other := w.MapIndex(key)
		if key.Kind() == reflect.String && !other.IsValid() && a.now != nil {
			other = w.MapIndex(reflect.ValueOf(a.now(key.String())))
		}
		if !other.IsValid() || !a.values(value, other) {
			return false
		}
	}
	return true
}

func (a *alike) values(v, w reflect.Value) bool {
	if v.IsValid() != w.IsValid() || v.IsValid() && v.Type() != w.Type() {
		return false
	}
	switch v.Kind() {
	case reflect.Invalid:
		return true
	case reflect.Pointer:
		pair := [2]uintptr{v.Pointer(), w.Pointer()}
		if v.IsNil() || w.IsNil() || pair[0] == pair[1] || a.seen[pair] {
			return v.IsNil() == w.IsNil()
		}
		a.seen[pair] = true
		return a.values(v.Elem(), w.Elem())
	case reflect.Interface:
		return a.values(v.Elem(), w.Elem())
	case reflect.Slice, reflect.Array:
		if v.Len() != w.Len() {
			return false
		}
		for i := range v.Len() {
			if !a.values(v.Index(i), w.Index(i)) {
				return false
			}
		}
		return true
	case reflect.Map:
		return a.maps(v, w)
	case reflect.Struct:
		switch v.Type() {
		case positionType:
			return true
		case gatewayType:
			return a.fields(v, w, a.without...)
		}
		return a.fields(v, w)
	case reflect.String:
		return a.texts(v.String(), w.String())
	case reflect.Bool, reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64,
		reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64, reflect.Uintptr, reflect.Float32, reflect.Float64:
		return v.Equal(w)
	}
	return false
}

// fields compares all fields of two structs but some.
func (a *alike) fields(v, w reflect.Value, but ...string) bool {
	for i := range v.NumField() {
		if name := v.Type().Field(i).Name; !slices.Contains(but, name) && !a.values(v.Field(i), w.Field(i)) {
			return false
		}
	}
	return true
}
