package definition

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"

	"gopkg.in/yaml.v3"
)

// Take returns the files of current with the named indexes as next defines them. Sources and engines that these indexes use
// and current lacks come with them. Comments stay; blank lines and indentation do not.
func Take(current, next []File, indexes []string) ([]File, error) {
	from, err := readTexts(next)
	if err != nil {
		return nil, err
	}
	if len(current) == 0 {
		return Keep(next, indexes)
	}
	to, err := readTexts(current)
	if err != nil {
		return nil, err
	}
	for _, index := range indexes {
		_, body := from.entry("indexes", index)
		if body == nil {
			return nil, fmt.Errorf("no file has a key %q under indexes", index)
		}
		for _, kind := range []string{"sources", "engines"} {
			for _, name := range scalars(body) {
				key, value := from.entry(kind, name)
				if _, has := to.entry(kind, name); value != nil && has == nil {
					to.put(kind, key, value)
				}
			}
		}
	}
	for _, index := range indexes {
		key, body := from.entry("indexes", index)
		to.put("indexes", key, body)
	}
	return to.files()
}

// Keep returns the files without the indexes that are not named.
func Keep(files []File, indexes []string) ([]File, error) {
	return without(files, func(name string) bool { return !slices.Contains(indexes, name) })
}

// Without returns the files without the named indexes.
func Without(files []File, indexes []string) ([]File, error) {
	return without(files, func(name string) bool { return slices.Contains(indexes, name) })
}

func without(files []File, drop func(name string) bool) ([]File, error) {
	t, err := readTexts(files)
	if err != nil {
		return nil, err
	}
	for _, section := range t.sections("indexes") {
		kept := section.Content[:0]
		for i := 0; i+1 < len(section.Content); i += 2 {
			if !drop(section.Content[i].Value) {
				kept = append(kept, section.Content[i], section.Content[i+1])
			}
		}
		section.Content = kept
		if len(kept) == 0 {
			section.Style = yaml.FlowStyle // {}: nothing, on purpose
		}
	}
	return t.files()
}

// texts are definition files as trees of YAML, without aliases.
type texts []text

type text struct {
	name      string
	documents []*yaml.Node // mappings
}

func readTexts(files []File) (texts, error) {
	d := &decoder{budget: maxNodes}
	var out texts
	for _, f := range files {
		t := text{name: f.Name}
		for parser := yaml.NewDecoder(bytes.NewReader([]byte(f.Text))); ; {
			var root yaml.Node
			err := parser.Decode(&root)
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				return nil, fmt.Errorf("%s: %w", f.Name, err)
			}
			if len(root.Content) == 0 || root.Content[0].Tag == "!!null" { // comments alone
				break
			}
			top := d.expand(root.Content[0], &d.budget)
			if d.budget < 0 || top.Kind != yaml.MappingNode {
				return nil, fmt.Errorf("%s is not a definition", f.Name)
			}
			top.HeadComment, top.FootComment = root.HeadComment+top.HeadComment, top.FootComment+root.FootComment
			withoutAnchors(top)
			t.documents = append(t.documents, top)
		}
		out = append(out, t)
	}
	return out, nil
}

// withoutAnchors removes the names that aliases used.
func withoutAnchors(n *yaml.Node) {
	n.Anchor = ""
	for _, c := range n.Content {
		withoutAnchors(c)
	}
}

// sections are the mappings of a top-level key, one for each document that has it.
func (t texts) sections(name string) (out []*yaml.Node) {
	for _, f := range t {
		for _, doc := range f.documents {
			for i := 0; i+1 < len(doc.Content); i += 2 {
				if doc.Content[i].Value == name && doc.Content[i+1].Kind == yaml.MappingNode {
					out = append(out, doc.Content[i+1])
				}
			}
		}
	}
	return out
}

// entry finds a key of a section; nil when there is none.
func (t texts) entry(section, name string) (key, value *yaml.Node) {
	for _, s := range t.sections(section) {
		for i := 0; i+1 < len(s.Content); i += 2 {
			if s.Content[i].Value == name {
				return s.Content[i], s.Content[i+1]
			}
		}
	}
	return nil, nil
}

// put replaces a key of a section, or adds it to the last document that has the section.
func (t texts) put(section string, key, value *yaml.Node) {
	sections := t.sections(section)
	for _, s := range sections {
		for i := 0; i+1 < len(s.Content); i += 2 {
			if s.Content[i].Value == key.Value {
				s.Content[i], s.Content[i+1] = key, value
				return
			}
		}
	}
	if len(sections) == 0 {
		var top *yaml.Node
		for _, f := range t {
			for _, doc := range f.documents {
				top = doc
			}
		}
		s := &yaml.Node{Kind: yaml.MappingNode, Tag: "!!map"}
		top.Content = append(top.Content, &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: section}, s)
		sections = []*yaml.Node{s}
	}
	last := sections[len(sections)-1]
	if len(last.Content) == 0 {
		last.Style = 0
	}
	last.Content = append(last.Content, key, value)
}

// files writes the trees as texts.
func (t texts) files() ([]File, error) {
	out := make([]File, 0, len(t))
	for _, f := range t {
		if len(f.documents) == 0 {
			continue // comments alone
		}
		var b bytes.Buffer
		w := yaml.NewEncoder(&b)
		w.SetIndent(2)
		for _, doc := range f.documents {
			if err := w.Encode(doc); err != nil {
				return nil, fmt.Errorf("%s: %w", f.name, err)
			}
		}
		if err := w.Close(); err != nil {
			return nil, fmt.Errorf("%s: %w", f.name, err)
		}
		out = append(out, File{Name: f.name, Text: b.String()})
	}
	return out, nil
}

// scalars lists the values in a tree: among them are the sources and engines that an index names.
func scalars(n *yaml.Node) (out []string) {
	if n.Kind == yaml.ScalarNode {
		// lodge.huts names the source lodge.
		source, _, _ := bytes.Cut([]byte(n.Value), []byte("."))
		return []string{n.Value, string(source)}
	}
	for _, c := range n.Content {
		out = append(out, scalars(c)...)
	}
	return out
}
