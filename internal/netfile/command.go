package netfile

import (
	"strings"

	"hollowbridge/core/network"
)

// Command returns an edit as it is typed.
func Command(e network.Edit) string {
	words := []string{"hollowbridge", string(e.Verb)}
	if e.Kind != "" {
		words = append(words, e.Kind)
	}
	words = append(append(words, e.Name), e.Values...)
	switch {
	case e.Verb == network.Move && e.After != "":
		words = append(words, "after", e.After)
	case e.Verb == network.Move:
		words = append(words, "before", e.Before)
	}
	if e.Gateway != "" {
		words = append(words, "-gateway", e.Gateway)
	}
	for _, s := range e.Settings {
		flags := e.Verb == network.Add && !strings.HasSuffix(e.Kind, "-rule") // -allow is another thing
		switch {
		case flags && (s.Value == "true" || s.Value == "false"): // a flag that may stand alone takes no word behind it
			words = append(words, "-"+string(s.Key)+"="+s.Value)
		case flags:
			words = append(words, "-"+string(s.Key), s.Value)
		default:
			words = append(words, string(s.Key)+"="+s.Value)
		}
	}
	if e.Verb == network.Add && e.Before != "" {
		words = append(words, "-before", e.Before)
	}
	if e.Verb == network.Add && e.After != "" {
		words = append(words, "-after", e.After)
	}
	for i, w := range words {
		words[i] = Quoted(w)
	}
	return strings.Join(words, " ")
}

// Commands returns edits as they are typed, one after the other.
func Commands(list network.Edits) string {
	texts := make([]string, len(list))
	for i, e := range list {
		texts[i] = Command(e)
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
