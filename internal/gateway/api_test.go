package gateway

import (
	"bytes"
	"flag"
	"net/netip"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"go.yaml.in/yaml/v3"
)

var update = flag.Bool("update", false, "rewrite docs/control-api.yaml")

// A list of keys and values in their order, as YAML.
type ordered []any

// MarshalYAML is yaml.Marshaler's.
func (o ordered) MarshalYAML() (any, error) {
	node := &yaml.Node{Kind: yaml.MappingNode}
	for i := 0; i+1 < len(o); i += 2 {
		var key, value yaml.Node
		if err := key.Encode(o[i]); err != nil {
			return nil, err
		}
		if err := value.Encode(o[i+1]); err != nil {
			return nil, err
		}
		node.Content = append(node.Content, &key, &value)
	}
	return node, nil
}

// description is the control API as OpenAPI 3.1, made of what the server answers by.
func description() ordered {
	schemas := map[string]ordered{}
	paths := map[string]ordered{}
	var order []string
	jsonOf := func(v any) ordered {
		return ordered{"application/json", ordered{"schema", schemaOf(reflect.TypeOf(v), schemas)}}
	}
	wrong := ordered{"description", "why not", "content", jsonOf(Conflict{})}
	for _, c := range calls {
		var parameters []ordered
		for _, name := range []string{"number"} {
			if strings.Contains(c.path, "{"+name+"}") {
				parameters = append(parameters, ordered{"name", name, "in", "path", "required", true, "schema", ordered{"type", "integer"}})
			}
		}
		for _, p := range c.query {
			parameters = append(parameters, ordered{"name", p.name, "in", "query", "description", p.about, "schema", ordered{"type", "string"}})
		}
		operation := ordered{"summary", c.about}
		if len(parameters) > 0 {
			operation = append(operation, "parameters", parameters)
		}
		if c.body != nil {
			operation = append(operation, "requestBody", ordered{"required", true, "content", jsonOf(c.body)})
		}
		operation = append(operation, "responses", ordered{"200", ordered{"description", "done", "content", jsonOf(c.result)}, "default", wrong})
		if paths[c.path] == nil {
			order = append(order, c.path)
		}
		paths[c.path] = append(paths[c.path], strings.ToLower(c.method), operation)
	}
	text := func(kind string) ordered {
		return ordered{"200", ordered{"description", "done", "content", ordered{kind, ordered{}}}, "default", wrong}
	}
	all := ordered{}
	for _, path := range order {
		all = append(all, path, paths[path])
	}
	all = append(all, "/v1/log/follow", ordered{"get", ordered{"summary", "Events that match, as they come, a JSON object (Event) a line; an empty line is a sign of life.", "responses", text("application/x-ndjson")}},
		"/v1/backup", ordered{"post", ordered{"summary", "The state, as it is at this moment, as a file of SQLite.", "responses", text("application/vnd.sqlite3")}},
		"/v1/restore", ordered{"post", ordered{"summary", "Takes such a file; the gateway starts again with it.", "requestBody", ordered{"required", true, "content", ordered{"application/vnd.sqlite3", ordered{}}}, "responses", ordered{"200", ordered{"description", "done", "content", jsonOf(nothing{})}, "default", wrong}}},
		"/metrics", ordered{"get", ordered{"summary", "Sessions, hits by rule and losses, as OpenMetrics.", "responses", text("application/openmetrics-text")}})
	named := ordered{}
	var names []string
	for name := range schemas {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		named = append(named, name, schemas[name])
	}
	return ordered{
		"openapi", "3.1.0",
		"info", ordered{"title", "Hollow Bridge control API", "version", "1", "description", "How a running gateway is asked and told what to do: over a Unix socket, or by TLS with a bearer token. Times are RFC 3339; durations are seconds."},
		"security", []ordered{{}, {"token", []string{}}},
		"paths", all,
		"components", ordered{"securitySchemes", ordered{"token", ordered{"type", "http", "scheme", "bearer"}}, "schemas", named},
	}
}

// schemaOf returns the schema of a type; structs are named.
func schemaOf(t reflect.Type, schemas map[string]ordered) ordered {
	switch t {
	case reflect.TypeFor[time.Time]():
		return ordered{"type", "string", "format", "date-time"}
	case reflect.TypeFor[netip.Addr]():
		return ordered{"type", "string", "description", "an IP address, or empty"}
	case reflect.TypeFor[netip.AddrPort]():
		return ordered{"type", "string", "description", "an IP address and a port, as 198.51.100.18:443 or [2001:db8:61::2]:443"}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return ordered{"anyOf", []ordered{schemaOf(t.Elem(), schemas), {"type", "null"}}}
	case reflect.Slice:
		return ordered{"type", "array", "items", schemaOf(t.Elem(), schemas)}
	case reflect.Map:
		return ordered{"type", "object", "additionalProperties", schemaOf(t.Elem(), schemas)}
	case reflect.String:
		return ordered{"type", "string"}
	case reflect.Bool:
		return ordered{"type", "boolean"}
	case reflect.Float64:
		return ordered{"type", "number"}
	case reflect.Struct:
	default:
		return ordered{"type", "integer"}
	}
	name := strings.ToUpper(t.Name()[:1]) + t.Name()[1:]
	if _, known := schemas[name]; !known {
		schemas[name] = ordered{}
		properties := ordered{}
		for i := range t.NumField() {
			key, _, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
			if key != "-" && t.Field(i).IsExported() {
				properties = append(properties, key, schemaOf(t.Field(i).Type, schemas))
			}
		}
		schemas[name] = ordered{"type", "object", "properties", properties}
	}
	return ordered{"$ref", "#/components/schemas/" + name}
}

// docs/control-api.yaml says what the server answers, and by which types.
func TestTheDescriptionIsTheServersOwn(t *testing.T) {
	const path = "../../docs/control-api.yaml"
	var b bytes.Buffer
	encoder := yaml.NewEncoder(&b)
	encoder.SetIndent(2)
	if err := encoder.Encode(description()); err != nil {
		t.Fatal(err)
	}
	if *update {
		if err := os.WriteFile(path, b.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	got, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(got, b.Bytes()) {
		t.Error("docs/control-api.yaml is not what the server answers; go test ./internal/gateway -run Description -update rewrites it")
	}
}
