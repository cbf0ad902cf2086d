package api

import (
	"bytes"
	"encoding/json"
	"flag"
	"os"
	"reflect"
	"strings"
	"testing"
	"time"

	"gopkg.in/yaml.v3"
)

var update = flag.Bool("update", false, "write the schemas into openapi.yaml")

// described are the types that openapi.yaml names, and with them those that they hold.
var described = []any{
	Problem{},
	Files{},
	Status{},
	Plan{},
	Applied{},
	DefinitionVersion{},
	Script{},
	CaptureRemoval{},
	IndexRemoval{},
	Disconnect{},
	Disconnected{},
	Preview{},
	Traced{},
	Drift{},
	DriftAction{},
	DriftOrder{},
	Hits{},
	Waited{},
	HookReply{},
	Receipt{},
	HeldRecord{},
	Sign{},
	Signed{},
	Load{},
	Loaded{},
	LoadBegun{},
	Leftover{},
	ChangeTrace{},
	RecentChange{},
	HistoryPoint{},
	FailedGroup{},
	FailedDocument{},
	FailedDetail{},
	FailedSelection{},
	ReindexAction{},
	Reindexed{},
	Run{},
	Estimate{},
	Expected{},
	Comparison{},
	Export{},
	EngineLeft{},
	DocumentCount{},
	Token{},
	NewToken{},
	OpenSession{},
	CreatedToken{},
	SignIn{},
	Session{},
	Health{},
}

// The schemas in openapi.yaml are those of the Go types.
func TestSchemasAreThoseOfTheTypes(t *testing.T) {
	schemas := map[string]any{}
	for _, v := range described {
		schemaOf(reflect.TypeOf(v), schemas)
	}
	head, _, found := bytes.Cut(OpenAPI, []byte("\n  schemas:\n"))
	if !found {
		t.Fatal("openapi.yaml has no schemas")
	}
	if *update {
		var b bytes.Buffer
		encoder := yaml.NewEncoder(&b)
		encoder.SetIndent(2)
		if err := encoder.Encode(schemas); err != nil {
			t.Fatal(err)
		}
		text := strings.ReplaceAll("    "+strings.TrimSpace(b.String()), "\n", "\n    ") + "\n"
		if err := os.WriteFile("openapi.yaml", append(append(head, "\n  schemas:\n"...), text...), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	var document struct {
		Components struct{ Schemas map[string]any }
	}
	if err := yaml.Unmarshal(OpenAPI, &document); err != nil {
		t.Fatal(err)
	}
	got, err1 := json.Marshal(document.Components.Schemas)
	want, err2 := json.Marshal(schemas)
	if err1 != nil || err2 != nil || string(got) != string(want) {
		t.Errorf(
			"openapi.yaml does not describe the types as they are now: run go test ./internal/api -update\n%s\n%s",
			got,
			want,
		)
	}
}

// schemaOf is the JSON Schema of a type as encoding/json writes it. Structs go into
// schemas and are referred to.
func schemaOf(t reflect.Type, schemas map[string]any) map[string]any {
	switch {
	case t == reflect.TypeFor[time.Time]():
		return map[string]any{"type": "string", "format": "date-time"}
	case t == reflect.TypeFor[json.RawMessage]():
		return map[string]any{} // anything
	}
	switch t.Kind() {
	case reflect.Pointer:
		return schemaOf(t.Elem(), schemas)
	case reflect.String:
		return map[string]any{"type": "string"}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Float64:
		return map[string]any{"type": "number"}
	case reflect.Int, reflect.Int64:
		return map[string]any{"type": "integer"}
	case reflect.Slice:
		return map[string]any{"type": "array", "items": schemaOf(t.Elem(), schemas)}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": schemaOf(t.Elem(), schemas)}
	}
	if _, known := schemas[t.Name()]; !known {
		schemas[t.Name()] = nil // so that a type may hold itself
		properties, required := map[string]any{}, []any{}
		for _, f := range reflect.VisibleFields(t) {
			name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
			if f.Anonymous || name == "" {
				continue
			}
			s := schemaOf(f.Type, schemas)
			if words := f.Tag.Get("enum"); words != "" {
				list := []any{}
				for _, w := range strings.Split(words, ",") {
					list = append(list, w)
				}
				s["enum"] = list
			}
			if options != "omitempty" {
				required = append(required, name)
				if f.Type.Kind() == reflect.Pointer {
					s = map[string]any{"oneOf": []any{s, map[string]any{"type": "null"}}}
				}
			}
			properties[name] = s
		}
		schema := map[string]any{"type": "object", "additionalProperties": false, "properties": properties}
		if len(required) > 0 {
			schema["required"] = required
		}
		schemas[t.Name()] = schema
	}
	return map[string]any{"$ref": "#/components/schemas/" + t.Name()}
}
