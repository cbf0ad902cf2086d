package taskserver

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

type world struct {
	*testing.T
	*httptest.Server
	key string
}

func newWorld(t *testing.T, s *Server) *world {
	w := &world{t, httptest.NewServer(s), s.Key}
	t.Cleanup(w.Server.Close)
	return w
}

// ask sends a request, waits for its task if there is one, and returns the answer, or how the task ended.
func (w *world) ask(method, path, body string) (int, string) {
	w.Helper()
	request, err := http.NewRequestWithContext(w.Context(), method, w.URL+path, strings.NewReader(body))
	if err != nil {
		w.Fatal(err)
	}
	request.Header.Set("Content-Type", "application/json")
	if w.key != "" {
		request.Header.Set("Authorization", "Bearer "+w.key)
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		w.Fatal(err)
	}
	defer response.Body.Close()
	answer, err := io.ReadAll(response.Body)
	if err != nil {
		w.Fatal(err)
	}
	var queued struct {
		UID    *int   `json:"taskUid"`
		Status string `json:"status"`
	}
	if json.Unmarshal(answer, &queued); response.StatusCode != http.StatusAccepted || queued.UID == nil {
		return response.StatusCode, strings.TrimSpace(string(answer))
	}
	for {
		_, text := w.ask(http.MethodGet, fmt.Sprint("/tasks/", *queued.UID), "")
		var ended struct {
			Status string
			Error  *Error
		}
		if err := json.Unmarshal([]byte(text), &ended); err != nil {
			w.Fatal(err)
		}
		switch {
		case ended.Status == "failed":
			return response.StatusCode, "failed: " + ended.Error.Code
		case ended.Status != "enqueued" && ended.Status != "processing":
			return response.StatusCode, ended.Status
		}
		time.Sleep(time.Millisecond)
	}
}

// found searches, and lists the ids of what was found.
func (w *world) found(question string) string {
	w.Helper()
	_, text := w.ask(http.MethodPost, "/indexes/huts/search", question)
	var out struct {
		Hits    []struct{ ID json.Number }
		Code    string
		Message string
	}
	if err := json.Unmarshal([]byte(text), &out); err != nil {
		w.Fatal(err)
	}
	if out.Code != "" {
		return out.Code
	}
	ids := []string{}
	for _, h := range out.Hits {
		ids = append(ids, h.ID.String())
	}
	return strings.Join(ids, " ")
}

func TestSearches(t *testing.T) {
	w := newWorld(t, &Server{})
	for _, step := range [][3]string{
		{http.MethodPost, "/indexes/huts/documents?primaryKey=id", `[
			{"id": 1, "name": "Grim Ridge Hut", "beds": 12, "tags": ["stove", "sauna"], "region": {"name": "Tarn"}, "_geo": {"lat": 46.5, "lng": 8.5}},
			{"id": 2, "name": "Ridgeway Lodge", "beds": 40, "tags": ["stove"], "region": {"name": "Fell"}, "_geo": {"lat": 47, "lng": 9}},
			{"id": 3, "name": "Dusk Pass", "summary": "near the grim ridge", "beds": null, "open": true}]`},
		{http.MethodPatch, "/indexes/huts/settings", `{"searchableAttributes": ["name", "summary"], "filterableAttributes": ["beds", "tags", "region.name", "open", "_geo"],
			"sortableAttributes": ["beds", "_geo"], "synonyms": {"cabin": ["hut"], "lodge": ["mountain pass"]}}`},
	} {
		if status, ended := w.ask(step[0], step[1], step[2]); status != http.StatusAccepted || ended != "succeeded" {
			t.Fatal(step, status, ended)
		}
	}
	for question, want := range map[string]string{
		`{"q": "grim", "matchingStrategy": "all"}`: "1 3",
		`{"q": "rid"}`:           "1 2 3",
		`{"q": "rid "}`:          "",
		`{"q": "rigde"}`:         "1 3",
		`{"q": "\"ridge hut\""}`: "1",
		`{"q": "cabin"}`:         "1",
		`{"q": "ridge -hut", "matchingStrategy": "all"}`:                                                  "3",
		`{"q": "grim nowhere", "matchingStrategy": "all"}`:                                                "",
		`{"q": "grim nowhere"}`:                                                                           "1 3",
		`{"filter": "beds > 12 OR (tags = sauna AND NOT region.name = fell)"}`:                            "1 2",
		`{"filter": ["beds 10 TO 40", ["tags IN [sauna]", "region.name = Fell"]], "sort": ["beds:desc"]}`: "2 1",
		`{"filter": "beds IS NULL AND open = true"}`:                                                      "3",
		`{"filter": "open NOT EXISTS"}`:                                                                   "1 2",
		`{"filter": "_geoRadius(46.5, 8.5, 1000)"}`:                                                       "1",
		`{"filter": "_geoBoundingBox([48, 10], [46.9, 8])"}`:                                              "2",
		`{"sort": ["_geoPoint(47, 9):asc"]}`:                                                              "2 1 3",
		`{"filter": "name = x"}`:                                                                          "invalid_search_filter",
		`{"filter": "beds >"}`:                                                                            "invalid_search_filter",
		`{"sort": ["name:asc"]}`:                                                                          "invalid_search_sort",
		`{"facets": ["name"]}`:                                                                            "invalid_search_facets",
	} {
		if got := w.found(question); got != want {
			t.Errorf("%s: %q, want %q", question, got, want)
		}
	}
	if _, text := w.ask(http.MethodPost, "/indexes/huts/search", `{"facets": ["tags", "beds"], "hitsPerPage": 1}`); !strings.Contains(text, `"facetDistribution":{"beds":{"12":1,"40":1},"tags":{"sauna":1,"stove":2}}`) ||
		!strings.Contains(text, `"facetStats":{"beds":{"max":40,"min":12}}`) || !strings.Contains(text, `"totalHits":3`) {
		t.Error(text)
	}
}

func TestTasksAreCarriedOutInOrder(t *testing.T) {
	w := newWorld(t, &Server{Key: "master", Takes: 5 * time.Millisecond})
	for _, step := range [][4]string{
		{http.MethodPost, "/indexes", `{"uid": "huts", "primaryKey": "id"}`, "succeeded"},
		{http.MethodPost, "/indexes", `{"uid": "huts"}`, "failed: index_already_exists"},
		{http.MethodPost, "/indexes/huts/documents", `[{"id": 1, "a": 1}, {"id": "not an id"}]`, "failed: invalid_document_id"},
		{http.MethodPost, "/indexes/huts/documents", `[{"id": 1, "a": 1, "b": 2}]`, "succeeded"},
		{http.MethodPut, "/indexes/huts/documents", `[{"id": 1, "a": 3}]`, "succeeded"},
		{http.MethodPost, "/indexes/nowhere/documents/delete-batch", `[1]`, "failed: index_not_found"},
		{http.MethodPost, "/swap-indexes", `[{"indexes": ["huts", "nowhere"]}]`, "failed: index_not_found"},
		{http.MethodPost, "/indexes/other/documents", `[{"id": 9}]`, "succeeded"},
		{http.MethodPost, "/swap-indexes", `[{"indexes": ["huts", "other"]}]`, "succeeded"},
	} {
		if _, ended := w.ask(step[0], step[1], step[2]); ended != step[3] {
			t.Errorf("%v: %s", step[:3], ended)
		}
	}
	if _, text := w.ask(http.MethodGet, "/indexes/other/documents/1", ""); text != `{"a":3,"b":2,"id":1}` {
		t.Error(text)
	}
	if status, text := w.ask(http.MethodGet, "/indexes/huts/documents/1", ""); status != 404 || !strings.Contains(text, "document_not_found") {
		t.Error(status, text)
	}
	if _, text := w.ask(http.MethodGet, "/tasks?statuses=failed&limit=1", ""); !strings.Contains(text, `"total":4`) || !strings.Contains(text, `"next":`) {
		t.Error(text)
	}
	var made key
	_, text := w.ask(http.MethodPost, "/keys", `{"actions": ["search"], "indexes": ["other*"], "expiresAt": null}`)
	if err := json.Unmarshal([]byte(text), &made); err != nil {
		t.Fatal(err)
	}
	w.key = made.Key
	for path, want := range map[string]int{"/indexes/other/search": 200, "/indexes/huts/search": 403, "/indexes/other/documents": 403, "/keys": 403} {
		if status, text := w.ask(http.MethodPost, path, `{}`); status != want {
			t.Errorf("%s: %d %s", path, status, text)
		}
	}
	w.key = ""
	if status, _ := w.ask(http.MethodGet, "/indexes", ""); status != 401 {
		t.Error(status)
	}
}
