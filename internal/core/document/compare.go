package document

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
)

// Difference is a field in which two documents differ. A side that lacks the field is empty.
type Difference struct {
	// Path has dots between the names of objects; a list is compared as a whole.
	Path     string
	Old, New json.RawMessage
}

// Compare lists the fields in which two documents differ, by path. Numbers are the same when they are
// written alike; the order of an object's members says nothing.
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
		if reflect.DeepEqual(old, new) {
			return nil
		}
		d := Difference{Path: path}
		var err error
		if d.Old, err = json.Marshal(old); err != nil {
			return err
		}
		if d.New, err = json.Marshal(new); err != nil {
			return err
		}
		*out = append(*out, d)
		return nil
	}
	names := slices.Collect(maps.Keys(a))
	for name := range b {
		if _, both := a[name]; !both {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		at := name
		if path != "" {
			at = path + "." + name
		}
		x, inOld := a[name]
		y, inNew := b[name]
		before := len(*out)
		if err := compare(at, x, y, out); err != nil {
			return err
		}
		for i := before; i < len(*out); i++ { // a field that is missing is not one that is null
			if (*out)[i].Path == at && !inOld {
				(*out)[i].Old = nil
			}
			if (*out)[i].Path == at && !inNew {
				(*out)[i].New = nil
			}
		}
	}
	return nil
}
