package document

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/big"
	"slices"
)

// Difference is a field in which two documents differ. A side that lacks the field is empty.
type Difference struct {
	// Path has dots between the names of objects; a list is compared as a whole.
	Path     string
	Old, New json.RawMessage
}

// Compare lists the fields in which two documents differ, by path. Numbers are the same however
// they are written; the order of an object's members says nothing.
func Compare(old, new []byte) ([]Difference, error) {
	var sides [2]any
	for i, b := range [][]byte{old, new} {
		d := json.NewDecoder(bytes.NewReader(b))
		d.UseNumber()
		if err := d.Decode(&sides[i]); err != nil {
			return nil, fmt.Errorf("a document that is no JSON: %w", err)
		}
	}
	var out []Difference
	err := compare("", sides[0], sides[1], &out)
	return out, err
}

func compare(path string, old, new any, out *[]Difference) error {
	a, isObject := old.(map[string]any)
	b, too := new.(map[string]any)
	if !isObject || !too {
		if same(old, new) {
			return nil
		}
		d := Difference{Path: path}
		var err1, err2 error
		d.Old, err1 = json.Marshal(old)
		d.New, err2 = json.Marshal(new)
		*out = append(*out, d)
		return errors.Join(err1, err2)
	}
	all := maps.Clone(a)
	maps.Copy(all, b)
	for _, name := range slices.Sorted(maps.Keys(all)) {
		at := name
		if path != "" {
			at = path + "." + name
		}
		x, inOld := a[name]
		y, inNew := b[name]
		if inOld && inNew {
			if err := compare(at, x, y, out); err != nil {
				return err
			}
			continue
		}
		only, err := json.Marshal(all[name])
		if err != nil {
			return err
		}
		d := Difference{Path: at, Old: only}
		if inNew {
			d.Old, d.New = nil, only
		}
		*out = append(*out, d)
	}
	return nil
}

// same reports whether two values that are not both objects are the same.
func same(a, b any) bool {
	switch a := a.(type) {
	case json.Number:
		b, ok := b.(json.Number)
		return ok && (a == b || sameNumber(string(a), string(b)))
	case []any:
		b, ok := b.([]any)
		return ok && slices.EqualFunc(a, b, same)
	case map[string]any:
		b, ok := b.(map[string]any)
		return ok && maps.EqualFunc(a, b, same)
	}
	return a == b
}

// sameNumber compares numbers that are written in two ways. Those with a fraction are the same if they are the same double:
// engines read them as one, and some write more digits of it than others.
func sameNumber(a, b string) bool {
	x, ok := new(big.Rat).SetString(a)
	y, too := new(big.Rat).SetString(b)
	if !ok || !too || x.Cmp(y) == 0 {
		return ok && too
	}
	if x.IsInt() || y.IsInt() {
		return false
	}
	first, _ := x.Float64()
	second, _ := y.Float64()
	return first == second
}
