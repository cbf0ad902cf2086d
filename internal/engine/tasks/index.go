package tasks

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/engine/fields"
)

// idField is the primary key: the document's key as far as the server takes it, see idOf.
const idField = "pingo_id"

// layout is how an edition's documents lie in an index.
type layout struct{ *fields.Layout }

// settings are what Pingo sets of an index.
type settings map[string]any

// settingsOf are the settings that a shape calls for. mark tells the copy of an edition: it is among the attributes that can
// be filtered by, since these go with the documents when two indexes are exchanged.
func (l *layout) settingsOf(mark string) settings {
	searchable, filterable, sortable := []string{}, []string{idField, mark}, []string{}
	for _, f := range l.Searched() {
		searchable = append(searchable, f.Name)
	}
	for _, path := range slices.Sorted(maps.Keys(l.Fields)) {
		f := l.Fields[path]
		if (f.Filter || f.Facet) && f.Type != shape.Geo && f.Type != shape.Object {
			filterable = append(filterable, path)
		}
		if f.Sort && !fields.IsTime(f) {
			sortable = append(sortable, path)
		}
		for _, role := range fields.Roles(f) {
			switch role {
			case fields.Whole, fields.Moments:
				filterable = append(filterable, fields.Added(role, path))
				if role == fields.Moments && f.Sort {
					sortable = append(sortable, fields.Added(role, path))
				}
			case fields.Places:
				filterable = append(filterable, "_geo")
			}
		}
		if f.Type == shape.Integer && f.Filter {
			filterable = append(filterable, fields.Added(fields.Whole, path))
		}
	}
	out := settings{
		"searchableAttributes": searchable, "filterableAttributes": filterable, "sortableAttributes": sortable,
		// What a search finds is the same on every engine, and an order that is asked for is the order.
		"rankingRules":  []string{"sort", "words", "typo", "attribute", "proximity", "exactness"},
		"typoTolerance": map[string]any{"enabled": false},
		"faceting":      map[string]any{"maxValuesPerFacet": engine.FacetSize, "sortFacetValuesBy": map[string]string{"*": "count"}},
		"pagination":    map[string]any{"maxTotalHits": mostHits},
		"synonyms":      synonymsOf(l.Shape),
	}
	for name, value := range l.Shape.Settings {
		out[name] = value
	}
	return out
}

// mostHits is up to how many documents a search counts.
const mostHits = 1_000_000

// synonymsOf writes groups of words with the same meaning as the server has them: for each word the others.
func synonymsOf(s *shape.Shape) map[string][]string {
	out := map[string][]string{}
	for _, group := range s.Synonyms {
		for _, word := range group {
			for _, other := range group {
				if other != word {
					out[word] = append(out[word], other)
				}
			}
		}
	}
	return out
}

// Limits says what a definition asks for that this engine cannot do, or does in another way.
func Limits(s *shape.Shape) (refused, notes []string) {
	l := fields.Of(s)
	for name := range s.Settings {
		if slices.Contains([]string{"searchableAttributes", "filterableAttributes", "sortableAttributes", "synonyms"}, name) {
			refused = append(refused, fmt.Sprintf("engine_settings has %q, which Pingo sets itself", name))
		}
	}
	var places, exact []string
	for _, f := range s.Fields() {
		if f.Type == shape.Geo && f.Whole() {
			places = append(places, f.Path)
			if f.Repeated {
				refused = append(refused, fmt.Sprintf("%s has several places in a document, and the engine filters by one", f.Path))
			}
		}
		if l.Fields[f.Path].Search > 0 && fields.MatchOf(l.Fields[f.Path]) == shape.Exact {
			exact = append(exact, f.Path)
		}
	}
	if len(places) > 1 {
		refused = append(refused, fmt.Sprintf("the engine filters by one place of a document, and the definition by %s", strings.Join(places, ", ")))
	}
	if len(exact) > 0 {
		notes = append(notes, fmt.Sprintf("a search for one word of the value finds it in %s, too, since the engine finds values by their words", strings.Join(exact, ", ")))
	}
	notes = append(notes, "a search for any of several words is refused", "fields of the same weight count in the order of their names")
	return refused, notes
}

// marked begins the attribute that tells which edition an index holds: pingo_edition EDITION COPY.
const marked = "pingo_edition "

// place is where an edition was found.
type place struct {
	index, mark string
	seen        time.Time
}

// index is what the server says of one.
type index struct {
	UID string `json:"uid"`
}

// markIn is the mark of the edition that an index holds; empty for none.
func (e *Engine) markIn(ctx context.Context, index string) (string, error) {
	var filterable []any
	if err := e.do(ctx, http.MethodGet, "/indexes/"+url.PathEscape(index)+"/settings/filterable-attributes", nil, nil, &filterable); err != nil {
		return "", err
	}
	for _, a := range filterable {
		if name, is := a.(string); is && strings.HasPrefix(name, marked) {
			return name, nil
		}
	}
	return "", nil
}

// editionOf takes the edition's name out of a mark.
func editionOf(mark string) string {
	name, _, _ := strings.Cut(strings.TrimPrefix(mark, marked), " ")
	return name
}

// indexes lists those of the server, with their marks.
func (e *Engine) indexes(ctx context.Context) (map[string]string, error) {
	out := map[string]string{}
	const page = 1000
	for offset := 0; ; offset += page {
		var list struct{ Results []index }
		err := e.do(ctx, http.MethodGet, "/indexes", url.Values{"limit": {fmt.Sprint(page)}, "offset": {fmt.Sprint(offset)}}, nil, &list)
		if err != nil {
			return nil, err
		}
		for _, i := range list.Results {
			mark, err := e.markIn(ctx, i.UID)
			if missing(err) {
				continue
			}
			if err != nil {
				return nil, err
			}
			out[i.UID] = mark
		}
		if len(list.Results) < page {
			return out, nil
		}
	}
}

// seenFor is how long it is believed that an edition is where it was. Another process that exchanges indexes holds the lease
// by then, and this one does not.
const seenFor = time.Second

// where finds the index that holds an edition; nothing is there when its index is empty.
func (e *Engine) where(ctx context.Context, edition string) (place, error) {
	e.mu.Lock()
	known, is := e.places[edition]
	e.mu.Unlock()
	if is {
		if time.Since(known.seen) < seenFor {
			return known, nil
		}
		mark, err := e.markIn(ctx, known.index)
		if err != nil && !missing(err) {
			return known, err
		}
		if mark == known.mark && err == nil {
			known.seen = time.Now()
			e.remember(edition, known)
			return known, nil
		}
	}
	all, err := e.indexes(ctx)
	if err != nil {
		return place{}, err
	}
	for index, mark := range all {
		if mark != "" && editionOf(mark) == edition {
			found := place{index: index, mark: mark, seen: time.Now()}
			e.remember(edition, found)
			return found, nil
		}
	}
	e.forget(edition)
	return place{}, nil
}

func (e *Engine) remember(edition string, p place) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.places[edition] = p
}

func (e *Engine) forget(edition string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	delete(e.places, edition)
	delete(e.layouts, edition)
}

// forgetPlaces makes the next request to each edition look where it is.
func (e *Engine) forgetPlaces() {
	e.mu.Lock()
	defer e.mu.Unlock()
	clear(e.places)
}

// at is the path of the index that holds an edition, or a Failure if there is none.
func (e *Engine) path(ctx context.Context, edition string) (string, error) {
	p, err := e.where(ctx, edition)
	if err == nil && p.index == "" {
		err = e.lost(edition)
	}
	return "/indexes/" + url.PathEscape(p.index), err
}

func (e *Engine) lost(edition string) error {
	return &engine.Failure{Outcome: retry.Blocked, Kind: "index_not_found", Message: fmt.Sprintf("%s has no edition %s: it was deleted. Pingo fills another one", e.at, edition)}
}

// registry is an index with the shape of each edition.
const registry = "pingo_editions"

type registered struct {
	ID    string `json:"pingo_id"`
	Shape string `json:"shape"`
}

// Prepare creates an edition with the settings that the shape calls for.
func (e *Engine) Prepare(ctx context.Context, edition string, s *shape.Shape) error {
	p, err := e.where(ctx, edition)
	if err != nil || p.index != "" {
		return err
	}
	b, err := json.Marshal(s)
	if err != nil {
		return err
	}
	err = e.write(ctx, http.MethodPost, "/indexes/"+registry+"/documents", url.Values{"primaryKey": {idField}}, []registered{{edition, string(b)}})
	if err != nil {
		return engine.AsBlocked(err)
	}
	all, err := e.indexes(ctx)
	if err != nil {
		return err
	}
	index := edition
	for n := 2; ; n++ { // it holds another edition since they were exchanged, or is another program's
		mark, there := all[index]
		if !there {
			break
		}
		if mark == "" {
			if documents, err := e.documents(ctx, index); err != nil {
				return err
			} else if documents == 0 {
				break // a preparation that did not end
			}
		}
		index = fmt.Sprint(edition, "-", n)
	}
	return e.create(ctx, index, edition, s)
}

// create creates an index for an edition, or one without an edition.
func (e *Engine) create(ctx context.Context, index, edition string, s *shape.Shape) error {
	err := e.manage(ctx, http.MethodPost, "/indexes", map[string]string{"uid": index, "primaryKey": idField})
	if err != nil && engine.FailureOf(err).Kind != "index_already_exists" {
		return err
	}
	if s == nil {
		return nil
	}
	l := &layout{fields.Of(s)}
	mark := marked + edition + " " + strings.ToLower(rand.Text()[:12])
	return e.manage(ctx, http.MethodPatch, "/indexes/"+url.PathEscape(index)+"/settings", l.settingsOf(mark))
}

// documents counts those of an index.
func (e *Engine) documents(ctx context.Context, index string) (int64, error) {
	var stats struct {
		Documents int64 `json:"numberOfDocuments"`
	}
	return stats.Documents, e.do(ctx, http.MethodGet, "/indexes/"+url.PathEscape(index)+"/stats", nil, nil, &stats)
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
	err := e.do(ctx, http.MethodGet, "/indexes/"+registry+"/documents/"+url.PathEscape(edition), nil, nil, &r)
	if missing(err) {
		return nil, e.lost(edition)
	}
	if err != nil {
		return nil, err
	}
	s := &shape.Shape{}
	if err := json.Unmarshal([]byte(r.Shape), s); err != nil {
		return nil, fmt.Errorf("the shape of %s in the index %s cannot be read: %w", edition, registry, err)
	}
	l = &layout{fields.Of(s)}
	e.mu.Lock()
	e.layouts[edition] = l
	e.mu.Unlock()
	return l, nil
}

// Copy names the content of an edition by the mark that it was created with.
func (e *Engine) Copy(ctx context.Context, edition string) (string, error) {
	p, err := e.where(ctx, edition)
	if err != nil || p.index == "" {
		return "", err
	}
	return p.mark, nil
}

// FinishFill does nothing: searches find documents as soon as their task has succeeded.
func (e *Engine) FinishFill(context.Context, string, *shape.Shape) error { return nil }

// Refresh does nothing, like FinishFill.
func (e *Engine) Refresh(context.Context, string) error { return nil }

// Drop deletes an edition.
func (e *Engine) Drop(ctx context.Context, edition string) error {
	p, err := e.where(ctx, edition)
	if err != nil {
		return err
	}
	e.forget(edition)
	if p.index != "" {
		err := e.manage(ctx, http.MethodDelete, "/indexes/"+url.PathEscape(p.index), nil)
		if err != nil && engine.FailureOf(err).Kind != "index_not_found" {
			return err
		}
	}
	return ignoreMissing(e.write(ctx, http.MethodDelete, "/indexes/"+registry+"/documents/"+url.PathEscape(edition), nil, nil))
}

// trial is what the names of indexes begin with that are only there to be refused.
const trial = "pingo-trial-"

// Try creates an empty index as an edition of the shape would be, and deletes it.
func (e *Engine) Try(ctx context.Context, s *shape.Shape) error {
	name := trial + strings.ToLower(rand.Text()[:8])
	defer func() {
		_ = e.manage(context.WithoutCancel(ctx), http.MethodDelete, "/indexes/"+name, nil) // else it is listed among what is left over
	}()
	return e.create(ctx, name, name, s)
}

// UpdateSettings makes an edition have the synonyms of a shape.
func (e *Engine) UpdateSettings(ctx context.Context, edition string, s *shape.Shape) error {
	path, err := e.path(ctx, edition)
	if err != nil {
		return err
	}
	return e.manage(ctx, http.MethodPatch, path+"/settings", settings{"synonyms": synonymsOf(s)})
}

// Editions lists those that the indexes hold.
func (e *Engine) Editions(ctx context.Context) ([]string, error) {
	all, err := e.indexes(ctx)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, mark := range all {
		if mark != "" {
			out = append(out, editionOf(mark))
		}
	}
	return out, nil
}

// Switch exchanges the index of the public name with the one that holds an edition, in one atomic task. Before the first
// edition there is no such index, so an empty one is created, which is deleted after the exchange.
func (e *Engine) Switch(ctx context.Context, name, edition string) error {
	now, err := e.Resolve(ctx, name)
	if err != nil {
		return err
	}
	if slices.Contains(now, name) {
		return &engine.Failure{Outcome: retry.Blocked, Message: fmt.Sprintf(
			"%s has an index of the name %s that Pingo did not make, so the name cannot lead to %s: delete it, or give the index another name", e.at, name, edition)}
	}
	return e.exchange(ctx, name, edition)
}

// TakeOver exchanges the index of a public name that Pingo did not make with an edition's, and deletes it.
func (e *Engine) TakeOver(ctx context.Context, name, edition string) error {
	return e.exchange(ctx, name, edition)
}

func (e *Engine) exchange(ctx context.Context, name, edition string) error {
	p, err := e.where(ctx, edition)
	switch {
	case err != nil:
		return err
	case p.index == "":
		return e.lost(edition)
	case p.index == name:
		return nil
	}
	mark, err := e.markIn(ctx, name)
	if missing(err) {
		err = e.create(ctx, name, "", nil)
	}
	if err != nil {
		return err
	}
	defer e.forgetPlaces()
	if err := e.manage(ctx, http.MethodPost, "/swap-indexes", []any{map[string]any{"indexes": []string{name, p.index}}}); err != nil {
		return err
	}
	if mark != "" {
		return nil // the edition that was live before
	}
	return e.manage(ctx, http.MethodDelete, "/indexes/"+url.PathEscape(p.index), nil)
}

// Resolve reads which edition the index of a public name holds. An index that Pingo did not make answers for itself; an empty
// one is what a first switch left that did not end.
func (e *Engine) Resolve(ctx context.Context, name string) ([]string, error) {
	mark, err := e.markIn(ctx, name)
	if missing(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if mark != "" {
		return []string{editionOf(mark)}, nil
	}
	documents, err := e.documents(ctx, name)
	if err != nil || documents == 0 {
		return nil, err
	}
	return []string{name}, nil
}

// failedTask is the failure of a task, nil for other errors.
func failedTask(err error) *taskFailure {
	var t *taskFailure
	if errors.As(err, &t) {
		return t
	}
	return nil
}
