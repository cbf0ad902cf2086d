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
	for reason, field := range map[string]string{
		"mapping set to strict, dynamic introduction of [lift] within [_doc] is not allowed":   "lift",
		"mapping set to strict, dynamic introduction of [name] within [region] is not allowed": "region.name",
		"some other words": "",
	} {
		if c := e.Explain("x", reason); c.Field != field || c.Explanation == "" || c.ID == a.ID {
			t.Errorf("%s: %+v", reason, c)
		}
	}
}

func TestCausesAreSaidToTheRoot(t *testing.T) {
	for text, want := range map[string]string{
		`{"reason": "no such index", "root_cause": [{"reason": "no such index"}]}`:                                    "no such index",
		`{"reason": "failed to parse", "caused_by": {"reason": "not a number"}}`:                                      "failed to parse: not a number",
		`{"reason": "all shards failed", "root_cause": [{"reason": "No mapping found for [x] in order to sort on"}]}`: "all shards failed: No mapping found for [x] in order to sort on",
	} {
		var c cause
		if err := json.Unmarshal([]byte(text), &c); err != nil || c.words() != want {
			t.Errorf("%s: %q %v", text, c.words(), err)
		}
	}
}
