package standin

import (
	"encoding/json"
	"net/http/httptest"
	"strings"
	"testing"
)

// ask sends a request as a person with curl would, and returns status and body.
func ask(s *Server, line, body string) (int, string) {
	method, path, _ := strings.Cut(line, " ")
	r := httptest.NewRequest(method, path, strings.NewReader(body))
	r.Header.Set("Content-Type", "application/json")
	w := httptest.NewRecorder()
	s.ServeHTTP(w, r)
	return w.Code, w.Body.String()
}

func TestInterface(t *testing.T) {
	s := &Server{}
	for _, c := range []struct {
		line, body string
		status     int
		want       string
	}{
		{"GET /", "", 200, `"distribution":"opensearch"`},
		{"GET /_cluster/health", "", 200, `"status":"green"`},
		{"GET /huts", "", 404, `"type":"index_not_found_exception"`},
		{"PUT /Huts", "", 400, "invalid_index_name_exception"},
		{"PUT /huts", `{"mappings":{"properties":{"a":{"type":"texxt"}}}}`, 400, "No handler for type [texxt] declared on field [a]"},
		{"PUT /huts", `{"mappings":{"properties":{"a":{"type":"text","nonsense":1}}}}`, 400, "nonsense"},
		{"PUT /huts", `{"settings":{"index":{"refresh_interval":"0ms"}},"mappings":{"dynamic":"strict","properties":{"name":{"type":"text"},"beds":{"type":"long"},"kind":{"type":"keyword"},"pos":{"type":"geo_point"},"r":{"properties":{"x":{"type":"date","format":"strict_date_optional_time"}}}}}}`, 200, `"acknowledged":true`},
		{"PUT /huts", "", 400, "resource_already_exists_exception"},
		{"POST /huts/_bulk", `{"index":{"_id":"1"}}`, 400, "no requests added"},
		{"POST /huts/_bulk", "{\"indexx\":{}}\n{}\n", 400, "Malformed action/metadata line [1]"},
		{"POST /huts/_bulk", "{\"index\":{\"_id\":\"1\",\"version\":3}}\n{}\n", 400, "internal versioning can not be used"},
		{"POST /huts/_bulk", "{\"index\":{\"_id\":\"1\"}}\n{\"name\":\"Grim Ridge\",\"beds\":12,\"kind\":\"hut\"}\n{\"index\":{\"_id\":\"2\"}}\n{\"name\":\"Dusk Ridge\",\"beds\":\"30\",\"kind\":\"bothy\",\"pos\":{\"lat\":1,\"lon\":2}}\n{\"create\":{\"_id\":\"2\"}}\n{}\n{\"delete\":{\"_id\":\"9\"}}\n", 200, `"errors":true`},
		{"PUT /huts/_doc/3", `{"beds":"x"}`, 400, "failed to parse field [beds] of type [long] in document with id '3'"},
		{"PUT /huts/_doc/3", `{"r":{"y":1}}`, 400, "dynamic introduction of [y] within [r] is not allowed"},
		{"PUT /huts/_doc/3", `{"r":1}`, 400, "tried to parse field [r] as object"},
		{"PUT /huts/_doc/3", `{"r":{"x":"2031-13-01"}}`, 400, "failed to parse date field"},
		{"PUT /huts/_doc/3", `{"name":"x"`, 400, "json_e_o_f_exception"},
		{"GET /huts/_doc/1", "", 200, `"_source":{"name":"Grim Ridge"`},
		{"GET /huts/_doc/none", "", 404, `"found":false`},
		{"GET /huts/_count", "", 200, `"count":2`},
		{"POST /huts/_search", `{"query":{"match":{"name":"ridge"}},"sort":[{"beds":"desc"}]}`, 200, `"sort":[30]`},
		{"POST /huts/_search", `{"query":{"bool":{"must":[{"match":{"name":"ridge"}}],"filter":[{"range":{"beds":{"gte":10,"lt":30}}}],"must_not":[{"term":{"kind":"bothy"}}]}}}`, 200, `"value":1`},
		{"POST /huts/_search", `{"query":{"multi_match":{"query":"dusk rid","type":"bool_prefix","operator":"and","fields":["name^2"]}},"size":1,"_source":["beds"]}`, 200, `"_source":{"beds":"30"}`},
		{"POST /huts/_search", `{"query":{"nonsense":{}}}`, 400, "unknown query [nonsense]"},
		{"POST /huts/_search", `{"from":9999,"size":10}`, 400, "Result window is too large"},
		{"POST /_aliases", `{"actions":[{"add":{"index":"huts","alias":"a"}},{"add":{"index":"nowhere","alias":"b"}}]}`, 404, "no such index [nowhere]"},
		{"GET /a/_count", "", 404, "no such index [a]"}, // all or nothing
		{"POST /_aliases", `{"actions":[{"add":{"index":"huts","alias":"a"}}]}`, 200, "acknowledged"},
		{"DELETE /a", "", 400, "matches an alias"},
		{"GET /a", "", 200, `"aliases":{"a":{}}`},
		{"GET /_cat/indices?v", "", 200, "green  open   huts"},
		{"POST /huts/_bulk?require_alias=true", "{\"delete\":{\"_id\":\"1\"}}\n", 200, "require_alias"},
		{"POST /_standin/faults", `{"bussy": 1}`, 400, "known: slow_ms"},
		{"POST /_standin/faults", `{"unavailable": 1, "refuse": {"7": "because"}}`, 200, "because"},
		{"GET /", "", 503, "cluster_manager_not_discovered_exception"},
		{"POST /huts/_bulk", "{\"index\":{\"_id\":\"7\"}}\n{}\n", 200, `"reason":"because"`},
		{"PUT /free/_doc/1", `{}`, 404, "no such index [free]"},
		{"PUT /free", "", 200, "acknowledged"},
		{"PUT /free/_doc/1", `{"n":1,"o":{"t":"x"},"l":[true]}`, 201, "created"},
		{"GET /free/_mapping", "", 200, `"n":{"type":"long"}`},
		{"PUT /free/_doc/2", `{"n":"x"}`, 400, "of type [long]"},
		{"DELETE /huts", "", 200, "acknowledged"},
		{"GET /a", "", 404, "no such index"},
		{"GET /_nonsense", "", 400, "must not start with '_'"},
	} {
		status, body := ask(s, c.line, c.body)
		if status != c.status || !strings.Contains(body, c.want) {
			t.Errorf("%s %s\n got %d %s\nwant %d %s", c.line, c.body, status, body, c.status, c.want)
		}
	}
}

func TestRefreshAndPointInTime(t *testing.T) {
	s := &Server{}
	ask(s, "PUT /huts", `{"settings":{"refresh_interval":"-1"}}`)
	ask(s, "PUT /huts/_doc/1", `{"n":"a"}`)
	count := func() string { _, body := ask(s, "GET /huts/_count", ""); return body }
	if !strings.Contains(count(), `"count":0`) {
		t.Error("found before the refresh")
	}
	ask(s, "POST /huts/_refresh", "")
	_, body := ask(s, "POST /huts/_search/point_in_time?keep_alive=1m", "")
	var pit struct {
		ID string `json:"pit_id"`
	}
	if err := json.Unmarshal([]byte(body), &pit); err != nil {
		t.Fatal(err)
	}
	ask(s, "PUT /huts/_doc/2?refresh=true", `{"n":"b"}`)
	ask(s, "DELETE /huts/_doc/1?refresh=true", "")
	if _, body := ask(s, "POST /_search", `{"pit":{"id":"`+pit.ID+`","keep_alive":"1m"},"sort":[{"_id":"asc"}]}`); !strings.Contains(
		body,
		`"_id":"1"`,
	) ||
		strings.Contains(body, `"_id":"2"`) {
		t.Errorf("the point in time moved: %s", body)
	}
	if _, body := ask(s, "POST /huts/_search", `{"query":{"match":{"n":"b"}}}`); !strings.Contains(
		body,
		`"_id":"2"`,
	) {
		t.Error(body)
	}
}

// What a peer sends must be taken or refused; it must never bring the server down,
// and what it takes must be JSON.
func FuzzBulk(f *testing.F) {
	f.Add("{\"index\":{\"_id\":\"1\"}}\n{\"n\":1}\n")
	f.Add("{\"delete\":{\"_id\":\"\\u00e9\",\"version\":5,\"version_type\":\"external\"}}\n")
	f.Add("{\"delete\":{\"_id\":\"000000\",\"version\":\"\"\n")
	f.Add("{\"create\":{\"_id\":\"1\"}}\n{\"a\":[{},[\"\\\\\"],-1.5e3,null]}\n")
	f.Fuzz(func(t *testing.T, body string) {
		s := &Server{}
		ask(s, "PUT /x", "")
		status, answer := ask(s, "POST /x/_bulk", body)
		// A version that is no number is a failure of a real server, too.
		if status >= 500 && !strings.Contains(answer, "input_coercion_exception") || !json.Valid([]byte(answer)) {
			t.Errorf("%d %s", status, answer)
		}
	})
}

// Whatever is asked, the answer is JSON, and no one is hurt.
func FuzzSearch(f *testing.F) {
	f.Add(`{"query":{"match":{"t":null}},"sort":[5],"aggs":{"a":5}}`)
	f.Add(
		`{"query":{"bool":{"must":[{"term":{"k":{"value":1}}},{"range":{"n":{"gte":"1","lt":null}}}],"should":{"geo_distance":{"distance":"1km","p":[1,2]}}}},"sort":["k",{"n":{"order":"desc"}}],"search_after":["a",null]}`,
	)
	f.Add(
		`{"query":{"multi_match":{"query":"a b","fields":["t^2","k"],"type":"phrase"}},"aggs":{"x":{"terms":{"field":"da","size":3}}}}`,
	)
	f.Add(`{"query":{"terms":{"k":[null,{},[]]}},"size":3,"from":2,"_source":["k"]}`)
	f.Fuzz(func(t *testing.T, body string) {
		s := &Server{}
		ask(
			s,
			"PUT /x",
			`{"mappings":{"properties":{"t":{"type":"text"},"k":{"type":"keyword"},"n":{"type":"long"},"da":{"type":"date"},"p":{"type":"geo_point"},"b":{"type":"boolean"}}}}`,
		)
		ask(
			s,
			"POST /x/_bulk?refresh=true",
			"{\"index\":{\"_id\":\"1\"}}\n{\"t\":\"a b\",\"k\":\"a\",\"n\":5,\"da\":\"2031\",\"p\":[1,2],\"b\":true}\n{\"index\":{\"_id\":\"2\"}}\n{\"t\":\"c\"}\n",
		)
		_, answer := ask(s, "POST /x/_search", body)
		if !json.Valid([]byte(answer)) {
			t.Errorf("%s", answer)
		}
	})
}
