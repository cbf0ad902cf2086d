package standin

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
)

// pit is a point in time: what was visible when it was opened.
type pit struct {
	index   *index
	seen    *snapshot
	expires time.Time
}

// scroll is a search whose hits are handed out page by page.
type scroll struct {
	request *searchRequest
	index   *index
	hits    []hit // those to come
	total   int
	expires time.Time
}

func noSuchScroll(id string) error {
	return &apiError{404, "search_phase_execution_exception", "all shards failed",
		&apiError{
			kind:   "search_context_missing_exception",
			reason: "No search context found for id [" + id + "]",
		}}
}

// openScroll searches an index and gives the first page.
func (s *Server) openScroll(ix *index, keepAlive string, body []byte) (int, any, error) {
	began := time.Now()
	keep, err := parseTime(keepAlive)
	if err != nil {
		return 0, nil, badTime("scroll", keepAlive)
	}
	r, err := readSearch(body)
	if err != nil {
		return 0, nil, err
	}
	parts, err := r.run(ix, nil)
	if err != nil {
		return 0, nil, err
	}
	c := &scroll{request: r, index: ix, expires: time.Now().Add(keep)}
	for i := range parts {
		p := &parts[i]
		ordering(r.sort).columns(p)
		p.found.docs.each(func(n uint32) { c.hits = append(c.hits, hit{p, n, p.found.score(n)}) })
	}
	c.total = len(c.hits)
	if len(r.sort) != 1 || r.sort[0].path != "_doc" { // that is the order they are in
		slices.SortFunc(c.hits, func(a, b hit) int { return ordering(r.sort).compare(&a, &b) })
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for id, c := range s.scrolls {
		if time.Now().After(c.expires) {
			delete(s.scrolls, id)
		}
	}
	if s.scrolls == nil {
		s.scrolls = map[string]*scroll{}
	}
	s.pitSeq++
	id := fmt.Sprintf("standin-scroll-%d", s.pitSeq)
	s.scrolls[id] = c
	return 200, c.page(began, id), nil
}

// page hands out the next hits; the caller holds the server's lock.
func (c *scroll) page(began time.Time, id string) object {
	n := min(c.request.size, len(c.hits))
	out := c.request.answer(began, []*index{c.index}, c.hits[:n], c.total)
	c.hits = c.hits[n:]
	out["_scroll_id"] = id
	return out
}

// nextPage goes on with a scroll, and closeScroll ends it.
func (s *Server) nextPage(body []byte) (int, any, error) {
	id, o, err := scrollID(body)
	if err != nil {
		return 0, nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	c := s.scrolls[id]
	if c == nil {
		return 0, nil, noSuchScroll(id)
	}
	if keep, err := parseTime(fmt.Sprint(o["scroll"])); err == nil {
		c.expires = time.Now().Add(keep)
	}
	return 200, c.page(time.Now(), id), nil
}

func (s *Server) closeScroll(body []byte) (int, any, error) {
	id, _, err := scrollID(body)
	if err != nil {
		return 0, nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.scrolls, id)
	return 200, object{"succeeded": true}, nil
}

func scrollID(body []byte) (string, object, error) {
	o, err := readObject(body)
	if err != nil {
		return "", nil, err
	}
	id := fmt.Sprint(o["scroll_id"])
	if !strings.HasPrefix(id, "standin-scroll-") {
		return "", nil, &apiError{
			400,
			"illegal_argument_exception",
			"Cannot parse scroll id",
			&apiError{kind: "e_o_f_exception", reason: "it is too short"},
		}
	}
	return id, o, nil
}

func (s *Server) openPit(ix *index, r *http.Request) (int, any, error) {
	written := r.URL.Query().Get("keep_alive")
	if written == "" {
		return 0, nil, &apiError{
			400,
			"action_request_validation_exception",
			"Validation Failed: 1: keep alive not specified;",
			nil,
		}
	}
	keep, err := parseTime(written)
	if err != nil {
		return 0, nil, badTime("keep_alive", written)
	}
	seen := ix.visible()
	s.mu.Lock()
	defer s.mu.Unlock()
	for id, p := range s.pits {
		if time.Now().After(p.expires) {
			delete(s.pits, id)
		}
	}
	s.pitSeq++
	id := fmt.Sprintf("standin-pit-%d", s.pitSeq)
	s.pits[id] = &pit{ix, seen, time.Now().Add(keep)}
	return 200, object{"pit_id": id, "creation_time": time.Now().UnixMilli()}, nil
}

func (s *Server) closePits(body []byte) (int, any, error) {
	var request struct {
		IDs []string `json:"pit_id"`
	}
	if err := json.Unmarshal(body, &request); err != nil {
		return 0, nil, badQuery("%s", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, id := range request.IDs {
		if !strings.HasPrefix(id, "standin-pit-") {
			return 0, nil, &apiError{
				400,
				"illegal_argument_exception",
				fmt.Sprintf("invalid id: [%s]", id),
				&apiError{kind: "e_o_f_exception", reason: "too short"},
			}
		}
		delete(s.pits, id)
	}
	return 200, object{"pits": []any{}}, nil
}

// count counts what the query of a request's body finds.
func (s *Server) count(indices []*index, body []byte) (int, any, error) {
	o, err := readObject(body)
	if err != nil {
		return 0, nil, err
	}
	for name := range o {
		if name != "query" {
			return 0, nil, badQuery("request does not support [%s]", name)
		}
	}
	total := 0
	for _, ix := range indices {
		parts, err := (&searchRequest{query: o["query"]}).run(ix, nil)
		if err != nil {
			return 0, nil, err
		}
		for _, p := range parts {
			total += p.found.docs.count()
		}
	}
	return 200, object{"count": total, "_shards": shards(len(indices))}, nil
}

// mget answers for each document, also when there is no such index.
func (s *Server) mget(query url.Values, name string, body []byte) (int, any, error) {
	if len(bytes.TrimSpace(body)) == 0 {
		return 0, nil, &apiError{400, "parse_exception", "request body or source parameter is required", nil}
	}
	o, err := readObject(body)
	if err != nil {
		return 0, nil, err
	}
	var ids []string
	for member, v := range o {
		list, ok := v.([]any)
		switch {
		case member != "ids" && member != "docs":
			return 0, nil, badQuery("unknown key [%s] for a START_ARRAY, expected [docs] or [ids]", member)
		case !ok:
			return 0, nil, badQuery("unexpected token [VALUE_STRING], expected [FIELD_NAME] or [START_ARRAY]")
		}
		for _, item := range list {
			if d, is := item.(object); is {
				item = d["_id"]
			}
			ids = append(ids, fmt.Sprint(item))
		}
	}
	if len(ids) == 0 {
		return 0, nil, &apiError{
			400,
			"action_request_validation_exception",
			"Validation Failed: 1: no documents to get;",
			nil,
		}
	}
	var fields any // all of them
	if names := query.Get("_source_includes"); names != "" {
		list := []any{}
		for _, n := range strings.Split(names, ",") {
			list = append(list, n)
		}
		fields = list
	}
	indices, err := s.resolve(name)
	docs := []object{}
	for _, id := range ids {
		d := object{"_index": name, "_id": id}
		var failed *apiError
		switch {
		case err != nil:
			failed = err.(*apiError)
		case indices[0].shut():
			failed = &apiError{400, "index_closed_exception", "closed", nil}
		case id == "":
			failed = &apiError{400, "illegal_argument_exception", "Ids can't be empty", nil}
		}
		if failed != nil {
			d["error"] = withRoot(failed)
		} else if found := indices[0].get(id); found != nil {
			d["found"], d["_version"], d["_source"] = true, found.version, pick(found.source, fields)
		} else {
			d["found"] = false
		}
		docs = append(docs, d)
	}
	return 200, object{"docs": docs}, nil
}
