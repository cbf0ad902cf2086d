package postgres

import (
	"encoding/json"
	"strings"
	"testing"

	"pingo/internal/core/document"
	"pingo/internal/core/shape"
)

// PostgreSQL's text of a value becomes its neutral form, and that JSON.
func TestValuesBecomeNeutral(t *testing.T) {
	for _, c := range []struct {
		kind           shape.Type
		form, in, want string
	}{
		{shape.Integer, "int8", "9223372036854775807", "9223372036854775807"},
		{shape.Decimal, "numeric", "-0.000000000000000000012345", "-0.000000000000000000012345"},
		{shape.Decimal, "float8", "NaN", "null"}, {shape.Decimal, "float8", "-Infinity", "null"},
		{shape.Boolean, "bool", "t", "true"}, {shape.Boolean, "bool", "f", "false"},
		{shape.Date, "date", "2031-06-01", `"2031-06-01"`}, {shape.Date, "date", "infinity", "null"},
		{shape.Timestamp, "timestamptz", "2031-06-01 10:20:30.5+00", `"2031-06-01T10:20:30.5Z"`},
		{shape.Keyword, "timestamptz", "2031-06-01 10:20:30+00", `"2031-06-01T10:20:30Z"`},
		{shape.Timestamp, "timestamp", "2031-06-01 10:20:30", `"2031-06-01T10:20:30"`}, {shape.Timestamp, "timestamptz", "-infinity", "null"},
		{shape.Object, "jsonb", "{\"a\":\n [1]}", `{"a":  [1]}`},
		{shape.Geo, "float8[]", "{8.5,46.25}", "[8.5,46.25]"}, {shape.Geo, "point", "(8.5,46.25)", "[8.5,46.25]"},
		{shape.Geo, "float8[]", "{NULL,1}", "null"}, {shape.Geo, "float8[]", "{NaN,1}", "null"}, {shape.Geo, "float8[]", "{1}", "null"},
		{shape.Date, "date", "0044-03-15 BC", `"-0043-03-15"`}, {shape.Date, "date", "0001-01-01 BC", `"0000-01-01"`}, {shape.Date, "date", "12031-06-01", `"+12031-06-01"`},
		{shape.Timestamp, "timestamptz", "0044-03-15 10:20:30+00 BC", `"-0043-03-15T10:20:30Z"`},
		{shape.Timestamp, "timestamptz", "294276-12-31 23:59:59.999999+00", `"+294276-12-31T23:59:59.999999Z"`},
		{shape.Decimal, "numeric", "1" + strings.Repeat("0", 400), "null"}, {shape.Decimal, "numeric", "0." + strings.Repeat("1", 400), "0." + strings.Repeat("1", 400)},
	} {
		if got := throughRows(c.in, shape.Column{Form: c.form, Type: c.kind}); got != c.want {
			t.Errorf("%s %q: %s, want %s", c.form, c.in, got, c.want)
		}
	}
	for _, c := range []struct {
		kind           shape.Type
		form, in, want string
	}{
		{shape.Geo, "point[]", `{"(8.5,46.25)",NULL}`, "[[8.5,46.25]]"},
		{shape.Text, "text[]", `{a,"b \"c\", d",NULL,"NULL",""}`, `["a","b \"c\", d",null,"NULL",""]`},
		{shape.Integer, "int4[]", "{{1,2},{3,NULL}}", "[[1,2],[3,null]]"}, {shape.Integer, "int4[]", "{}", "[]"}, {shape.Integer, "int4[]", "[0:1]={4,5}", "[4,5]"},
		{shape.Boolean, "bool[]", "{t,f}", "[true,false]"}, {shape.Timestamp, "timestamptz[]", `{"2031-06-01 10:20:30+00"}`, `["2031-06-01T10:20:30Z"]`},
		{shape.Keyword, "int4[]", "{1,2}", `["1","2"]`}, {shape.Decimal, "float8[]", "{NaN,1.5}", "[null,1.5]"},
	} {
		if got := throughRows(c.in, shape.Column{Form: c.form, Type: c.kind, Array: true}); got != c.want {
			t.Errorf("%s %q: %s, want %s", c.form, c.in, got, c.want)
		}
	}
}

// throughRows gives the JSON that a document has for a value.
func throughRows(in string, c shape.Column) string {
	tree := &shape.Tree{
		Nodes: []*shape.Node{
			{
				Parent:  -1,
				Columns: []shape.Column{c},
				Fields:  []shape.Field{{Name: "v", Type: c.Type, Array: c.Array}},
			},
		},
	}
	set := document.NewSet(tree)
	set.Rows(0).Add([][]byte{[]byte(in)}, []document.Writer{writerOf(c)})
	var doc map[string]json.RawMessage
	if err := json.Unmarshal(set.Append(nil, 0), &doc); err != nil {
		return err.Error()
	}
	return string(doc["v"])
}

func FuzzArray(f *testing.F) {
	f.Add(`{a,"b",{c}}`)
	f.Fuzz(func(t *testing.T, literal string) {
		appendList(nil, shape.Text, "text", []byte(literal)) // whatever comes, it must end
	})
}
