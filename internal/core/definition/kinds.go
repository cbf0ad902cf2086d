package definition

import (
	"encoding/json"
	"fmt"
	"slices"
)

// Kinds is what the language must know of the kinds of sources and engines.
type Kinds struct{ Sources, Engines []Kind }

// Kind is one kind of source or engine.
type Kind struct {
	Name string
	// Schemes are what its URLs begin with; none when it has no URL.
	Schemes []string
	// Captures are the ways in which a source's changes are noticed; the first is the
	// default.
	Captures []string
	// Keys is a JSON Schema object of the properties that only this kind has; keySchema says
	// which words of JSON Schema may stand there.
	Keys string
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
	extend(source, k.Sources, true)
	extend(defs["engine"].(map[string]any), k.Engines, false)
	out, err := json.MarshalIndent(root, "", "  ")
	if err != nil {
		panic(fmt.Sprintf("definition: the schema cannot be written: %v", err))
	}
	return append(out, '\n')
}

// extend names the kinds of a source or engine, each with the keys that only it has, and
// whether those that have a URL require it.
func extend(object map[string]any, list []Kind, required bool) {
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
		then := map[string]any{"properties": keys}
		if kind.Schemes != nil && required {
			then["required"] = []string{"url"}
		}
		allOf = append(allOf, map[string]any{
			"if":   map[string]any{"properties": map[string]any{"kind": map[string]any{"const": kind.Name}}},
			"then": then,
		})
	}
	object["allOf"] = allOf
}
