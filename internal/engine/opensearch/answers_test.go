package opensearch

import (
	"encoding/json"
	"strings"
	"testing"

	"pingo/internal/core/retry"
)

func TestAnswersAreClassified(t *testing.T) {
	for _, c := range []struct {
		status int
		kind   string
		want   retry.Outcome
	}{
		{200, "", retry.Done}, {201, "", retry.Done}, {409, "version_conflict_engine_exception", retry.Newer}, {409, "", retry.Newer},
		{429, "circuit_breaking_exception", retry.Later}, {503, "", retry.Later}, {500, "x", retry.Later}, {413, "", retry.Later}, {408, "", retry.Later},
		{400, "mapper_parsing_exception", retry.Refused}, {400, "strict_dynamic_mapping_exception", retry.Refused}, {404, "index_not_found_exception", retry.Blocked},
		{403, "cluster_block_exception", retry.Blocked}, {401, "", retry.Blocked}, {302, "", retry.Blocked},
	} {
		if got := classify(c.status, c.kind); got != c.want {
			t.Errorf("%d %s: %s, want %s", c.status, c.kind, got, c.want)
		}
	}
}

// The words are those that a real server was seen to use.
func TestRefusalsAreExplained(t *testing.T) {
	e := &Engine{}
	words := func(id, value string) string {
		return "failed to parse field [beds] of type [long] in document with id '" + id + "'. Preview of field's value: '" + value + "': For input string: \"" + value + "\""
	}
	a, b := e.Explain(
		"mapper_parsing_exception",
		words("1", "many"),
	), e.Explain(
		"mapper_parsing_exception",
		words("42", "few"),
	)
	if a != b || a.Field != "beds" || !strings.Contains(a.Explanation, "keeps beds as long") {
		t.Errorf("%+v\n%+v", a, b)
	}
	for reason, want := range map[string]struct{ field, says string }{
		"mapping set to strict, dynamic introduction of [lift] within [_doc] is not allowed":                                 {"lift", "does not know the field lift"},
		"mapping set to strict, dynamic introduction of [name] within [region] is not allowed":                               {"region.name", "does not know"},
		"object mapping for [r] tried to parse field [null] as object, but found a concrete value":                           {"r", "keeps r as an object"},
		"failed to parse field [p] of type [geo_point]: illegal latitude value [91.0] for p":                                 {"p", "keeps p as geo_point"},
		`Document contains at least one immense term in field="k" (whose UTF8 encoding is longer than the max length 32766)`: {"k", "longer than the engine keeps whole"},
		"failed to parse: Duplicate field 'a'":                                                                               {"", "has the key a twice"},
		"failed to parse: The depth of the nested array field has exceeded the allowed limit of [20].":                       {"", "more deeply than the engine takes"},
		"failed to parse: Number value length (1001) exceeds the maximum allowed (1000, from `Stream…`)":                     {"", "more digits than the engine reads"},
		"some other words": {"", "with the given reason"},
	} {
		if c := e.Explain("x", reason); c.Field != want.field || !strings.Contains(c.Explanation, want.says) ||
			c.ID == a.ID {
			t.Errorf("%s: %+v", reason, c)
		}
	}
}

// An answer that is not for each document what was done to it is none.
func TestItemsOfAnswers(t *testing.T) {
	good := `{"took":3,"items":[{"index":{"_id":"1","status":201}},{"delete":{"status":404,"_id":"a \u00fc\"","found":false}},` +
		`{"index":{"_id":"3","error":{"type":"mapper_parsing_exception","reason":"no","caused_by":{"reason":"a number"}},"status":400}},{"index":{"_id":"4","error":null,"status":200}}]}`
	items, err := itemsOf([]byte(good))
	if err != nil || len(items) != 4 || items[0] != (item{"index", "1", 201, nil}) || items[1] != (item{"delete", "a ü\"", 404, nil}) ||
		items[2].cause == nil || items[2].cause.words() != "no: a number" || items[2].status != 400 || items[3].cause != nil {
		t.Errorf("%+v %v", items, err)
	}
	for n := range len(good) - 1 {
		if items, err := itemsOf([]byte(good[:n])); err == nil {
			t.Fatalf("%d bytes of it were read: %+v", n, items)
		}
	}
	for text, want := range map[string]int{
		`{}`: 0, `[]`: 0, `{"items":7}`: 1, `{"items":[{}]}`: 1, `{"items":[{"index":{"_id":"1"},"delete":{"_id":"1"}}]}`: 1, `{"items":[[1]]}`: 1, `{"items":{"index":{"status":201}}}`: 1,
	} {
		if items, err := itemsOf([]byte(text)); err != nil || len(items) != want || want > 0 && items[0].action == "index" {
			t.Errorf("%s: %+v %v", text, items, err)
		}
	}
	if items, err := itemsOf([]byte(`{"items":[{"index":{"_id":"1","error":"a word"}}]}`)); err == nil {
		t.Errorf("%+v", items)
	}
}

func TestAdvice(t *testing.T) {
	for _, c := range []struct{ kind, words, want string }{
		{"index_closed_exception", "closed", "open it"},
		{"cluster_block_exception", "index [x] blocked by: [FORBIDDEN/8/index write (api)];", "writes are blocked"},
		{"cluster_block_exception", "blocked by: [TOO_MANY_REQUESTS/12/disk usage exceeded flood-stage watermark, index has read-only-allow-delete block];", "disk is nearly full"},
		{"query_shard_exception", "failed to create query: maxClauseCount is set to 1024", "use fewer"},
		{"mapper_parsing_exception", "failed to parse", ""},
	} {
		if got := adviceOn(c.kind, c.words); !strings.Contains(got, c.want) || (got == "") != (c.want == "") {
			t.Errorf("%s %s: %q", c.kind, c.words, got)
		}
	}
}

func TestCausesAreSaidToTheRoot(t *testing.T) {
	for text, want := range map[string]string{
		`{"reason": "no such index", "root_cause": [{"reason": "no such index"}]}`:                                                                                "no such index",
		`{"reason": "failed to parse", "caused_by": {"reason": "not a number"}}`:                                                                                  "failed to parse: not a number",
		`{"type": "search_phase_execution_exception", "reason": "all shards failed", "root_cause": [{"reason": "No mapping found for [x] in order to sort on"}]}`: "No mapping found for [x] in order to sort on",
		`{"reason": "failed to parse", "caused_by": {"reason": "failed to parse", "caused_by": {"reason": "at the root"}}}`:                                       "failed to parse: at the root",
	} {
		var c cause
		if err := json.Unmarshal([]byte(text), &c); err != nil || c.words() != want {
			t.Errorf("%s: %q %v", text, c.words(), err)
		}
	}
}
