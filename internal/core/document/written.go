package document

import (
	"fmt"

	"github.com/cespare/xxhash/v2"
	"github.com/tidwall/gjson"

	"pingo/internal/core/definition"
	"pingo/internal/core/shape"
)

// Written reports whether a document of a tree, as an engine holds it, has the content that its own
// fingerprint tells: it is as Append made it. The engine may have put an object's members
// in another order.
func Written(t *shape.Tree, stored []byte) bool {
	doc := gjson.ParseBytes(stored)
	fingerprint := doc.Get(definition.FingerprintField).String()
	if len(fingerprint) != fingerprintDigits || !doc.IsObject() {
		return false
	}
	var dst []byte
	if t.Name != "" {
		dst = append(append(append(dst, `,"`+definition.RowsField+`":"`...), t.Name...), '"')
	}
	dst, members := again(dst, t, t.Root(), doc, true)
	extra := 1
	if t.Name != "" {
		extra = 2
	}
	return members+extra == len(doc.Map()) && fmt.Sprintf("%016x", xxhash.Sum64(dst)) == fingerprint
}

// again appends the members of a node's object in the shape's order, and says how many there are.
func again(dst []byte, t *shape.Tree, n *shape.Node, doc gjson.Result, opened bool) ([]byte, int) {
	if !opened {
		dst = append(dst, '{')
	}
	start, members := len(dst), doc.Map()
	count := 0
	member := func(name string) (gjson.Result, bool) {
		v, has := members[name]
		if !has {
			return v, false
		}
		if opened || len(dst) > start {
			dst = append(dst, ',')
		}
		dst = append(appendString(dst, name), ':')
		count++
		return v, true
	}
	for i := range n.Fields {
		switch v, has := member(n.Fields[i].Name); {
		case has && n.Fields[i].Type == shape.Object:
			dst = append(dst, v.Raw...) // in the source's own words
		case has:
			dst = appendAgain(dst, v)
		}
	}
	for _, id := range n.Children {
		child := t.Nodes[id]
		v, has := member(child.Name)
		if !has {
			continue
		}
		related := func(v gjson.Result) {
			if !v.IsObject() || child.List {
				dst = appendAgain(dst, v)
				return
			}
			dst, _ = again(dst, t, child, v, false)
		}
		if !v.IsArray() {
			related(v)
			continue
		}
		dst = append(dst, '[')
		for i, one := range v.Array() {
			if i > 0 {
				dst = append(dst, ',')
			}
			related(one)
		}
		dst = append(dst, ']')
	}
	return append(dst, '}'), count
}

// appendAgain appends a value as Append writes it.
func appendAgain(dst []byte, v gjson.Result) []byte {
	switch {
	case v.Type == gjson.String:
		return appendString(dst, v.Str)
	case v.IsArray():
		dst = append(dst, '[')
		for i, one := range v.Array() {
			if i > 0 {
				dst = append(dst, ',')
			}
			dst = appendAgain(dst, one)
		}
		return append(dst, ']')
	}
	return append(dst, v.Raw...)
}
