package taskserver

import (
	"encoding/json"
	"fmt"
	"math"
	"path"
	"slices"
	"strconv"
	"strings"
	"unicode"
)

// filter reads a condition: a text, or a list whose members must all hold, and where a list in the list holds if one of its
// members does.
func (i *index) filter(in any, code string) (func(d document) bool, *Error) {
	switch in := in.(type) {
	case nil:
		return func(document) bool { return true }, nil
	case string:
		if strings.TrimSpace(in) == "" {
			return func(document) bool { return true }, nil
		}
		p := &parser{text: in, index: i}
		fits, err := p.or()
		if err == nil && p.peek() != "" {
			err = wrong("Found unexpected characters at the end of the filter: `%s`.", p.peek())
		}
		if err != nil {
			return nil, fault(400, code, "%v", err)
		}
		return fits, nil
	case []any:
		var all []func(document) bool
		for _, part := range in {
			if list, is := part.([]any); is {
				var either []func(document) bool
				for _, p := range list {
					fits, fail := i.filter(p, code)
					if fail != nil {
						return nil, fail
					}
					either = append(either, fits)
				}
				all = append(all, func(d document) bool {
					return slices.ContainsFunc(either, func(fits func(document) bool) bool { return fits(d) })
				})
				continue
			}
			fits, fail := i.filter(part, code)
			if fail != nil {
				return nil, fail
			}
			all = append(all, fits)
		}
		return func(d document) bool {
			return !slices.ContainsFunc(all, func(fits func(document) bool) bool { return !fits(d) })
		}, nil
	}
	return nil, fault(400, code, "Invalid syntax for the filter parameter: `expected String, Array, found: %s`.", kindOf(in))
}

// syntaxError is what is wrong with a condition, in the server's words.
type syntaxError string

func (e syntaxError) Error() string { return string(e) }

func wrong(format string, args ...any) error { return syntaxError(fmt.Sprintf(format, args...)) }

// parser reads a condition by its grammar: OR of AND of NOT of comparisons.
type parser struct {
	text  string
	index *index
}

// token takes the next one: a sign, a word, or a text in quotation marks, which begins with one.
func (p *parser) token() string {
	p.text = strings.TrimLeftFunc(p.text, unicode.IsSpace)
	if p.text == "" {
		return ""
	}
	for _, sign := range []string{"!=", ">=", "<=", "=", ">", "<", "(", ")", "[", "]", ","} {
		if rest, is := strings.CutPrefix(p.text, sign); is {
			p.text = rest
			return sign
		}
	}
	if mark := p.text[0]; mark == '"' || mark == '\'' {
		var b strings.Builder
		b.WriteByte('"')
		for n := 1; n < len(p.text); n++ {
			switch p.text[n] {
			case mark:
				p.text = p.text[n+1:]
				return b.String()
			case '\\':
				if n+1 < len(p.text) {
					n++
				}
			}
			b.WriteByte(p.text[n])
		}
		p.text = ""
		return b.String()
	}
	end := strings.IndexFunc(p.text, func(r rune) bool { return unicode.IsSpace(r) || strings.ContainsRune("()[],=<>!", r) })
	if end < 0 {
		end = len(p.text)
	}
	word := p.text[:max(1, end)]
	p.text = p.text[len(word):]
	return word
}

func (p *parser) peek() string {
	before := p.text
	t := p.token()
	p.text = before
	return t
}

func (p *parser) take(word string) bool {
	if !strings.EqualFold(p.peek(), word) {
		return false
	}
	p.token()
	return true
}

func (p *parser) or() (func(document) bool, error) {
	left, err := p.and()
	for err == nil && p.take("OR") {
		var right func(document) bool
		before := left
		if right, err = p.and(); err == nil {
			left = func(d document) bool { return before(d) || right(d) }
		}
	}
	return left, err
}

func (p *parser) and() (func(document) bool, error) {
	left, err := p.not()
	for err == nil && p.take("AND") {
		var right func(document) bool
		before := left
		if right, err = p.not(); err == nil {
			left = func(d document) bool { return before(d) && right(d) }
		}
	}
	return left, err
}

func (p *parser) not() (func(document) bool, error) {
	if p.take("NOT") {
		inner, err := p.not()
		return func(d document) bool { return !inner(d) }, err
	}
	if p.take("(") {
		inner, err := p.or()
		if err == nil && !p.take(")") {
			err = wrong("Expression `(` is missing the following closing delimiter: `)`.")
		}
		return inner, err
	}
	return p.comparison()
}

func (p *parser) comparison() (func(document) bool, error) {
	name := strings.TrimPrefix(p.token(), `"`)
	switch name {
	case "":
		return nil, wrong("Was expecting an operation `=`, `!=`, `>=`, `>`, `<=`, `<`, `IN`, `NOT IN`, `TO`, `EXISTS`, `NOT EXISTS`, `IS NULL`, `IS NOT NULL`, `IS EMPTY`, `IS NOT EMPTY`, `_geoRadius`, or `_geoBoundingBox` at the end.")
	case "_geoRadius", "_geoBoundingBox":
		return p.geo(name)
	}
	if !p.index.filterable(name) {
		return nil, wrong("Attribute `%s` is not filterable. Available filterable attribute patterns are: `%s`.", name, strings.Join(p.index.texts("filterableAttributes"), ", "))
	}
	each := func(fits func(v any) bool) func(document) bool {
		return func(d document) bool { return slices.ContainsFunc(valuesAt(d, name), fits) }
	}
	exists := func(d document) bool { _, has := at(d, name); return has }
	negated := p.take("NOT")
	flip := func(f func(document) bool) func(document) bool {
		if negated {
			return func(d document) bool { return !f(d) }
		}
		return f
	}
	op := p.token()
	switch strings.ToUpper(op) {
	case "=", "!=":
		want := strings.TrimPrefix(p.token(), `"`)
		equal := each(func(v any) bool { return same(v, want) })
		if op == "!=" {
			return func(d document) bool { return !equal(d) }, nil
		}
		return equal, nil
	case ">", ">=", "<", "<=":
		x, err := p.number()
		return each(func(v any) bool {
			n, is := numberOf(v)
			return is && (op == ">" && n > x || op == ">=" && n >= x || op == "<" && n < x || op == "<=" && n <= x)
		}), err
	case "IN":
		var list []string
		if !p.take("[") {
			return nil, wrong("Expected `[` after `IN` keyword.")
		}
		for !p.take("]") {
			t := p.token()
			if t == "" {
				return nil, wrong("Expected only comma-separated field names inside `IN[..]` but instead found the end.")
			}
			if t != "," {
				list = append(list, strings.TrimPrefix(t, `"`))
			}
		}
		return flip(each(func(v any) bool { return slices.ContainsFunc(list, func(want string) bool { return same(v, want) }) })), nil
	case "EXISTS":
		return flip(exists), nil
	case "IS":
		not := p.take("NOT")
		kind := strings.ToUpper(p.token())
		is := func(d document) bool {
			v, has := at(d, name)
			if kind == "NULL" {
				return has && v == nil
			}
			empty, _ := json.Marshal(v)
			return has && slices.Contains([]string{`""`, "[]", "{}"}, string(empty))
		}
		return func(d document) bool { return is(d) != not && (!not || exists(d)) }, nil
	}
	// NAME FROM TO TO
	from, err := strconv.ParseFloat(strings.TrimPrefix(op, `"`), 64)
	if err != nil || !p.take("TO") {
		return nil, wrong("Was expecting an operation after `%s`, but found `%s`.", name, op)
	}
	to, err := p.number()
	return each(func(v any) bool { n, is := numberOf(v); return is && n >= from && n <= to }), err
}

func (p *parser) number() (float64, error) {
	t := strings.TrimPrefix(p.token(), `"`)
	x, err := strconv.ParseFloat(t, 64)
	if err != nil {
		return 0, wrong("Value `%s` is not a finite number.", t)
	}
	return x, nil
}

func (p *parser) geo(name string) (func(document) bool, error) {
	if !p.index.filterable("_geo") {
		return nil, wrong("Attribute `_geo` is not filterable.")
	}
	var numbers []float64
	for depth := 0; ; {
		switch t := p.token(); t {
		case "(", "[":
			depth++
		case "]", ")":
			depth--
		case ",":
		default:
			x, err := strconv.ParseFloat(t, 64)
			if err != nil {
				return nil, wrong("The `%s` filter expects numbers, but found `%s`.", name, t)
			}
			numbers = append(numbers, x)
		}
		if depth == 0 {
			break
		}
	}
	if name == "_geoRadius" {
		if len(numbers) != 3 {
			return nil, wrong("The `_geoRadius` filter expects three arguments: `_geoRadius(latitude, longitude, radius)`.")
		}
		return func(d document) bool {
			lat, lng, ok := placeOf(d["_geo"])
			return ok && distance(numbers[0], numbers[1], lat, lng) <= numbers[2]
		}, nil
	}
	if len(numbers) != 4 {
		return nil, wrong("The `_geoBoundingBox` filter expects two pairs of arguments: `_geoBoundingBox([latitude, longitude], [latitude, longitude])`.")
	}
	north, east, south, west := numbers[0], numbers[1], numbers[2], numbers[3]
	return func(d document) bool {
		lat, lng, ok := placeOf(d["_geo"])
		inside := west <= lng && lng <= east
		if west > east {
			inside = lng >= west || lng <= east
		}
		return ok && lat >= south && lat <= north && inside
	}, nil
}

// distance of two places in metres, on a sphere.
func distance(lat1, lng1, lat2, lng2 float64) float64 {
	rad := math.Pi / 180
	a := math.Pow(math.Sin((lat2-lat1)*rad/2), 2) + math.Cos(lat1*rad)*math.Cos(lat2*rad)*math.Pow(math.Sin((lng2-lng1)*rad/2), 2)
	return 2 * 6371000 * math.Asin(math.Sqrt(a))
}

func (i *index) filterable(name string) bool {
	return slices.ContainsFunc(i.texts("filterableAttributes"), func(pattern string) bool {
		match, err := path.Match(pattern, name)
		return pattern == name || err == nil && match || strings.HasPrefix(name, pattern+".")
	})
}

// at finds a member by its path, through objects only.
func at(d map[string]any, name string) (any, bool) {
	if v, has := d[name]; has {
		return v, true
	}
	top, rest, nested := strings.Cut(name, ".")
	if inner, is := d[top].(map[string]any); nested && is {
		return at(inner, rest)
	}
	return nil, false
}

// valuesAt lists the values at a path, through lists, too.
func valuesAt(v any, name string) (out []any) {
	switch v := v.(type) {
	case []any:
		for _, child := range v {
			out = append(out, valuesAt(child, name)...)
		}
	case map[string]any:
		if name == "" {
			return nil
		}
		if child, has := v[name]; has {
			return valuesAt(child, "")
		}
		if top, rest, nested := strings.Cut(name, "."); nested {
			if child, has := v[top]; has {
				return valuesAt(child, rest)
			}
		}
	case nil:
	default:
		if name == "" {
			out = append(out, v)
		}
	}
	return out
}

func numberOf(v any) (float64, bool) {
	switch v := v.(type) {
	case json.Number:
		n, err := v.Float64()
		return n, err == nil
	case float64:
		return v, true
	case string:
		n, err := strconv.ParseFloat(v, 64)
		return n, err == nil
	}
	return 0, false
}

// same compares a value with a text of a filter: numbers as numbers, texts whatever their case.
func same(v any, want string) bool {
	switch v := v.(type) {
	case string:
		return strings.EqualFold(v, want)
	case bool:
		return strconv.FormatBool(v) == want
	case json.Number:
		a, err1 := v.Float64()
		b, err2 := strconv.ParseFloat(want, 64)
		return err1 == nil && err2 == nil && a == b
	}
	return false
}
