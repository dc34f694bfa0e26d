package netfile_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"go.yaml.in/yaml/v3"

	"hollowbridge/core/network"
	"hollowbridge/internal/gen"
	"hollowbridge/internal/netfile"
	"hollowbridge/internal/netfile/netfiletest"
)

// asJSON writes YAML as JSON, its keys in their order.
func asJSON(n *yaml.Node) string {
	var parts []string
	switch n.Kind {
	case yaml.MappingNode:
		for i := 0; i+1 < len(n.Content); i += 2 {
			parts = append(parts, fmt.Sprintf("%q: %s", n.Content[i].Value, asJSON(n.Content[i+1])))
		}
		return "{" + strings.Join(parts, ",\n ") + "}"
	case yaml.SequenceNode:
		for _, item := range n.Content {
			parts = append(parts, asJSON(item))
		}
		return "[" + strings.Join(parts, ", ") + "]"
	}
	if n.Tag == "!!int" || n.Tag == "!!bool" {
		return n.Value
	}
	return fmt.Sprintf("%q", n.Value)
}

// Edits of a network in JSON leave JSON, and make of it what they make of the same network in YAML.
func TestFilesInJSONAreEditedLikeOthers(t *testing.T) {
	if testing.Short() {
		t.Skip("it makes many edits")
	}
	for seed := range netfiletest.Few(uint64(40), 8) {
		folder := t.TempDir()
		var document yaml.Node
		if err := yaml.Unmarshal([]byte(gen.Small(seed)), &document); err != nil {
			t.Fatal(err)
		}
		data := asJSON(document.Content[0])
		var paths []string
		for name, text := range map[string]string{"n.json": data, "n.yaml": gen.Small(seed)} {
			paths = append(paths, filepath.Join(folder, name))
			if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		n, err := netfile.Read(paths[0])
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		random := rand.New(rand.NewPCG(seed, 5))
		g := n.Gateways[random.IntN(len(n.Gateways))]
		if len(g.Filter) < 2 {
			continue
		}
		first, last := g.Filter[0], g.Filter[len(g.Filter)-1]
		edits := network.Edits{
			{Verb: network.Add, Kind: "allow", Name: "planted", Gateway: g.Name, Before: first.Name, Settings: []network.Setting{{Key: "from", Value: "192.0.2.1,203.0.113.0/29"}, {Key: "service", Value: "https,tcp/8443"}, {Key: "log", Value: "true"}}},
			{Verb: network.Change, Kind: "gateway", Name: g.Name, Settings: []network.Setting{{Key: "handling.turn-back", Value: "allow"}, {Key: "limits.sessions", Value: "500"}, {Key: "serves.ntp", Value: g.Interfaces[0].Name}}},
			{Verb: network.Move, Kind: last.Kind, Name: last.Name, Gateway: g.Name, Before: first.Name},
			{Verb: network.Remove, Kind: first.Kind, Name: first.Name, Gateway: g.Name},
			{Verb: network.Add, Kind: "group", Name: "planted-too", Values: []string{"192.0.2.7", "2001:db8::/48"}},
			{Verb: network.Add, Kind: "expectation", Name: "it holds: \"always\"", Settings: []network.Setting{{Key: "from", Value: "internet"}, {Key: "to", Value: "192.0.2.7"}, {Key: "stops", Value: "true"}}},
			{Verb: network.Add, Kind: "interface", Name: g.Name + ":planted", Settings: []network.Setting{{Key: "address", Value: "10.200.0.1/24"}, {Key: "zone", Value: g.Interfaces[0].Zone}, {Key: "upstream.blocks", Value: "tcp/25,udp/53"}}},
			{Verb: network.Change, Kind: "interface", Name: g.Name + ":planted", Settings: []network.Setting{{Key: "state", Value: "down"}, {Key: "upstream.carrier-nat", Value: "true"}}},
		}
		var digests []*network.Digests
		for _, path := range paths {
			e, err := netfile.Edit(path)
			if err != nil {
				t.Fatal(err)
			}
			if err := e.ApplyAll(edits); err != nil {
				t.Fatalf("seed %d, %s: %v\n%s", seed, path, err, e.Text())
			}
			after, err := e.Network()
			if err != nil {
				t.Fatalf("seed %d, %s: %v\n%s", seed, path, err, e.Text())
			}
			if filepath.Ext(path) == ".json" && !json.Valid(e.Text()) {
				t.Fatalf("seed %d: this is JSON no more:\n%s", seed, e.Text())
			}
			if err := e.Save(); err != nil {
				t.Fatal(err)
			}
			e.Close()
			after.Seal()
			digests = append(digests, after.Digests)
		}
		if !reflect.DeepEqual(digests[0], digests[1]) {
			t.Fatalf("seed %d: the edits make something else of JSON", seed)
		}
		for _, path := range paths { // and they are taken back byte for byte
			before, err := netfile.EditWrong(path)
			if err != nil {
				t.Fatal(err)
			}
			if err := before.Undo(); err != nil {
				t.Fatal(err)
			}
			if err := before.Save(); err != nil {
				t.Fatal(err)
			}
			before.Close()
			want := gen.Small(seed)
			if filepath.Ext(path) == ".json" {
				want = data
			}
			if got, _ := os.ReadFile(path); string(got) != want {
				t.Fatalf("seed %d: %s is not what it was", seed, path)
			}
		}
	}
}
