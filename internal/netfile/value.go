package netfile

import (
	"slices"
	"strings"
	"sync"

	"hollowbridge/core/network"
)

// EditableKeys returns the keys of a kind of thing that have one line as their
// value, with what each means and whether it is true or false.
func EditableKeys(kind string) []EditableKey {
	if kind == "group" {
		return []EditableKey{{listFlag, "a `FILE` with an address, prefix or range on each line, named from the network file; repeatable", false, false}}
	}
	o := kindObject(kind)
	if o == nil {
		return nil
	}
	keys := oneLineKeys("", o, string(nameKey(kind)), true)
	if kind == "gateway" { // it begins with one interface
		for _, name := range []string{"interface", "address", "zone"} {
			keys = append(keys, EditableKey{name, "of its first interface", false, true})
		}
	}
	return keys
}

// oneLineKeys returns the keys of an object that have a value of one line; those of a mapping in it stand
// behind a dot.
func oneLineKeys(in string, o *object, but string, required bool) (keys []EditableKey) {
	for _, k := range o.keys {
		switch {
		case k.name == but || k.shape.kind == list || k.shape.kind == named || k.shape.kind == natRule || k.shape.kind == filterRule || k.shape.kind == anyNames || k.shape.kind == order:
		case k.shape.kind == block && k.shape.object != scheduleObject:
			keys = append(keys, oneLineKeys(in+k.name+".", k.shape.object, "", false)...)
		default:
			keys = append(keys, EditableKey{in + k.name, k.meaning, k.shape.kind == flagShape, k.required && required})
		}
	}
	return keys
}

// An EditableKey is a key that commands can set.
type EditableKey struct {
	Name, Meaning string
	Flag          bool
	Required      bool
}

func kindObject(kind string) *object {
	for _, o := range append(natObjects[:len(natObjects):len(natObjects)], filterObjects...) {
		if o.name == kind {
			return o
		}
	}
	return map[string]*object{
		routeKind: routeObject, "host": hostObject, "gateway": gatewayObject, interfaceKind: interfaceObject,
		expectationKind: expectObject, hostRuleKind: hostRuleObject, relayKind: relayObject, mappingRuleKind: mappingRuleObject,
	}[kind]
}

// isListed reports whether the value of a key is a list, where a comma stands between them.
func isListed(key string) bool {
	if key == "members" || key == "ports" {
		return true
	}
	for _, o := range append([]*object{hostObject, interfaceObject, upstreamObject, mappingsObject, mappingRuleObject, expectObject}, append(natObjects[:len(natObjects):len(natObjects)], filterObjects...)...) {
		if k := o.key(key); k != nil {
			switch k.shape.kind {
			case expression, service, texts, hostServe, words:
				return true
			}
		}
	}
	return !slices.ContainsFunc(allKeys(), func(known string) bool { return known == key }) // a service that a gateway serves
}

// allKeys are the keys that anything in the file can have.
var allKeys = sync.OnceValue(func() (names []string) {
	seen := map[*object]bool{}
	var walk func(o *object)
	walk = func(o *object) {
		if o == nil || seen[o] {
			return
		}
		seen[o] = true
		for _, k := range o.keys {
			names = append(names, k.name)
			walk(k.shape.object)
		}
	}
	for _, o := range slices.Concat([]*object{fileObject}, natObjects, filterObjects) {
		walk(o)
	}
	return names
})

// valueText writes a value as YAML: a list where commas separate several, quotes
// where YAML would read something else.
func valueText(key, value string, flow bool) string {
	if key == "when" {
		return scheduleText(value)
	}
	parts := []string{value}
	if isListed(key) {
		parts = splitList(value)
	}
	if bound := boundText(key, value); len(parts) == 1 && bound != "" {
		return bound
	}
	if len(parts) == 1 && (!strings.HasPrefix(value, "[") || hasPort(value)) {
		return scalarText(parts[0], flow)
	}
	if strings.HasPrefix(value, "[") && !strings.Contains(value, "except") {
		parts = splitList(strings.TrimSuffix(strings.TrimPrefix(value, "["), "]"))
	} else if strings.HasPrefix(value, "[") {
		return scalarText(value, true)
	}
	for i, part := range parts {
		if bound := boundText(key, part); bound != "" {
			parts[i] = bound
			continue
		}
		if strings.HasPrefix(part, "[") && strings.HasSuffix(part, "]") { // those alike
			parts[i] = valueText(key, part, true)
			continue
		}
		parts[i] = scalarText(part, true)
	}
	return "[" + strings.Join(parts, ", ") + "]"
}

// boundText writes what a host serves at one of its addresses alone, as "https at 10.20.1.5"; nothing where a text is something else.
func boundText(key, text string) string {
	service, at, is := strings.Cut(text, " at ")
	if key != "serves" || !is {
		return ""
	}
	return "{service: " + valueText("service", strings.TrimSpace(service), true) + ", at: " + scalarText(strings.TrimSpace(at), true) + "}"
}

// splitList splits at commas outside brackets; a part that begins with a digit and
// follows a service with ports, or a host with ports, belongs to it, as in tcp/80,443.
func splitList(text string) []string {
	var parts []string
	depth, start := 0, 0
	for i := 0; i <= len(text); i++ {
		switch {
		case i < len(text) && text[i] == '[':
			depth++
		case i < len(text) && text[i] == ']':
			depth--
		case i == len(text) || text[i] == ',' && depth == 0:
			part := strings.TrimSpace(text[start:i])
			last := len(parts) - 1
			ports, _, _ := strings.Cut(part, " at ") // of a host, see boundText
			if last >= 0 && (isService(parts[last]) || hasPort(parts[last])) && strings.Trim(ports, "0123456789-") == "" {
				parts[last] += "," + part
			} else {
				parts = append(parts, part)
			}
			start = i + 1
		}
	}
	return parts
}

// hasPort reports whether a text is a host or address with ports behind it.
func hasPort(text string) bool {
	at := strings.LastIndexByte(text, ':')
	if at <= 0 || at == len(text)-1 || strings.Trim(text[at+1:], "0123456789-,") != "" {
		return false
	}
	return strings.Count(text, ":") == 1 || text[at-1] == ']'
}

func isService(text string) bool {
	protocol, _, found := strings.Cut(text, "/")
	return found && strings.Trim(protocol, "abcdefghijklmnopqrstuvwxyz+") == ""
}

// scheduleText writes "mon-fri 08:00-18:00" as the days and hours of `when`.
func scheduleText(value string) string {
	var days, hours []string
	for _, word := range strings.Fields(value) {
		if _, _, err := network.ParseHours(word); err == nil || strings.Contains(word, ":") {
			hours = append(hours, word)
		} else {
			days = append(days, word)
		}
	}
	var texts []string
	if len(days) > 0 {
		texts = append(texts, "days: "+scalarText(strings.Join(days, ","), true))
	}
	if len(hours) > 0 {
		texts = append(texts, "hours: "+scalarText(strings.Join(hours, " "), true))
	}
	return "{" + strings.Join(texts, ", ") + "}"
}

// scalarText writes one text as YAML, in quotes where plain would be read as
// something else.
func scalarText(text string, flow bool) string {
	special := text == "" || text == "~" || text == "null" || strings.TrimSpace(text) != text ||
		strings.ContainsAny(text[:min(1, len(text))], "!&*?|>%@`'\"#{}[],-:") ||
		strings.Contains(text, ": ") || strings.Contains(text, " #") || strings.HasSuffix(text, ":") ||
		strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f })
	if flow && strings.ContainsAny(text, ",[]{}") {
		special = true
	}
	if flow && strings.Contains(text, "::") {
		special = true
	}
	if !special {
		return text
	}
	replaced := strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\t", `\t`, "\r", `\r`).Replace(text)
	return `"` + replaced + `"`
}

// ListText writes values as YAML that may stand between braces: one as it is,
// several as a list.
func ListText(values []string) string {
	if len(values) == 1 {
		return scalarText(values[0], true)
	}
	texts := make([]string, len(values))
	for i, v := range values {
		texts[i] = scalarText(v, true)
	}
	return "[" + strings.Join(texts, ", ") + "]"
}

// listFlag is the flag by which a group gets what stands in a file.
const listFlag = "file"

// membersText writes what a group or service that is added holds: values, and files of them.
func membersText(edit network.Edit) string {
	if len(edit.Settings) == 0 {
		return ListText(edit.Values)
	}
	var texts []string
	for _, v := range edit.Values {
		texts = append(texts, scalarText(v, true))
	}
	for _, s := range edit.Settings {
		texts = append(texts, "{"+string(s.Key)+": "+scalarText(s.Value, true)+"}")
	}
	if len(texts) == 1 {
		return texts[0]
	}
	return "[" + strings.Join(texts, ", ") + "]"
}
