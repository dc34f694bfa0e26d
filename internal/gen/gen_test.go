package gen_test

import (
	"encoding/json"
	"maps"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"hollowbridge/internal/gen"
)

// fewest is how many networks the smallest of the comparisons takes.
const fewest = 40

// decidesNothing are the keys and words of the file that no connection fares differently by.
var decidesNothing = strings.Fields(`network note owner log logging enabled syslog device formerly assigned fixed reserved dynamic accept
	port-forwards mappings protocols external rules lifetime at-most pcp nat-pmp upnp-igd transport inside-ports by for shortest ask restarts-on-apply
	control socket listen token certificate key expect say reaches stops only reach never file`)

// Every key of the network file that decides about connections, and every word that such a
// key may have apart from what holds where it is absent, comes up in the networks that
// implementations are compared on.
func TestSmallNetworksUseTheWholeFile(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes many networks")
	}
	text, err := os.ReadFile("../../docs/network.schema.json")
	if err != nil {
		t.Fatal(err)
	}
	var schema any
	if err := json.Unmarshal(text, &schema); err != nil {
		t.Fatal(err)
	}
	patterns := map[string]*regexp.Regexp{}
	collect(schema, patterns)
	if len(patterns) < 90 {
		t.Fatalf("the schema has only %d keys and words", len(patterns))
	}
	found := map[string]int{}
	for seed := range uint64(fewest) {
		network := gen.Small(seed)
		for name, pattern := range patterns {
			if pattern.MatchString(network) {
				found[name]++
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(patterns)) {
		if t.Logf("%-28s %3d of %d", name, found[name], fewest); found[name] == 0 && !slices.Contains(decidesNothing, name) {
			t.Errorf("%s does not come up in %d networks", name, fewest)
		}
	}
}

// collect gathers the keys of a schema, and the words that are no defaults.
func collect(schema any, patterns map[string]*regexp.Regexp) {
	switch s := schema.(type) {
	case []any:
		for _, part := range s {
			collect(part, patterns)
		}
	case map[string]any:
		if properties, ok := s["properties"].(map[string]any); ok {
			for key := range properties {
				patterns[key] = regexp.MustCompile(`(?m)(^|[{ ,])` + regexp.QuoteMeta(key) + `:`)
			}
		}
		words, _ := s["enum"].([]any)
		for i, word := range words {
			if w, ok := word.(string); ok && i > 0 {
				patterns[w] = regexp.MustCompile(`: \[?` + regexp.QuoteMeta(w) + `\b`)
			}
		}
		for _, part := range s {
			collect(part, patterns)
		}
	}
}
