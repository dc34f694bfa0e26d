package network

import (
	"slices"
	"strings"
)

// An Edit is one change of a network file, as a person types it: commands are read into
// edits, repairs are edits, and the file's editor makes them.
type Edit struct {
	Verb     string // add, change, enable, disable, move, remove, rename or copy
	Kind     string // of what it is about: port-forward, allow, host, route, ...; may be empty where the name says it
	Name     string
	Gateway  string   // of a rule or route; may be empty where there is only one
	Values   []string // of what is added; rename and copy: the new name
	Settings []Setting
	Before   string // add and move: the rule it goes in front of,
	After    string // or behind
	Corrects bool   // it puts right a rule that says what was not meant, so what that allowed may close
}

// A Setting is a key and the value it gets; without a value it goes away.
type Setting struct{ Key, Value string }

// Edits are edits that are made together.
type Edits []Edit

// Corrects reports whether an edit puts right a rule that says what was not meant.
func (list Edits) Corrects() bool {
	return slices.ContainsFunc(list, func(e Edit) bool { return e.Corrects })
}

// With returns the edit with another value for a key.
func (e Edit) With(key, value string) Edit {
	e.Settings = slices.Clone(e.Settings)
	for i := range e.Settings {
		if e.Settings[i].Key == key {
			e.Settings[i].Value = value
		}
	}
	return e
}

// Command returns the edit as it is typed.
func (e Edit) Command() string {
	words := []string{"hollowbridge", e.Verb}
	if e.Kind != "" {
		words = append(words, e.Kind)
	}
	words = append(append(words, e.Name), e.Values...)
	switch {
	case e.Verb == "move" && e.After != "":
		words = append(words, "after", e.After)
	case e.Verb == "move":
		words = append(words, "before", e.Before)
	}
	if e.Gateway != "" {
		words = append(words, "-gateway", e.Gateway)
	}
	for _, s := range e.Settings {
		flags := e.Verb == "add" && !strings.HasSuffix(e.Kind, "-rule") // -allow is another thing
		switch {
		case flags && (s.Value == "true" || s.Value == "false"): // a flag that may stand alone takes no word behind it
			words = append(words, "-"+s.Key+"="+s.Value)
		case flags:
			words = append(words, "-"+s.Key, s.Value)
		default:
			words = append(words, s.Key+"="+s.Value)
		}
	}
	if e.Verb == "add" && e.Before != "" {
		words = append(words, "-before", e.Before)
	}
	if e.Verb == "add" && e.After != "" {
		words = append(words, "-after", e.After)
	}
	for i, w := range words {
		words[i] = Quoted(w)
	}
	return strings.Join(words, " ")
}

// Command returns the edits as they are typed, one after the other.
func (list Edits) Command() string {
	texts := make([]string, len(list))
	for i, e := range list {
		texts[i] = e.Command()
	}
	return strings.Join(texts, " && ")
}

// Quoted puts a word in quotes where a shell would take it apart.
func Quoted(word string) string {
	if strings.ContainsAny(word, " []{}*?$&;|<>()'\"\\`!#~") {
		return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
	}
	return word
}
