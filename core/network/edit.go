package network

import "slices"

// An EditVerb is what an edit does.
type EditVerb string

// The verbs of edits.
const (
	Add     EditVerb = "add"
	Change  EditVerb = "change"
	Enable  EditVerb = "enable"
	Disable EditVerb = "disable"
	Move    EditVerb = "move"
	Remove  EditVerb = "remove"
	Rename  EditVerb = "rename"
	Copy    EditVerb = "copy"
)

// An Edit is one change of a network file, as a person types it: commands are read into
// edits, repairs are edits, and the file's editor makes them.
type Edit struct {
	Verb     EditVerb
	Kind     string // of what it is about: port-forward, allow, host, route, ...; may be empty where the name says it
	Name     string
	Gateway  string   // of a rule or route; may be empty where there is only one
	Values   []string // of what is added; rename and copy: the new name
	Settings []Setting
	Before   string // add and move: the rule it goes in front of,
	After    string // or behind
	Corrects bool   // it puts right a rule that says what was not meant, so what that allowed may close
}

// A Key is one of a thing in the file; those of a mapping in it stand behind a dot.
type Key string

// The keys that repairs and findings set. All that there are stand in the schema of internal/netfile.
const (
	KeyAs               Key = "as"
	KeyAssigned         Key = "assigned"
	KeyAt               Key = "at"
	KeyDisabled         Key = "disabled"
	KeyFormerly         Key = "formerly"
	KeyFrom             Key = "from"
	KeyGateway          Key = "gateway"
	KeyHairpin          Key = "hairpin"
	KeyHandlingTurnBack Key = "handling.turn-back"
	KeyLog              Key = "log"
	KeyNote             Key = "note"
	KeyOn               Key = "on"
	KeyRedirected       Key = "redirected"
	KeySay              Key = "say"
	KeyService          Key = "service"
	KeyState            Key = "state"
	KeyTo               Key = "to"
	KeyUpstreamRoutes   Key = "upstream.routes"
	KeyVia              Key = "via"
	KeyWhen             Key = "when"
)

// A Setting is a key and the value it gets; without a value it goes away.
type Setting struct {
	Key   Key
	Value string
}

// Edits are edits that are made together.
type Edits []Edit

// Corrects reports whether an edit puts right a rule that says what was not meant.
func (list Edits) Corrects() bool {
	return slices.ContainsFunc(list, func(e Edit) bool { return e.Corrects })
}

// With returns the edit with another value for a key.
func (e Edit) With(key Key, value string) Edit {
	e.Settings = slices.Clone(e.Settings)
	for i := range e.Settings {
		if e.Settings[i].Key == key {
			e.Settings[i].Value = value
		}
	}
	return e
}

// Equal reports whether two lists make the same edits, for whichever reason.
func (list Edits) Equal(other Edits) bool {
	return slices.EqualFunc(list, other, func(a, b Edit) bool {
		return a.Verb == b.Verb && a.Kind == b.Kind && a.Name == b.Name && a.Gateway == b.Gateway && slices.Equal(a.Values, b.Values) &&
			slices.Equal(a.Settings, b.Settings) && a.Before == b.Before && a.After == b.After
	})
}
