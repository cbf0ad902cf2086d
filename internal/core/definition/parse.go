package definition

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"gopkg.in/yaml.v3"

	"pingo/internal/core/alert"
	"pingo/internal/core/drift"
	"pingo/internal/core/reindex"
)

// Parse reads definition files. look resolves ${…} references, so that a missing
// environment variable is found before anything runs; the values are not kept.
// A non-empty list of findings means that the definition cannot be used. What is not
// Broken in it can still be looked at.
func Parse(files []File, kinds Kinds, look Lookup) (*Definition, Findings) {
	d := &decoder{
		def:   &Definition{Alerts: Alerts{Limits: alert.DefaultLimits}},
		kinds: kinds, lookup: look, budget: maxNodes, referred: map[string]bool{},
	}
	for _, f := range files {
		d.file = f.Name
		d.documents(f)
	}
	d.crossCheck()
	d.findings = d.findings.Sorted()
	slices.Sort(d.def.References)
	return d.def, d.findings
}

// reveal replaces references, and notes them.
func (d *decoder) reveal(s Secret) (string, error) {
	for _, m := range reference.FindAllString(s.Written, -1) {
		if !d.referred[m] {
			d.referred[m] = true
			d.def.References = append(d.def.References, m)
		}
	}
	return s.Reveal(d.lookup)
}

type decoder struct {
	file     string
	def      *Definition
	kinds    Kinds
	lookup   Lookup
	unread   bool // a file is not YAML, so its content is unknown
	empty    bool // indexes: {} says that there is none, on purpose
	findings Findings
	budget   int             // how many keys and values may still follow
	referred map[string]bool // what is in References
}

type scalar struct {
	text string
	pos  Pos
}

func (d *decoder) at(n *yaml.Node) Pos { return Pos{d.file, n.Line, n.Column} }

// mostFindings is how many are worth reading.
const mostFindings = 500

func (d *decoder) find(p Pos, message, suggestion string) {
	if len(d.findings) > mostFindings {
		return
	}
	if len(d.findings) == mostFindings {
		message, suggestion = fmt.Sprintf("more than %d mistakes were found; this is one of the others", mostFindings), "fix the listed ones first"
	}
	d.findings = append(d.findings, Finding{p, message, suggestion})
}

var yamlLine = regexp.MustCompile(`line (\d+): `)

// documents reads a file; one may hold several documents, each after ---, as several files would.
func (d *decoder) documents(f File) {
	parser := yaml.NewDecoder(bytes.NewReader([]byte(f.Text)))
	for first := true; d.document(f, parser, first); first = false {
	}
}

// halfQuoted finds a value that begins with a quoted name of SQL and goes on, which YAML does not take.
var halfQuoted = regexp.MustCompile(`(?m):[ \t]+("[^"\n]*"[ \t]*[^\s,}\]#:][^,}\n]*)`)

// document reads the next document of a file, and reports whether another may follow.
func (d *decoder) document(f File, parser *yaml.Decoder, first bool) (more bool) {
	var root yaml.Node
	if err := parser.Decode(&root); err != nil && !errors.Is(err, io.EOF) {
		message, line := strings.TrimPrefix(err.Error(), "yaml: "), 1
		if m := yamlLine.FindStringSubmatch(message); m != nil {
			line, _ = strconv.Atoi(m[1])
			message = strings.Replace(message, m[0], "", 1)
		}
		d.unread = true
		at, advice := Pos{f.Name, line, 1}, "look at the indentation and quotes here and in the line before"
		for _, m := range halfQuoted.FindAllStringSubmatchIndex(f.Text, -1) {
			before := f.Text[:m[2]]
			if strings.Count(before, "\n")+1 < line { // it was read
				continue
			}
			at.Line, at.Col = strings.Count(before, "\n")+1, len(before)-strings.LastIndex(before, "\n")
			message = "text follows a quoted value"
			advice = fmt.Sprintf("put the whole value in single quotes: '%s'", strings.ReplaceAll(strings.TrimSpace(f.Text[m[2]:m[3]]), "'", "''"))
			break
		}
		d.find(at, "this is not YAML: "+message, advice)
		return false
	}
	if len(root.Content) == 0 {
		if first {
			d.find(
				Pos{f.Name, 1, 1},
				"the file is empty",
				"give it sources, engines and indexes; pingo schema describes them",
			)
		}
		return false
	}
	top := d.expand(root.Content[0], &d.budget)
	if d.budget < 0 {
		d.unread = true
		d.find(
			d.at(root.Content[0]),
			"the definition is too large, or refers to itself",
			fmt.Sprintf("keep it below %d keys and values, with those that * repeats", maxNodes),
		)
		return false
	}
	d.object(top, "a definition", fields{
		"sources": func(_, v *yaml.Node) { d.each(v, "sources", d.source) },
		"engines": func(_, v *yaml.Node) { d.each(v, "engines", d.engine) },
		"indexes": func(_, v *yaml.Node) {
			d.empty = d.empty || v.Kind == yaml.MappingNode && len(v.Content) == 0
			d.each(v, "indexes", d.index)
		},
		"alerts": func(_, v *yaml.Node) { d.alerts(v) },
	})
	return true
}

// maxNodes bounds what a definition may grow to by references to its own parts.
const maxNodes = 100000

// expand puts in place what *name and <<: *name refer to. Keys next to a
// << win over those it brings.
func (d *decoder) expand(n *yaml.Node, budget *int) *yaml.Node {
	if n.Kind == yaml.AliasNode {
		n = n.Alias
	}
	if *budget--; *budget < 0 {
		return n
	}
	out := *n
	out.Content = nil
	var merged []*yaml.Node
	for i := 0; i < len(n.Content); i++ {
		c := n.Content[i]
		if n.Kind == yaml.MappingNode && i%2 == 0 && c.Tag == "!!merge" {
			from := d.expand(n.Content[i+1], budget)
			if from.Kind != yaml.MappingNode {
				d.find(
					d.at(c),
					"<< takes keys and values over, not "+kindName(from),
					"write <<: *name, where &name stands before keys and values",
				)
			} else {
				merged = append(merged, from.Content...)
				*budget -= len(from.Content) // what is repeated costs as much as what is written
			}
			i++
			continue
		}
		out.Content = append(out.Content, d.expand(c, budget))
		if *budget < 0 {
			break
		}
	}
	if len(merged) == 0 {
		return &out
	}
	has := map[string]bool{}
	for j := 0; j < len(out.Content); j += 2 {
		has[out.Content[j].Value] = true
	}
	for i := 0; i+1 < len(merged); i += 2 {
		if name := merged[i].Value; !has[name] {
			has[name] = true
			out.Content = append(out.Content, merged[i], merged[i+1])
		}
	}
	return &out
}

type fields map[string]func(k, v *yaml.Node)

// object reads a mapping whose keys are known; anything else is a finding with
// the nearest known word. It reports whether n was a mapping and which keys it had.
func (d *decoder) object(n *yaml.Node, what string, known fields, required ...string) map[string]bool {
	if n.Kind == yaml.AliasNode {
		n = n.Alias
	}
	if n.Kind != yaml.MappingNode {
		d.find(
			d.at(n),
			fmt.Sprintf("%s is written as keys and values, not as %s", what, kindName(n)),
			"write them below it, indented, or between { and }",
		)
		return nil
	}
	words := make([]string, 0, len(known))
	for k := range known {
		words = append(words, k)
	}
	seen := map[string]bool{}
	for i := 0; i < len(n.Content); i += 2 {
		k, v := n.Content[i], n.Content[i+1]
		if seen[k.Value] {
			d.find(d.at(k), fmt.Sprintf("%q stands twice in %s", k.Value, what), "keep one of them")
			continue
		}
		seen[k.Value] = true
		read, ok := known[k.Value]
		if !ok {
			d.find(d.at(k), fmt.Sprintf("%s has no key %q", what, k.Value), Nearest(k.Value, words))
			continue
		}
		read(k, v)
	}
	for _, r := range required {
		if !seen[r] {
			d.find(d.at(n), fmt.Sprintf("%s needs %q", what, r), "add "+r+": to it")
		}
	}
	return seen
}

// each reads a mapping from names of the user's choice.
func (d *decoder) each(n *yaml.Node, what string, read func(k, v *yaml.Node)) {
	if n.Kind != yaml.MappingNode {
		d.find(
			d.at(n),
			fmt.Sprintf("%s are written as names, each with what it is, not as %s", what, kindName(n)),
			"write NAME: and below it, indented, what it is",
		)
		return
	}
	seen := map[string]bool{}
	for i := 0; i < len(n.Content); i += 2 {
		k := n.Content[i]
		if seen[k.Value] {
			d.find(
				d.at(k),
				fmt.Sprintf("%q stands twice under %s", k.Value, what),
				"keep one of them, or give it another name",
			)
			continue
		}
		seen[k.Value] = true
		read(k, n.Content[i+1])
	}
}

func (d *decoder) text(v *yaml.Node, what string) scalar {
	if v.Kind != yaml.ScalarNode || v.Tag == "!!null" || strings.TrimSpace(v.Value) == "" {
		d.find(
			d.at(v),
			fmt.Sprintf("%s is a text, not %s", what, kindName(v)),
			"write it behind the colon, in quotes if it has any of { } [ ] : # in it",
		)
		return scalar{pos: d.at(v)}
	}
	return scalar{v.Value, d.at(v)}
}

func (d *decoder) into(dst *string, what string) func(k, v *yaml.Node) {
	return func(_, v *yaml.Node) { *dst = d.text(v, what).text }
}

func (d *decoder) expression(dst *Expression, what string) func(k, v *yaml.Node) {
	return func(_, v *yaml.Node) {
		s := d.text(v, what)
		*dst = Expression{s.text, s.pos}
	}
}

func (d *decoder) word(dst *string, what string, words ...string) func(k, v *yaml.Node) {
	return func(_, v *yaml.Node) {
		s := d.text(v, what)
		*dst = s.text
		for _, w := range words {
			if w == s.text {
				return
			}
		}
		if s.text != "" {
			d.find(s.pos, fmt.Sprintf("%s cannot be %q", what, s.text), Nearest(s.text, words))
		}
	}
}

func (d *decoder) boolean(dst *bool, what string) func(k, v *yaml.Node) {
	return func(_, v *yaml.Node) {
		if v.Kind != yaml.ScalarNode || v.Tag != "!!bool" {
			d.find(
				d.at(v),
				fmt.Sprintf("%s is true or false, not %s", what, kindName(v)),
				"write "+what+": true, or leave it out",
			)
			return
		}
		*dst = v.Value == "true"
	}
}

func (d *decoder) number(v *yaml.Node, what string, min, max float64) float64 {
	f, err := strconv.ParseFloat(v.Value, 64)
	if v.Kind != yaml.ScalarNode || err != nil || !(f >= min && f <= max) { // nor what is no number at all
		d.find(
			d.at(v),
			fmt.Sprintf("%s is a number from %g to %g, not %s", what, min, max, kindName(v)),
			"write a number between these",
		)
		return 0
	}
	return f
}

var plainName = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)
var indexPattern = regexp.MustCompile(`^[a-z][a-z0-9_-]{0,99}$`)

func (d *decoder) name(k *yaml.Node, what string, pattern *regexp.Regexp) {
	if !pattern.MatchString(k.Value) {
		d.find(
			d.at(k),
			fmt.Sprintf("%q cannot name %s", k.Value, what),
			"begin with a lower-case letter; then lower-case letters, digits and _",
		)
	}
}

func (d *decoder) source(k, v *yaml.Node) {
	before := len(d.findings)
	s := &Source{
		Name: k.Value, Pos: d.at(k), JournalLimit: DefaultJournalLimit, PastLimit: "keep", TargetLag: DefaultTargetLag,
	}
	var url, capture scalar
	d.name(k, "a source", plainName)
	known := fields{
		"kind":    d.word(&s.Kind, "the kind of a source", kindNames(d.kinds.Sources)...),
		"url":     func(_, v *yaml.Node) { url = d.text(v, "url") },
		"capture": func(_, v *yaml.Node) { capture = d.text(v, "capture") },
		"journal_limit": func(_, v *yaml.Node) {
			text := d.text(v, "journal_limit")
			n, err := humanize.ParseBytes(text.text)
			if err != nil || n < 1e6 || n > 1e15 {
				d.find(
					text.pos,
					fmt.Sprintf("journal_limit is a size such as 512MB or 2GB, not %q", text.text),
					"write a number and MB, GB or TB",
				)
			}
			s.JournalLimit = int64(n)
		},
		"target_lag": func(_, v *yaml.Node) {
			s.TargetLag = d.span(v, "target_lag", 10*time.Millisecond, time.Second)
		},
		"past_limit": d.word(&s.PastLimit, "past_limit", "keep", "remove"),
	}
	d.ofKind(v, d.kinds.Sources, known, &s.Options)
	seen := d.object(v, "source "+k.Value, known, "kind")
	if kind := kindNamed(d.kinds.Sources, s.Kind); kind != nil {
		switch {
		case kind.Schemes == nil && url.text != "":
			d.find(
				url.pos,
				fmt.Sprintf("a source of kind %s has no url: what it holds is sent here", s.Kind),
				"take url out",
			)
		case kind.Schemes != nil && seen != nil && !seen["url"]:
			d.find(d.at(v), fmt.Sprintf("source %s needs %q", k.Value, "url"), "add url: to it")
		case kind.Schemes != nil:
			s.URL = d.secretURL(url, "source", kind.Schemes)
		}
		s.Capture = kind.Captures[0]
		if capture.text != "" {
			if s.Capture = capture.text; !slices.Contains(kind.Captures, s.Capture) {
				d.find(
					capture.pos,
					fmt.Sprintf("capture of a source of kind %s cannot be %q", s.Kind, s.Capture),
					Nearest(s.Capture, kind.Captures),
				)
			}
		}
	}
	s.Broken = len(d.findings) > before
	if other := d.def.Source(s.Name); other != nil {
		d.find(
			s.Pos,
			fmt.Sprintf("source %s is already defined in %s", s.Name, other.Pos),
			"give one of them another name",
		)
		return
	}
	d.def.Sources = append(d.def.Sources, s)
}

func (d *decoder) engine(k, v *yaml.Node) {
	before := len(d.findings)
	e := &Engine{Name: k.Value, Pos: d.at(k)}
	var url scalar
	d.name(k, "an engine", plainName)
	known := fields{
		"kind": d.word(&e.Kind, "the kind of an engine", kindNames(d.kinds.Engines)...),
		"url":  func(_, v *yaml.Node) { url = d.text(v, "url") },
	}
	d.ofKind(v, d.kinds.Engines, known, &e.Options)
	d.object(v, "engine "+k.Value, known, "url")
	if kind := kindNamed(d.kinds.Engines, e.Kind); kind != nil {
		e.URL = d.secretURL(url, "engine", kind.Schemes)
	} else if e.Kind == "" {
		var schemes []string
		for _, kind := range d.kinds.Engines {
			schemes = append(schemes, kind.Schemes...)
		}
		e.URL = d.secretURL(url, "engine", schemes)
	}
	e.Broken = len(d.findings) > before
	if other := d.def.Engine(e.Name); other != nil {
		d.find(
			e.Pos,
			fmt.Sprintf("engine %s is already defined in %s", e.Name, other.Pos),
			"give one of them another name",
		)
		return
	}
	d.def.Engines = append(d.def.Engines, e)
}

func (d *decoder) index(k, v *yaml.Node) {
	before := len(d.findings)
	ix := &Index{Name: k.Value, Pos: d.at(k), Reindex: reindex.DefaultPolicy, Drift: drift.DefaultPolicy}
	only := &Rows{Node: Node{Pos: d.at(k)}}
	if !indexPattern.MatchString(k.Value) {
		d.find(
			d.at(k),
			fmt.Sprintf("%q cannot name an index", k.Value),
			"begin with a lower-case letter; then lower-case letters, digits, - and _, at most 100",
		)
	}
	known := d.rowsFields(only)
	known["engine"] = func(_, v *yaml.Node) {
		s := d.text(v, "engine")
		ix.Engine, ix.EnginePos = s.text, s.pos
	}
	known["reindex"] = func(_, v *yaml.Node) { d.policy(&ix.Reindex, v) }
	known["drift"] = func(_, v *yaml.Node) { d.drift(&ix.Drift, v) }
	known["refresh"] = func(_, v *yaml.Node) { ix.Drift.Refresh = d.span(v, "refresh", time.Minute, longestKept) }
	known["expect"] = func(_, v *yaml.Node) { ix.Reindex.Expect = d.expect(v) }
	known["synonyms"] = func(_, v *yaml.Node) { ix.Synonyms = d.synonyms(v) }
	known["functions_allowed"] = func(_, v *yaml.Node) {
		if v.Kind != yaml.SequenceNode {
			d.find(
				d.at(v),
				fmt.Sprintf("functions_allowed is a list of names, not %s", kindName(v)),
				"write functions_allowed: [now]",
			)
			return
		}
		for _, name := range v.Content {
			ix.FunctionsAllowed = append(ix.FunctionsAllowed, d.text(name, "a function").text)
		}
		ix.Drift.Functions = ix.FunctionsAllowed
	}
	known["engine_settings"] = func(_, v *yaml.Node) {
		ix.SettingsPos = d.at(v)
		err := v.Decode(&ix.Settings)
		if err == nil {
			_, err = json.Marshal(ix.Settings) // an engine is sent them as JSON
		}
		if v.Kind != yaml.MappingNode || err != nil {
			d.find(
				d.at(v),
				fmt.Sprintf("engine_settings are written as keys and values, not as %s", kindName(v)),
				"write them as the engine's own documentation names them",
			)
		}
	}
	several := false
	known["rows"] = func(_, v *yaml.Node) {
		if v.Kind != yaml.MappingNode {
			d.rowsTable(only, v)
			return
		}
		several = true
		d.each(v, "rows", func(k, v *yaml.Node) { d.rows(ix, k, v) })
		if len(v.Content) == 0 {
			d.find(
				d.at(v),
				"there are no rows here",
				"write SOURCE.TABLE, or a name for each table with table: SOURCE.TABLE below it",
			)
		}
	}
	seen := d.object(v, "index "+k.Value, known, "engine", "rows")
	switch {
	case !several && seen != nil && seen["rows"]:
		ix.Rows = []*Rows{only}
		if !seen["fields"] {
			d.find(
				ix.Pos,
				fmt.Sprintf("index %s needs %q", k.Value, "fields"),
				"name the columns that its documents have",
			)
		}
	case several && (seen["fields"] || seen["where"] || seen["related"] || seen["key"]):
		d.find(
			ix.Pos,
			fmt.Sprintf("index %s has several rows, so fields, where, related and key belong to each of them", k.Value),
			"put these below each of the rows",
		)
	}
	if other := d.def.Index(ix.Name); other != nil {
		d.find(
			ix.Pos,
			fmt.Sprintf("index %s is already defined in %s", ix.Name, other.Pos),
			"give one of them another name",
		)
		return
	}
	ix.Broken = len(d.findings) > before
	d.def.Indexes = append(d.def.Indexes, ix)
}

// rows reads one of several tables of an index.
func (d *decoder) rows(ix *Index, k, v *yaml.Node) {
	r := &Rows{Name: k.Value, Node: Node{Pos: d.at(k)}}
	d.name(k, "rows", plainName)
	known := d.rowsFields(r)
	known["table"] = func(_, v *yaml.Node) { d.rowsTable(r, v) }
	d.object(v, "rows "+k.Value, known, "table", "fields")
	ix.Rows = append(ix.Rows, r)
}

func (d *decoder) rowsFields(r *Rows) fields {
	known := d.nodeFields(&r.Node)
	known["key"] = func(_, v *yaml.Node) {
		r.KeyPos = d.at(v)
		if v.Kind != yaml.SequenceNode {
			r.Key = []string{d.text(v, "key").text}
			return
		}
		for _, item := range v.Content {
			r.Key = append(r.Key, d.text(item, "a column of key").text)
		}
		if len(r.Key) == 0 {
			d.find(d.at(v), "key names no column", "name the columns that tell rows apart")
		}
	}
	return known
}

func (d *decoder) rowsTable(r *Rows, v *yaml.Node) {
	s := d.text(v, "rows")
	if s.text == "" {
		return
	}
	source, table, ok := strings.Cut(s.text, ".")
	if !ok || source == "" || table == "" {
		d.find(
			s.pos,
			fmt.Sprintf("rows names a source and a table, but %q does not", s.text),
			"write SOURCE.TABLE or SOURCE.SCHEMA.TABLE",
		)
	}
	r.Source, r.SourcePos, r.Table, r.TablePos = source, s.pos, table, s.pos
}

func (d *decoder) synonyms(v *yaml.Node) (out [][]string) {
	if v.Kind != yaml.SequenceNode {
		d.find(
			d.at(v),
			fmt.Sprintf("synonyms are a list of lists of words, not %s", kindName(v)),
			"write - [hut, refuge, shelter]",
		)
		return nil
	}
	for _, group := range v.Content {
		if group.Kind != yaml.SequenceNode || len(group.Content) < 2 {
			d.find(
				d.at(group),
				"a group of synonyms is a list of at least two words",
				"write - [hut, refuge, shelter]",
			)
			continue
		}
		var words []string
		for _, word := range group.Content {
			s := d.text(word, "a synonym")
			if s.text != "" && !synonymPattern.MatchString(s.text) {
				d.find(
					s.pos,
					fmt.Sprintf("%q cannot be a synonym", s.text),
					"use words of letters and digits, with blanks between them",
				)
			}
			words = append(words, strings.Join(strings.Fields(strings.ToLower(s.text)), " "))
		}
		out = append(out, words)
	}
	return out
}

var synonymPattern = regexp.MustCompile(`^[\p{L}\p{N}]+( +[\p{L}\p{N}]+)*$`)

// nearest is Nearest where the finding is one that is shown.
func (d *decoder) nearest(word string, known func() []string) string {
	if len(d.findings) > mostFindings {
		return ""
	}
	return Nearest(word, known())
}

func (d *decoder) crossCheck() {
	for _, ix := range d.def.Indexes {
		ix.each(func(n *Node) {
			for _, r := range n.Related {
				r.Source = cmp.Or(r.Source, n.Source)
			}
		})
	}
	if d.unread {
		return // what seems to be missing may stand there
	}
	defer func() {
		for _, ix := range d.def.Indexes { // whatever was found: an engine that is not defined cannot be asked
			ix.Broken = ix.Broken || d.def.Engine(ix.Engine) == nil
		}
	}()
	for _, need := range []struct {
		missing bool
		what    string
	}{{len(d.def.Sources) == 0, "sources"}, {len(d.def.Engines) == 0, "engines"}, {len(d.def.Indexes) == 0 && !d.empty, "indexes"}} {
		if need.missing && !d.said(need.what) {
			d.find(Pos{d.file, 1, 1}, "the definition has no "+need.what, "add them under "+need.what+":")
		}
	}
	for _, ix := range d.def.Indexes {
		ix.each(func(n *Node) {
			if n.SourcePos.Line > 0 && n.Source != "" && len(d.def.Sources) > 0 && d.def.Source(n.Source) == nil {
				ix.Broken = true
				d.find(
					n.SourcePos,
					fmt.Sprintf("there is no source %q", n.Source),
					d.nearest(n.Source, func() []string { return names(d.def.Sources, sourceName) }),
				)
			}
		})
		if ix.Engine != "" && len(d.def.Engines) > 0 && d.def.Engine(ix.Engine) == nil {
			ix.Broken = true
			d.find(
				ix.EnginePos,
				fmt.Sprintf("index %s goes to engine %q, which there is not", ix.Name, ix.Engine),
				d.nearest(ix.Engine, func() []string { return names(d.def.Engines, engineName) }),
			)
		}
	}
}
