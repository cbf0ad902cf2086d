package definition

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/textproto"
	"slices"
	"strings"

	"gopkg.in/yaml.v3"
)

// Kinds is what the language must know of the kinds of sources and engines.
type Kinds struct{ Sources, Engines []Kind }

// Kind is one kind of source or engine.
type Kind struct {
	Name string
	// Schemes are what its URLs begin with.
	Schemes []string
	// Captures are the ways in which a source's changes are noticed; the first is the
	// default.
	Captures []string
	// Keys is a JSON Schema object of the properties that only this kind has. Their
	// types are string, with enum or without, and object, of strings.
	Keys string
}

// keySchema is what the parser reads of one of a kind's own properties.
type keySchema struct {
	Type        string   `json:"type"`
	Enum        []string `json:"enum"`
	Description string   `json:"description"`
}

func (k *Kind) keys() map[string]keySchema {
	out := map[string]keySchema{}
	if err := json.Unmarshal([]byte(k.Keys), &out); err != nil {
		panic(fmt.Sprintf("definition: the keys of kind %s are no JSON Schema properties: %v", k.Name, err))
	}
	return out
}

func kindNames(list []Kind) []string {
	out := make([]string, len(list))
	for i, k := range list {
		out[i] = k.Name
	}
	return out
}

func kindNamed(list []Kind, name string) *Kind {
	if i := slices.IndexFunc(list, func(k Kind) bool { return k.Name == name }); i >= 0 {
		return &list[i]
	}
	return nil
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
			known[name] = func(_, v *yaml.Node) { d.option(name, schema, v, into) }
		}
	}
}

// Options are the values of a kind's own keys: a text as it is written, or texts by name.
type Options struct {
	Texts map[string]Secret
	Maps  map[string]map[string]Secret
}

func (d *decoder) option(name string, schema keySchema, v *yaml.Node, into *Options) {
	switch {
	case schema.Type == "object":
		texts := map[string]Secret{}
		d.each(v, name, func(k, v *yaml.Node) {
			texts[k.Value] = d.secretText(k.Value, d.text(v, name+"."+k.Value))
		})
		if into.Maps == nil {
			into.Maps = map[string]map[string]Secret{}
		}
		into.Maps[name] = texts
	default:
		if into.Texts == nil {
			into.Texts = map[string]Secret{}
		}
		var word string
		s := d.text(v, name)
		if len(schema.Enum) > 0 {
			d.word(&word, name, schema.Enum...)(nil, v)
		}
		into.Texts[name] = d.secretText(name, s)
	}
}

// secretText checks a text that may be a secret, such as the value of a header.
func (d *decoder) secretText(name string, s scalar) Secret {
	if s.text != "" && secretName(name) && !reference.MatchString(s.text) {
		d.find(s.pos, fmt.Sprintf("%s looks like a secret that is written out; secrets are never stored", name),
			"put it into an environment variable and write ${NAME}, or into a file and write ${file:path}")
	}
	out := Secret{Written: s.text, Pos: s.pos}
	if _, err := out.Reveal(d.lookup); err != nil {
		d.find(s.pos, err.Error(), "set it where pingo serve runs, then try again")
	}
	return out
}

func secretName(name string) bool {
	name = strings.ToLower(textproto.CanonicalMIMEHeaderKey(name))
	return slices.ContainsFunc(
		[]string{"authorization", "token", "secret", "password", "key", "cookie"},
		func(w string) bool { return strings.Contains(name, w) },
	)
}

// Reveal gives the texts of a kind's own key, with all references replaced.
func (o *Options) Reveal(name string, look Lookup) (map[string]string, error) {
	out := map[string]string{}
	for key, s := range o.Maps[name] {
		v, err := s.Reveal(look)
		if err != nil {
			return nil, err
		}
		out[key] = v
	}
	return out, nil
}

// Same reports whether two sets of options are written alike.
func (o *Options) Same(other *Options) bool {
	written := func(a, b Secret) bool { return a.Written == b.Written }
	return maps.EqualFunc(o.Texts, other.Texts, written) &&
		maps.EqualFunc(
			o.Maps,
			other.Maps,
			func(a, b map[string]Secret) bool { return maps.EqualFunc(a, b, written) },
		)
}

// Schema is the JSON Schema (2020-12) of definition files.
func (k Kinds) Schema() []byte {
	var root map[string]any
	if err := json.Unmarshal(schema, &root); err != nil {
		panic(fmt.Sprintf("definition: schema.json: %v", err))
	}
	defs := root["$defs"].(map[string]any)
	captures := []string{}
	for _, kind := range k.Sources {
		for _, c := range kind.Captures {
			if !slices.Contains(captures, c) {
				captures = append(captures, c)
			}
		}
	}
	source := defs["source"].(map[string]any)
	source["properties"].(map[string]any)["capture"].(map[string]any)["enum"] = captures
	extend(source, k.Sources)
	extend(defs["engine"].(map[string]any), k.Engines)
	out, err := json.MarshalIndent(root, "", "  ")
	if err != nil {
		panic(fmt.Sprintf("definition: the schema cannot be written: %v", err))
	}
	return append(out, '\n')
}

// extend names the kinds of a source or engine, each with the keys that only it has.
func extend(object map[string]any, list []Kind) {
	object["properties"].(map[string]any)["kind"].(map[string]any)["enum"] = kindNames(list)
	var allOf []any
	for _, kind := range list {
		var keys map[string]any
		if err := json.Unmarshal([]byte(kind.Keys), &keys); err != nil {
			panic(
				fmt.Sprintf(
					"definition: the keys of kind %s are no JSON Schema properties: %v",
					kind.Name,
					err,
				),
			)
		}
		allOf = append(allOf, map[string]any{
			"if":   map[string]any{"properties": map[string]any{"kind": map[string]any{"const": kind.Name}}},
			"then": map[string]any{"properties": keys},
		})
	}
	object["allOf"] = allOf
}
