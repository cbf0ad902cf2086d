package collections

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/engine/fields"
)

// field is a field of a collection.
type field struct {
	Name     string `json:"name"`
	Type     string `json:"type"`
	Optional bool   `json:"optional"`
	Facet    bool   `json:"facet,omitempty"`
	Sort     bool   `json:"sort,omitempty"`
	Index    *bool  `json:"index,omitempty"`
}

// Fields of documents that are not the definition's.
const (
	writtenField = "pingo_document" // the document as it was sent, where a collection cannot hold it like that
	ownIDField   = "pingo_id"       // the value of the document's own field id
	nullsField   = "pingo_nulls"    // where the document has null: an update of a document drops such members
	copyField    = "pingo_copy_"    // the name of a field of the collection begins so, and tells one copy from another
)

// layout is how an edition's documents lie in a collection.
type layout struct {
	*fields.Layout
	// declared are the fields that the collection has under their own names.
	declared map[string]bool
}

func layoutOf(s *shape.Shape) *layout {
	l := &layout{fields.Of(s), map[string]bool{}}
	for path, f := range l.Fields {
		l.declared[path] = path != "id" && f.Type != shape.Geo && f.Type != shape.Object && (f.Search > 0 || f.Whole()) && (f.Facet || !fields.IsTime(f))
	}
	return l
}

// types are what a collection calls the types of values.
var types = map[shape.Type]string{
	shape.Text: "string", shape.Keyword: "string", shape.Integer: "int64", shape.Decimal: "float", shape.Boolean: "bool",
	shape.Date: "string", shape.Timestamp: "string",
}

// addedTypes are the types of the fields that Pingo adds.
var addedTypes = map[fields.Role]string{
	fields.Beginnings: "string", fields.Parts: "string", fields.Whole: "int64", fields.Moments: "int64", fields.Places: "geopoint",
}

// collectionFields lists the fields of a collection, by name.
func (l *layout) collectionFields() []field {
	var out []field
	add := func(name, kind string, repeated, facet, sort bool) {
		if repeated {
			kind += "[]"
		}
		out = append(out, field{Name: name, Type: kind, Optional: true, Facet: facet, Sort: sort && !repeated})
	}
	for path, f := range l.Fields {
		if l.declared[path] {
			add(path, types[f.Type], f.Repeated, f.Facet, f.Sort && f.Type != shape.Boolean)
		}
		for _, role := range fields.Roles(f) {
			add(fields.Added(role, path), addedTypes[role], f.Repeated || role == fields.Beginnings || role == fields.Parts, false, true)
		}
	}
	slices.SortFunc(out, func(a, b field) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// Limits says what a definition asks for that this engine cannot do, or does in another way.
func Limits(s *shape.Shape) (refused, notes []string) {
	l := layoutOf(s)
	for name := range s.Settings {
		if slices.Contains([]string{"name", "fields", "enable_nested_fields"}, name) {
			refused = append(refused, fmt.Sprintf("engine_settings has %q, which Pingo sets itself", name))
		}
	}
	decimals, exact := []string{}, []string{}
	for _, f := range s.Fields() {
		if f.Sort && f.Repeated {
			refused = append(refused, fmt.Sprintf("%s has several values in a document, and a collection sorts by fields with one value only", f.Path))
		}
		if f.Type == shape.Decimal && f.Whole() {
			decimals = append(decimals, f.Path)
		}
		if l.Fields[f.Path].Search > 0 && fields.MatchOf(l.Fields[f.Path]) == shape.Exact {
			exact = append(exact, f.Path)
		}
	}
	if len(decimals) > 0 {
		notes = append(notes, fmt.Sprintf("the engine compares %s by seven digits", strings.Join(decimals, ", ")))
	}
	if len(exact) > 0 {
		notes = append(notes, fmt.Sprintf("a search for one word of the value finds it in %s, too, since a collection finds values by their words", strings.Join(exact, ", ")))
	}
	if names, _ := l.searched(); len(names) > 0 {
		notes = append(notes, "a search for any of several words has no order by relevance")
	}
	if l.Fields["id"] != nil {
		notes = append(notes, "in the engine, id is the document's key; the definition's field id is stored as "+ownIDField+" and cannot be searched")
	}
	return refused, notes
}

// registry is a collection with the shape of each edition, since a collection has no room for it.
const registry = "pingo_editions"

type registered struct {
	ID    string `json:"id"`
	Shape string `json:"shape"`
}

// collection is what a server says of one.
type collection struct {
	Name      string  `json:"name"`
	CreatedAt int64   `json:"created_at"`
	Documents int64   `json:"num_documents"`
	Fields    []field `json:"fields"`
}

// copy names the copy of an edition; it is empty for a collection of another program.
func (c *collection) copy() string {
	for _, f := range c.Fields {
		if mark, is := strings.CutPrefix(f.Name, copyField); is {
			return fmt.Sprintf("%s at %d", mark, c.CreatedAt)
		}
	}
	return ""
}

func (e *Engine) collection(ctx context.Context, name string) (*collection, error) {
	out := &collection{}
	return out, e.do(ctx, http.MethodGet, "/collections/"+url.PathEscape(name), nil, nil, out)
}

// Prepare creates an edition with the fields that the shape calls for.
func (e *Engine) Prepare(ctx context.Context, edition string, s *shape.Shape) error {
	if c, err := e.collection(ctx, edition); err == nil && c.copy() != "" {
		return nil
	} else if ignoreMissing(err) != nil {
		return err
	}
	if err := e.register(ctx, edition, s); err != nil {
		return err
	}
	if err := e.create(ctx, edition, s); err != nil {
		return err
	}
	e.forget(edition)
	return e.UpdateSettings(ctx, edition, s)
}

func (e *Engine) create(ctx context.Context, name string, s *shape.Shape) error {
	no := false
	declared := append(layoutOf(s).collectionFields(), field{Name: copyField + strings.ToLower(rand.Text()[:12]), Type: "string", Optional: true, Index: &no})
	body := map[string]any{}
	for name, value := range s.Settings {
		body[name] = value
	}
	body["name"], body["fields"], body["enable_nested_fields"] = name, declared, true
	return engine.AsBlocked(e.do(ctx, http.MethodPost, "/collections", nil, body, nil))
}

// register keeps the shape of an edition.
func (e *Engine) register(ctx context.Context, edition string, s *shape.Shape) error {
	err := e.do(ctx, http.MethodPost, "/collections", nil, map[string]any{
		"name": registry, "fields": []field{{Name: "shape", Type: "string", Optional: true}},
	}, nil)
	var f *statusFailure
	if err != nil && !(errors.As(err, &f) && f.status == http.StatusConflict) {
		return engine.AsBlocked(err)
	}
	b, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return engine.AsBlocked(e.do(ctx, http.MethodPost, "/collections/"+registry+"/documents", url.Values{"action": {"upsert"}}, registered{edition, string(b)}, nil))
}

// layout is that of an edition.
func (e *Engine) layout(ctx context.Context, edition string) (*layout, error) {
	e.mu.Lock()
	l := e.layouts[edition]
	e.mu.Unlock()
	if l != nil {
		return l, nil
	}
	var r registered
	err := e.do(ctx, http.MethodGet, "/collections/"+registry+"/documents/"+url.PathEscape(edition), nil, nil, &r)
	if missing(err) {
		return nil, e.lost(edition)
	}
	if err != nil {
		return nil, err
	}
	s := &shape.Shape{}
	if err := json.Unmarshal([]byte(r.Shape), s); err != nil {
		return nil, fmt.Errorf("the shape of %s in the collection %s cannot be read: %w", edition, registry, err)
	}
	l = layoutOf(s)
	e.mu.Lock()
	e.layouts[edition] = l
	e.mu.Unlock()
	return l, nil
}

// forget makes the next delivery to an edition look at it again.
func (e *Engine) forget(edition string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	delete(e.layouts, edition)
	delete(e.settled, edition)
}

func (e *Engine) lost(edition string) error {
	return &engine.Failure{Outcome: retry.Blocked, Kind: "404", Message: fmt.Sprintf("%s has no edition %s: it was deleted. Pingo fills another one", e.at, edition)}
}

// Copy names the collection by when it was created, and by a mark that Pingo gave it.
func (e *Engine) Copy(ctx context.Context, edition string) (string, error) {
	c, err := e.collection(ctx, edition)
	if missing(err) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	return c.copy(), nil
}

// FinishFill does nothing: searches find documents as soon as they are acknowledged.
func (e *Engine) FinishFill(context.Context, string, *shape.Shape) error { return nil }

// Refresh does nothing, like FinishFill.
func (e *Engine) Refresh(context.Context, string) error { return nil }

// Drop deletes an edition.
func (e *Engine) Drop(ctx context.Context, edition string) error {
	e.forget(edition)
	var all struct {
		Aliases []struct {
			Name       string `json:"name"`
			Collection string `json:"collection_name"`
		} `json:"aliases"`
	}
	if err := e.do(ctx, http.MethodGet, "/aliases", nil, nil, &all); err != nil {
		return err
	}
	for _, alias := range all.Aliases { // the engine would keep an alias that leads nowhere
		if alias.Collection != edition {
			continue
		}
		if err := ignoreMissing(e.do(ctx, http.MethodDelete, "/aliases/"+url.PathEscape(alias.Name), nil, nil, nil)); err != nil {
			return err
		}
	}
	if err := ignoreMissing(e.do(ctx, http.MethodDelete, "/collections/"+url.PathEscape(edition), nil, nil, nil)); err != nil {
		return err
	}
	return ignoreMissing(e.do(ctx, http.MethodDelete, "/collections/"+registry+"/documents/"+url.PathEscape(edition), nil, nil, nil))
}

// trial is what the names of collections begin with that are only there to be refused.
const trial = "pingo-trial-"

// Try creates an empty collection as an edition of the shape would be, and deletes it.
func (e *Engine) Try(ctx context.Context, s *shape.Shape) error {
	name := trial + strings.ToLower(rand.Text()[:8])
	defer func() { _ = e.Drop(context.WithoutCancel(ctx), name) }() // else it is listed among what is left over
	return e.create(ctx, name, s)
}

// synonym is a group of words with the same meaning.
type synonym struct {
	ID       string   `json:"id,omitempty"`
	Synonyms []string `json:"synonyms"`
}

// UpdateSettings makes an edition have the synonyms of a shape.
func (e *Engine) UpdateSettings(ctx context.Context, edition string, s *shape.Shape) error {
	at := "/collections/" + url.PathEscape(edition) + "/synonyms"
	var now struct{ Synonyms []synonym }
	if err := e.do(ctx, http.MethodGet, at, nil, nil, &now); err != nil {
		return engine.AsBlocked(err)
	}
	wanted := map[string]bool{}
	for i, group := range s.Synonyms {
		id := fmt.Sprintf("pingo-%d", i+1)
		wanted[id] = true
		if err := e.do(ctx, http.MethodPut, at+"/"+id, nil, synonym{Synonyms: group}, nil); err != nil {
			return engine.AsBlocked(err)
		}
	}
	for _, old := range now.Synonyms {
		if strings.HasPrefix(old.ID, "pingo-") && !wanted[old.ID] {
			if err := ignoreMissing(e.do(ctx, http.MethodDelete, at+"/"+url.PathEscape(old.ID), nil, nil, nil)); err != nil {
				return engine.AsBlocked(err)
			}
		}
	}
	return nil
}

// Editions lists the collections that have Pingo's mark.
func (e *Engine) Editions(ctx context.Context) ([]string, error) {
	var list []collection
	if err := e.do(ctx, http.MethodGet, "/collections", nil, nil, &list); err != nil {
		return nil, err
	}
	var out []string
	for _, c := range list {
		if c.copy() != "" {
			out = append(out, c.Name)
		}
	}
	return out, nil
}

// Switch points the alias at an edition, in one atomic request.
func (e *Engine) Switch(ctx context.Context, name, edition string) error {
	now, err := e.Resolve(ctx, name)
	if err != nil {
		return err
	}
	if slices.Contains(now, name) {
		return &engine.Failure{Outcome: retry.Blocked, Message: fmt.Sprintf(
			"%s has a collection of the name %s that Pingo did not make, so the name cannot lead to %s: delete it, or give the index another name", e.at, name, edition)}
	}
	return engine.AsBlocked(e.do(ctx, http.MethodPut, "/aliases/"+url.PathEscape(name), nil, map[string]string{"collection_name": edition}, nil))
}

// Resolve reads where the alias points. A collection of that very name answers for itself.
func (e *Engine) Resolve(ctx context.Context, name string) ([]string, error) {
	var alias struct {
		Collection string `json:"collection_name"`
	}
	err := e.do(ctx, http.MethodGet, "/aliases/"+url.PathEscape(name), nil, nil, &alias)
	if err == nil {
		return []string{alias.Collection}, nil
	}
	if !missing(err) {
		return nil, err
	}
	if _, err := e.collection(ctx, name); missing(err) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	return []string{name}, nil
}
