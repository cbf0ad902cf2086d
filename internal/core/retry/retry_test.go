package retry

import (
	"strings"
	"testing"
	"time"
)

func TestAnswersAreClassified(t *testing.T) {
	for _, c := range []struct {
		status int
		kind   string
		want   Outcome
	}{
		{200, "", Done}, {201, "", Done}, {409, "version_conflict_engine_exception", Newer}, {409, "", Newer},
		{429, "circuit_breaking_exception", Later}, {503, "", Later}, {500, "x", Later}, {413, "", Later}, {408, "", Later},
		{400, "mapper_parsing_exception", Refused}, {400, "strict_dynamic_mapping_exception", Refused},
		{404, "index_not_found_exception", Blocked}, {403, "cluster_block_exception", Blocked}, {401, "", Blocked}, {302, "", Blocked},
	} {
		if got := Classify(c.status, c.kind); got != c.want {
			t.Errorf("%d %s: %s, want %s", c.status, c.kind, got, c.want)
		}
	}
}

func TestBackoffGrowsAndIsBounded(t *testing.T) {
	for attempt := -1; attempt < 100; attempt++ {
		for range 50 {
			if d := Backoff(attempt); d < 25*time.Millisecond || d > 5*time.Second {
				t.Fatalf("attempt %d waits %s", attempt, d)
			}
		}
	}
	if Backoff(20) < 2*time.Second {
		t.Error("late attempts come too soon")
	}
}

func TestCausesGatherWhatIsAlike(t *testing.T) {
	words := func(id, value string) string {
		return "failed to parse field [beds] of type [long] in document with id '" + id + "'. Preview of field's value: '" + value + "': For input string: \"" + value + "\""
	}
	a, b := CauseOf("mapper_parsing_exception", words("1", "many")), CauseOf("mapper_parsing_exception", words("42", "few"))
	if a != b || a.Field != "beds" || !strings.Contains(a.Explanation, "keeps beds as long") {
		t.Errorf("%+v\n%+v", a, b)
	}
	for reason, field := range map[string]string{
		"mapping set to strict, dynamic introduction of [lift] within [_doc] is not allowed":   "lift",
		"mapping set to strict, dynamic introduction of [name] within [region] is not allowed": "region.name",
		`field region.size is integer, which "very 'large'" is not`:                            "region.size",
		"the document has a field lift, which the edition does not":                            "lift",
		"some other words": "",
	} {
		c := CauseOf("x", reason)
		if c.Field != field || c.Explanation == "" || c.ID == a.ID {
			t.Errorf("%s: %+v", reason, c)
		}
	}
	if CauseOf("source", "division by zero").ID == CauseOf("mapper", "division by zero").ID {
		t.Error("two kinds have one cause")
	}
}

func TestBatchesFollowTheEngine(t *testing.T) {
	var b Batch
	limits := func(docs, bytes int) {
		t.Helper()
		if d, n := b.Limits(); d != docs || n != bytes {
			t.Errorf("%d documents and %d bytes instead of %d and %d", d, n, docs, bytes)
		}
	}
	limits(MaxDocs, MaxBytes)
	b.Answered(500, 10*time.Millisecond)
	limits(MaxDocs, MaxBytes)
	b.Busy(400)
	limits(200, MaxBytes)
	b.Answered(200, time.Second) // neither quick nor slow
	limits(200, MaxBytes)
	b.Answered(200, 4*time.Second)
	limits(100, MaxBytes)
	for range 40 {
		b.Busy(1)
	}
	limits(minDocs, MaxBytes)
	for range 50 {
		b.Answered(100, time.Millisecond)
	}
	limits(MaxDocs, MaxBytes)
	b.TooLarge(3 << 20)
	b.TooLarge(4 << 20) // one that was on its way
	limits(MaxDocs, 3<<19)
}
