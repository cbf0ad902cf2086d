package definition

import (
	"encoding/json"
	"fmt"
	"net/textproto"
	"regexp"
	"slices"
	"strings"

	"gopkg.in/yaml.v3"
)

// Options are the values of a kind's own keys, as its schema has them.
type Options struct{ values map[string]option }

// option is one value: a text or number as it is written, a list, or values by name.
type option struct {
	text Secret
	// raw: a number or truth value, which is no text as JSON.
	raw  bool
	list []option
	by   map[string]option
}

// keySchema is what the parser reads of the JSON Schema of one of a kind's own properties. One
// that says nothing takes anything.
type keySchema struct {
	Type        string               `json:"type"`
	Format      string               `json:"format"`
	Enum        []string             `json:"enum"`
	Pattern     string               `json:"pattern"`
	Description string               `json:"description"`
	Minimum     *float64             `json:"minimum"`
	Maximum     *float64             `json:"maximum"`
	Properties  map[string]keySchema `json:"properties"`
	Additional  *keySchema           `json:"additionalProperties"`
	Items       *keySchema           `json:"items"`
	Required    []string             `json:"required"`
}

func (k *Kind) keys() map[string]keySchema {
	out := map[string]keySchema{}
	if err := json.Unmarshal([]byte(k.Keys), &out); err != nil {
		panic(fmt.Sprintf("definition: the keys of kind %s are no JSON Schema properties: %v", k.Name, err))
	}
	return out
}

// ofKind adds the keys that only one kind has; which one it is may be written after
// them. Without a kind, those of any are taken.
func (d *decoder) ofKind(v *yaml.Node, list []Kind, known fields, into *Options) {
	of := list
	if v.Kind == yaml.MappingNode {
		for i := 0; i+1 < len(v.Content); i += 2 {
			if v.Content[i].Value == "kind" {
				of = nil
				if k := kindNamed(list, v.Content[i+1].Value); k != nil {
					of = []Kind{*k}
				}
			}
		}
	}
	for _, kind := range of {
		for name, schema := range kind.keys() {
			known[name] = func(_, v *yaml.Node) {
				if into.values == nil {
					into.values = map[string]option{}
				}
				if schema.Format == "url" { // of the same sort as the kind's own
					into.values[name] = option{text: d.secretURL(d.text(v, name), name, kind.Schemes)}
					return
				}
				into.values[name] = d.option(name, schema, v)
			}
		}
	}
}

// option reads one value by its schema.
func (d *decoder) option(name string, schema keySchema, v *yaml.Node) option {
	switch schema.Type {
	case "object":
		return d.optionsBy(name, schema, v)
	case "array":
		if v.Kind != yaml.SequenceNode {
			d.find(d.at(v), fmt.Sprintf("%s is a list, not %s", name, kindName(v)), "write "+name+": [ … ]")
			return option{}
		}
		out := option{list: []option{}}
		for _, item := range v.Content {
			out.list = append(out.list, d.option(name, *schema.Items, item))
		}
		return out
	case "integer", "number":
		low, high := -1e15, 1e15
		if schema.Minimum != nil {
			low = *schema.Minimum
		}
		if schema.Maximum != nil {
			high = *schema.Maximum
		}
		d.number(v, name, low, high)
		return option{text: Secret{Written: v.Value, Pos: d.at(v)}, raw: true}
	case "boolean":
		var is bool
		d.boolean(&is, name)(nil, v)
		return option{text: Secret{Written: fmt.Sprint(is), Pos: d.at(v)}, raw: true}
	case "string":
		s := d.text(v, name)
		if schema.Pattern != "" && s.text != "" && !regexp.MustCompile(schema.Pattern).MatchString(s.text) {
			d.find(s.pos, fmt.Sprintf("%s cannot be %q", name, s.text), schema.Description)
		}
		if len(schema.Enum) > 0 {
			var word string
			d.word(&word, name, schema.Enum...)(nil, v)
		}
		return option{text: d.secretText(name, s)}
	}
	return d.anything(name, schema, v)
}

// optionsBy reads values by names: those that the schema knows, or any.
func (d *decoder) optionsBy(name string, schema keySchema, v *yaml.Node) option {
	out := option{by: map[string]option{}}
	if schema.Properties == nil {
		each := keySchema{}
		if schema.Additional != nil {
			each = *schema.Additional
		}
		d.each(
			v,
			name,
			func(k, v *yaml.Node) { out.by[k.Value] = d.option(named(name, k.Value, each), each, v) },
		)
		return out
	}
	known := fields{}
	for key, of := range schema.Properties {
		known[key] = func(_, v *yaml.Node) { out.by[key] = d.option(key, of, v) }
	}
	d.object(v, name, known, schema.Required...)
	return out
}

// named is what a value of the user's own naming is called: by its own name where it may be a
// secret, so that this shows.
func named(name, key string, schema keySchema) string {
	if schema.Type == "string" {
		return key
	}
	return name + " " + key
}

// anything reads a value that has no schema, or one of a few words.
func (d *decoder) anything(name string, schema keySchema, v *yaml.Node) option {
	if len(schema.Enum) > 0 {
		return d.option(name, keySchema{Type: "string", Enum: schema.Enum}, v)
	}
	switch v.Kind {
	case yaml.MappingNode:
		return d.optionsBy(name, keySchema{}, v)
	case yaml.SequenceNode:
		return d.option(name, keySchema{Type: "array", Items: &keySchema{}}, v)
	}
	raw := slices.Contains([]string{"!!int", "!!float", "!!bool", "!!null"}, v.Tag) &&
		json.Valid([]byte(v.Value))
	if raw {
		return option{text: Secret{Written: v.Value, Pos: d.at(v)}, raw: true}
	}
	return option{text: d.secretText(name, scalar{v.Value, d.at(v)})}
}

// secretText checks a text that may be a secret, such as the value of a header.
func (d *decoder) secretText(name string, s scalar) Secret {
	if s.text != "" && secretName(name) && !reference.MatchString(s.text) {
		d.find(s.pos, fmt.Sprintf("%s looks like a secret that is written out; secrets are never stored", name),
			"put it into an environment variable and write ${NAME}, or into a file and write ${file:path}")
	}
	out := Secret{Written: s.text, Pos: s.pos}
	if strings.Contains(s.text, "://") && writtenPassword(s.text) {
		d.find(s.pos, fmt.Sprintf("%s has a password or key written out; secrets are never stored", name),
			"put it into an environment variable and write ${NAME}, or into a file and write ${file:path}")
	}
	if _, err := d.reveal(out); err != nil {
		d.find(s.pos, err.Error(), "set it where pingo serve runs, then try again")
	}
	return out
}

func secretName(name string) bool {
	name = strings.ToLower(textproto.CanonicalMIMEHeaderKey(name))
	return slices.ContainsFunc(
		[]string{"authorization", "token", "secret", "password", "cookie"},
		func(w string) bool { return strings.Contains(name, w) },
	) || strings.HasSuffix(name, "key") && name != "key"
}

// Reveal writes the values as a JSON object, with all references replaced.
func (o *Options) Reveal(look Lookup) (json.RawMessage, error) {
	plain := map[string]any{}
	for name, v := range o.values {
		revealed, err := v.reveal(look)
		if err != nil {
			return nil, err
		}
		plain[name] = revealed
	}
	return json.Marshal(plain)
}

func (v *option) reveal(look Lookup) (any, error) {
	switch {
	case v.by != nil:
		out := map[string]any{}
		for name, part := range v.by {
			revealed, err := part.reveal(look)
			if err != nil {
				return nil, err
			}
			out[name] = revealed
		}
		return out, nil
	case v.list != nil:
		out := make([]any, len(v.list))
		for i, part := range v.list {
			revealed, err := part.reveal(look)
			if err != nil {
				return nil, err
			}
			out[i] = revealed
		}
		return out, nil
	case v.raw:
		return json.RawMessage(v.text.Written), nil
	}
	return v.text.Reveal(look)
}

// Same reports whether two sets of options are written alike.
func (o *Options) Same(other *Options) bool {
	asWritten := func(reference string) (string, error) { return "${" + reference + "}", nil }
	mine, err1 := o.Reveal(asWritten)
	theirs, err2 := other.Reveal(asWritten)
	return err1 == nil && err2 == nil && string(mine) == string(theirs)
}

// At is where one of the values is written; that of the nearest one around it when it is not.
func (o *Options) At(path ...string) Pos {
	var pos Pos
	values := o.values
	for _, name := range path {
		v, has := values[name]
		if !has {
			break
		}
		if p := v.pos(); p.Line > 0 {
			pos = p
		}
		values = v.by
	}
	return pos
}

func (v *option) pos() Pos {
	first := v.text.Pos
	for _, part := range append(slices.Clone(v.list), valuesOf(v.by)...) {
		if p := part.pos(); p.Line > 0 && (first.Line == 0 || p.Line < first.Line) {
			first = p
		}
	}
	return first
}

func valuesOf(by map[string]option) (out []option) {
	for _, v := range by {
		out = append(out, v)
	}
	return out
}
