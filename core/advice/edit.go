package advice

import (
	"slices"
	"strings"
)

// An Edit is one change of a network file, as a person would type it.
type Edit struct {
	Verb     string // add, change, enable, move, remove
	Kind     string // of what it is about: port-forward, allow, host, route, ...
	Name     string
	Gateway  string // of a rule or route
	Settings []Setting
	Before   string // add and move: the rule it goes in front of
	Corrects bool   // it puts right a rule that says what was not meant, so what that allowed may close
}

// A Setting is a key and the value it gets; without a value it goes away.
type Setting struct{ Key, Value string }

// A Mend is edits that are made together.
type Mend []Edit

// Corrects reports whether an edit puts right a rule that says what was not meant.
func (m Mend) Corrects() bool { return slices.ContainsFunc(m, func(e Edit) bool { return e.Corrects }) }

// Command returns the edit as it is typed.
func (e Edit) Command() string {
	words := []string{"hollowbridge", e.Verb, e.Kind, e.Name}
	if e.Verb == "move" {
		words = append(words, "before", e.Before)
	}
	if e.Gateway != "" {
		words = append(words, "-gateway", e.Gateway)
	}
	for _, s := range e.Settings {
		if e.Verb == "add" {
			words = append(words, "-"+s.Key, s.Value)
		} else {
			words = append(words, s.Key+"="+s.Value)
		}
	}
	if e.Verb == "add" && e.Before != "" {
		words = append(words, "-before", e.Before)
	}
	for i, w := range words {
		words[i] = Quoted(w)
	}
	return strings.Join(words, " ")
}

// Command returns the edits as they are typed, one after the other.
func (m Mend) Command() string {
	texts := make([]string, len(m))
	for i, e := range m {
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
