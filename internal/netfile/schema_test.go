package netfile

import (
	"bytes"
	"encoding/json"
	"flag"
	"os"
	"slices"
	"strings"
	"testing"

	"go.yaml.in/yaml/v3"
)

var update = flag.Bool("update", false, "rewrite docs/network.schema.json")

// A schema is a JSON Schema (draft 2020-12), with its keys in a fixed order.
type schema struct {
	Schema      string             `json:"$schema,omitempty"`
	Title       string             `json:"title,omitempty"`
	Description string             `json:"description,omitempty"`
	Ref         string             `json:"$ref,omitempty"`
	Type        string             `json:"type,omitempty"`
	Enum        []string           `json:"enum,omitempty"`
	Items       *schema            `json:"items,omitempty"`
	AnyOf       []*schema          `json:"anyOf,omitempty"`
	Properties  map[string]*schema `json:"properties,omitempty"`
	Names       any                `json:"additionalProperties,omitempty"`
	Required    []string           `json:"required,omitempty"`
	Defs        map[string]*schema `json:"$defs,omitempty"`
}

func ref(name string) *schema { return &schema{Ref: "#/$defs/" + strings.ReplaceAll(name, " ", "-")} }

func listOf(item *schema) *schema { return &schema{Type: "array", Items: item} }

func oneOrMore(item *schema) *schema { return &schema{AnyOf: []*schema{item, listOf(item)}} }

// schemaOf makes the schema of the reader's tables.
func schemaOf(root *object) *schema {
	defs := map[string]*schema{}
	var define func(*object) *schema
	var value func(shape) *schema
	anyText := &schema{AnyOf: []*schema{{Type: "string"}, {Type: "number"}}}
	value = func(s shape) *schema {
		switch s.kind {
		case number:
			return &schema{Type: "integer"}
		case flagShape:
			return &schema{Type: "boolean"}
		case oneWord:
			return &schema{Enum: s.words}
		case words:
			return listOf(&schema{Enum: s.words})
		case expression:
			return &schema{AnyOf: []*schema{{Type: "string"}, listOf(&schema{})}}
		case order:
			return listOf(oneOrMore(&schema{Type: "string"}))
		case service, texts:
			return oneOrMore(anyText)
		case block:
			return define(s.object)
		case named:
			return &schema{Type: "object", Names: define(s.object)}
		case list:
			return listOf(define(s.object))
		case anyNames:
			return &schema{Type: "object", Names: oneOrMore(anyText)}
		case groupBody:
			return &schema{Type: "object", Names: &schema{AnyOf: []*schema{{Type: "string"}, define(listFileObject), listOf(&schema{AnyOf: []*schema{{Type: "string"}, define(listFileObject)}})}}}
		case hostServe:
			return &schema{AnyOf: []*schema{{Type: "string"}, listOf(&schema{AnyOf: []*schema{anyText, define(boundServiceObject)}})}}
		case natRule, filterRule:
			kinds := natObjects
			if s.kind == filterRule {
				kinds = filterObjects
			}
			var any []*schema
			for _, kind := range kinds {
				any = append(any, define(kind))
			}
			return listOf(&schema{AnyOf: any})
		}
		return anyText
	}
	define = func(o *object) *schema {
		r := ref(o.name)
		name := strings.TrimPrefix(r.Ref, "#/$defs/")
		if defs[name] == nil {
			d := &schema{Type: "object", Properties: map[string]*schema{}, Names: false}
			defs[name] = d
			for _, k := range o.keys {
				v := *value(k.shape)
				v.Description = k.meaning
				d.Properties[k.name] = &v
				if k.required {
					d.Required = append(d.Required, k.name)
				}
			}
		}
		return r
	}
	top := define(root)
	return &schema{Schema: "https://json-schema.org/draft/2020-12/schema", Title: "Hollow Bridge network file", Ref: top.Ref, Defs: defs}
}

// docs/network.schema.json says what the reader reads.
func TestTheJSONSchemaIsTheReadersOwn(t *testing.T) {
	const path = "../../docs/network.schema.json"
	var b bytes.Buffer
	encoder := json.NewEncoder(&b)
	encoder.SetIndent("", "  ")
	encoder.SetEscapeHTML(false)
	if err := encoder.Encode(schemaOf(fileObject)); err != nil {
		t.Fatal(err)
	}
	if *update {
		if err := os.WriteFile(path, b.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	if data, err := os.ReadFile(path); err != nil || !bytes.Equal(data, b.Bytes()) {
		t.Errorf("%v; the reader's tables have changed: go test ./internal/netfile -update", err)
	}
}

// allObjects returns every object of the file's tables.
func allObjects() []*object {
	found := append(slices.Clone(natObjects), filterObjects...)
	found = append(found, listFileObject, boundServiceObject, scheduleObject)
	var walk func(*object)
	walk = func(o *object) {
		if slices.Contains(found, o) {
			return
		}
		found = append(found, o)
		for _, k := range o.keys {
			if k.shape.object != nil {
				walk(k.shape.object)
			}
		}
	}
	walk(fileObject)
	return found
}

// The demo uses every key that the file can have, and the docs explain each.
func TestEveryKeyIsUsedInTheDemoAndExplained(t *testing.T) {
	data, err := os.ReadFile("../../examples/fernhollow/hollowbridge.yaml")
	if err != nil {
		t.Fatal(err)
	}
	docs, err := os.ReadFile("../../docs/network-file.md")
	if err != nil {
		t.Fatal(err)
	}
	var root yaml.Node
	if err := yaml.Unmarshal(data, &root); err != nil {
		t.Fatal(err)
	}
	used := map[string]bool{}
	var walk func(*yaml.Node)
	walk = func(n *yaml.Node) {
		if n.Kind == yaml.MappingNode {
			for i := 0; i < len(n.Content); i += 2 {
				used[n.Content[i].Value] = true
			}
		}
		for _, child := range n.Content {
			walk(child)
		}
	}
	walk(&root)
	for _, o := range allObjects() {
		for _, k := range o.keys {
			if !used[k.name] && k.name != formerlyKey { // which an edit writes
				t.Errorf("%s of %s is not used in the demo", k.name, o.name)
			}
			if !bytes.Contains(docs, []byte("`"+k.name+"`")) {
				t.Errorf("%s of %s is not explained in docs/network-file.md", k.name, o.name)
			}
		}
	}
}

// accepts is a plain validator for the words of JSON Schema that ours uses.
func accepts(root, s *schema, v any) bool {
	if s.Ref != "" {
		return accepts(root, root.Defs[strings.TrimPrefix(s.Ref, "#/$defs/")], v)
	}
	if len(s.AnyOf) > 0 && !slices.ContainsFunc(s.AnyOf, func(one *schema) bool { return accepts(root, one, v) }) {
		return false
	}
	if len(s.Enum) > 0 {
		text, isText := v.(string)
		return isText && slices.Contains(s.Enum, text)
	}
	switch s.Type {
	case "string":
		_, ok := v.(string)
		return ok
	case "boolean":
		_, ok := v.(bool)
		return ok
	case "integer":
		_, ok := v.(int)
		return ok
	case "number":
		switch v.(type) {
		case int, float64:
			return true
		}
		return false
	case "array":
		list, ok := v.([]any)
		return ok && !slices.ContainsFunc(list, func(item any) bool { return !accepts(root, s.Items, item) })
	case "object":
		return acceptsObject(root, s, v)
	}
	return true
}

func acceptsObject(root, s *schema, v any) bool {
	m, ok := v.(map[string]any)
	if !ok {
		return false
	}
	for _, name := range s.Required {
		if _, has := m[name]; !has {
			return false
		}
	}
	for name, value := range m {
		if p := s.Properties[name]; p != nil {
			if !accepts(root, p, value) {
				return false
			}
			continue
		}
		others, described := s.Names.(*schema)
		if !described || !accepts(root, others, value) {
			return false
		}
	}
	return true
}

// The schema accepts what the reader accepts, and refuses what it can know to be wrong.
func TestTheJSONSchemaAcceptsTheExamples(t *testing.T) {
	s := schemaOf(fileObject)
	load := func(text string) any {
		var root yaml.Node
		if err := yaml.Unmarshal([]byte(text), &root); err != nil {
			t.Fatal(err)
		}
		var plain func(n *yaml.Node)
		plain = func(n *yaml.Node) { // days are texts, not times
			if n.Tag == "!!timestamp" {
				n.Tag = "!!str"
			}
			for _, child := range n.Content {
				plain(child)
			}
		}
		plain(&root)
		var v any
		if err := root.Decode(&v); err != nil {
			t.Fatal(err)
		}
		return v
	}
	for _, path := range []string{"../../examples/fernhollow/hollowbridge.yaml", "../../examples/cottage/hollowbridge.yaml"} {
		data, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if !accepts(s, s, load(string(data))) {
			t.Errorf("%s is refused", path)
		}
	}
	if !accepts(s, s, load(base)) {
		t.Error("the base of the errors is refused")
	}
	for _, change := range [][2]string{
		{"hosts:", "host:"}, {"198.51.100.17}", "198.51.100.17, distance: far}"}, {"on: fibre\n        service", "service"}, {"- allow:", "- alow:"},
		{"as: interface", "as: interface\n        log: perhaps"}, {"ssh: [yard]}", "ssh: [yard]}\n    handling: {turn-back: maybe}"},
		{"network: cottage\n", ""}, {"zone: outside}", "zone: outside, state: sideways}"}, {"via: 198.51.100.17}", "via: 198.51.100.17, metric: 1}"},
	} {
		text := strings.Replace(base, change[0], change[1], 1)
		if text == base {
			t.Fatalf("%q is not in the base", change[0])
		}
		if accepts(s, s, load(text)) {
			t.Errorf("%q is accepted", change[1])
		}
	}
}
