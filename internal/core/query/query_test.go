package query

import (
	"fmt"
	"strings"
	"testing"

	"pingo/internal/core/shape"
)

func huts() *shape.Shape {
	field := func(name string, t shape.Type) shape.Field { return shape.Field{Name: name, Type: t, Filter: true} }
	return &shape.Shape{
		Index: "huts",
		Trees: []*shape.Tree{{Nodes: []*shape.Node{{Parent: -1, Fields: []shape.Field{
			field(
				"beds",
				shape.Integer,
			), field("price", shape.Decimal), field("kind", shape.Keyword), field("open", shape.Boolean),
			field("since", shape.Date), field("seen", shape.Timestamp), field("place", shape.Geo),
			{Name: "name", Type: shape.Text, Search: 1, Sort: true},
		}}}}},
	}
}

func show(f Filter) string {
	var b strings.Builder
	fmt.Fprint(&b, strings.Join(f.Values, "|"))
	if f.From != nil {
		fmt.Fprintf(&b, "from %s %v ", f.From.Value, f.From.Open)
	}
	if f.To != nil {
		fmt.Fprintf(&b, "to %s %v", f.To.Value, f.To.Open)
	}
	if f.Near != nil {
		fmt.Fprint(&b, *f.Near)
	}
	if f.Within != nil {
		fmt.Fprint(&b, *f.Within)
	}
	return strings.TrimSpace(b.String())
}

func TestFilters(t *testing.T) {
	for text, want := range map[string]string{
		"kind=hut":                      "hut",
		`kind=hut|a\|b|`:                "hut|a|b|",
		"kind=a..b":                     "a..b",
		"kind==x":                       "=x",
		"beds=9007199254740993":         "9007199254740993",
		"beds=1|+2":                     "1|2",
		"beds>=10":                      "from 10 false",
		"beds<10.5":                     "to 10.5 true",
		"beds=10..20":                   "from 10 false to 20 false",
		"beds=..20":                     "to 20 false",
		"price>-1.5e3":                  "from -1.5e3 true",
		"open=true":                     "true",
		"since=2031":                    "from 2031-01-01 false to 2032-01-01 true",
		"since=2031-02":                 "from 2031-02-01 false to 2031-03-01 true",
		"since=2031-06-01":              "from 2031-06-01 false to 2031-06-02 true",
		"since>2031-06-01":              "from 2031-06-02 false",
		"since<=2031-12":                "to 2032-01-01 true",
		"since=2031-06..2031-07":        "from 2031-06-01 false to 2031-08-01 true",
		"since=-0043-03-15":             "from -0043-03-15 false to -0043-03-16 true",
		"since=2031-06-01|2032-01-01":   "2031-06-01|2032-01-01",
		"seen=2031-06-01T10":            "from 2031-06-01T10:00:00Z false to 2031-06-01T11:00:00Z true",
		"seen>=2031-06-01T10:00+02:00":  "from 2031-06-01T08:00:00Z false",
		"seen=2031-06-01T10:20:30.123Z": "from 2031-06-01T10:20:30.123Z false to 2031-06-01T10:20:30.123Z false",
		"seen>2031-06-01T10:20:30.5Z":   "from 2031-06-01T10:20:30.5Z true",
		"place=near(46.5, 8.5, 20km)":   "{46.5 8.5 20000}",
		"place=within(-10,170,10,-170)": "{-10 170 10 -170}",
	} {
		f, err := ReadFilter(huts(), text)
		if got := show(f); err != nil || got != want {
			t.Errorf("%s: %q %v, want %q", text, got, err, want)
		}
	}
	for text, want := range map[string]string{
		"kind":                             "a filter is FIELD=VALUE, FIELD>=VALUE and so on",
		"=x":                               "a filter is",
		"bed=1":                            `no field "bed" with the role filter: did you mean "beds"?`,
		"name=x":                           `no field "name" with the role filter`,
		"beds=many":                        `"many" is no whole number`,
		"beds=1.5":                         `"1.5" is no whole number`,
		"beds>x":                           `"x" is no number`,
		"price=NaN":                        `"NaN" is no number`,
		"beds=..":                          "a range has a beginning or an end",
		"open=yes":                         `"yes" is neither true nor false`,
		"kind>a":                           "values of type keyword have no order; use =",
		"since=yesterday":                  `"yesterday" is no day or moment, such as 2031`,
		"since=2031|2032":                  `"2031" is more than one date, up to 2032-01-01`,
		"seen=2031-06-01|2031-07-01":       `"2031-06-01" is more than one timestamp`,
		"since=2031-02-30":                 `"2031-02-30" does not exist in the calendar`,
		"place=46,8":                       "a place is asked for by near(LATITUDE,LONGITUDE,RADIUS)",
		"place=near(91,8,1km)":             `"91" is no number of degrees from -90 to 90`,
		"place=near(46,8,far)":             `"far" is no distance, such as 500m`,
		"place=within(47,8,46,9)":          "the box ends in the north (46) before it begins in the south (47)",
		"place>1":                          "a place is asked for by",
		"kind=" + strings.Repeat("|", 300): "at most 200",
	} {
		if f, err := ReadFilter(huts(), text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.40s: %+v %v, want %s", text, f, err, want)
		}
	}
}

func TestPhrases(t *testing.T) {
	for text, want := range map[string]string{
		`stone  ridge`:           "stone ridge; ",
		`stone "dusk  pass" hut`: "stone hut; dusk pass",
		`"a b" "c"`:              "; a b|c",
		`12" rope`:               `12" rope; `,
		`""`:                     "; ",
		`"grim ridge" and "far`:  `and "far; grim ridge`,
	} {
		words, phrases := Text(text)
		if got := words + "; " + strings.Join(phrases, "|"); got != want {
			t.Errorf("%s: %q, want %q", text, got, want)
		}
	}
}

// Whatever people write, they get a filter of the field's kind or an error, and a bound that can be read again.
func FuzzFilter(f *testing.F) {
	for _, text := range []string{"beds=4", "beds>=2", "name=a|b", `name="a|b"`, "opened<2031-05", "at=2031-05-05T10:00", "position near 46.5,7.1 within 3 km", "position within 1,2,3,4", "x", ""} {
		f.Add(text)
	}
	s := huts()
	f.Fuzz(func(t *testing.T, text string) {
		filter, err := ReadFilter(s, text)
		if err != nil {
			return
		}
		ways := 0
		for _, set := range []bool{filter.Values != nil, filter.From != nil || filter.To != nil, filter.Near != nil, filter.Within != nil} {
			if set {
				ways++
			}
		}
		if ways != 1 || !strings.HasPrefix(text, filter.Path) && !strings.Contains(text, filter.Path) ||
			len(filter.Values) > MaxValues {
			t.Errorf("%q: %+v", text, filter)
		}
		Text(text)
	})
}
