package webhook

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"golang.org/x/text/language"
	"golang.org/x/text/message"
)

// compile prepares the schema of a record.
func (r *record) compile() error {
	if r.Schema == nil || r.Violations == "accepted" {
		return nil
	}
	text, err := r.schema()
	if err != nil {
		return err
	}
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		return fmt.Errorf("the schema of record %s cannot be read: %w", r.name, err)
	}
	root, is := document.(map[string]any)
	if !is {
		return fmt.Errorf("the schema of record %s is no JSON object", r.name)
	}
	part := maps.Clone(root)
	delete(part, "required")
	for at, schema := range map[**jsonschema.Schema]map[string]any{&r.whole: root, &r.patch: part} {
		c := jsonschema.NewCompiler()
		c.DefaultDraft(jsonschema.Draft2020)
		c.AssertFormat()
		c.UseLoader(noSchemas{})
		if err := c.AddResource("record.json", schema); err != nil {
			return fmt.Errorf("the schema of record %s cannot be read: %w", r.name, err)
		}
		if *at, err = c.Compile("record.json"); err != nil {
			return fmt.Errorf("the schema of record %s is no JSON Schema: %w", r.name, err)
		}
	}
	return nil
}

// noSchemas reads no schema from elsewhere, which could be any file or address.
type noSchemas struct{}

func (noSchemas) Load(url string) (any, error) {
	return nil, fmt.Errorf("it refers to another schema, %s, and Pingo reads none from elsewhere", url)
}

// violation says how a body violates the schema of its record: which property, its value, and what it must be. A property
// that is null counts as missing.
func (r *record) violation(schema *jsonschema.Schema, body json.RawMessage) error {
	if schema == nil {
		return nil
	}
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(body))
	if err != nil {
		return fmt.Errorf("the record is no JSON: %w", err)
	}
	if top, is := value.(map[string]any); is {
		maps.DeleteFunc(top, func(_ string, v any) bool { return v == nil })
	}
	var wrong *jsonschema.ValidationError
	if err := schema.Validate(value); !errors.As(err, &wrong) {
		return err
	}
	for len(wrong.Causes) > 0 { // the first of the innermost says most
		wrong = wrong.Causes[0]
	}
	said := wrong.ErrorKind.LocalizedString(message.NewPrinter(language.English))
	at := "/" + strings.Join(wrong.InstanceLocation, "/")
	shown := ""
	if found, err := lookUp(value, wrong.InstanceLocation); err == nil && at != "/" {
		shown = fmt.Sprintf(" (%.60s)", found)
	}
	return fmt.Errorf("the record violates its schema at %q%s: %s. Correct the sender, or set violations: accepted at record %s", at, shown, said, r.name)
}

// typed writes texts that are numbers or truth values as such where the schema wants these: the database reads them so.
func (r *record) typed(body json.RawMessage) json.RawMessage {
	var members map[string]any
	decoder := json.NewDecoder(bytes.NewReader(body))
	decoder.UseNumber()
	if r.whole == nil || decoder.Decode(&members) != nil {
		return body
	}
	for name, value := range members {
		text, is := value.(string)
		property := r.whole.Properties[name]
		if !is || property == nil || property.Types == nil {
			continue
		}
		wants := property.Types.ToStrings()
		number := slices.Contains(wants, "integer") || slices.Contains(wants, "number")
		switch {
		case slices.Contains(wants, "string"):
		case number && anyNumber.MatchString(text):
			members[name] = json.Number(text)
		case slices.Contains(wants, "boolean") && (text == "true" || text == "false"):
			members[name] = text == "true"
		}
	}
	typed, err := json.Marshal(members)
	if err != nil {
		return body
	}
	return typed
}

// lookUp is the JSON of a value inside another one.
func lookUp(value any, path []string) ([]byte, error) {
	for _, name := range path {
		switch in := value.(type) {
		case map[string]any:
			value = in[name]
		case []any:
			var i int
			if _, err := fmt.Sscan(name, &i); err != nil || i < 0 || i >= len(in) {
				return nil, errors.New("there is no such place")
			}
			value = in[i]
		}
	}
	return json.Marshal(value)
}
