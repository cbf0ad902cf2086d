package opensearch

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"regexp"
	"strings"

	"github.com/tidwall/gjson"

	"pingo/internal/core/retry"
	"pingo/internal/engine"
)

// statusFailure is a failure with the HTTP status that it came with.
type statusFailure struct {
	engine.Failure
	status int
}

func (f *statusFailure) Unwrap() error { return &f.Failure }

func failure(status int) *statusFailure {
	return &statusFailure{
		engine.Failure{
			TooLarge: status == http.StatusRequestEntityTooLarge,
			Busy:     status == http.StatusTooManyRequests,
		},
		status,
	}
}

// classify reads an HTTP status and, where the engine gives one, its word for the
// kind of error.
func classify(status int, kind string) retry.Outcome {
	switch kind {
	case "version_conflict_engine_exception":
		return retry.Newer
	case "index_not_found_exception", "cluster_block_exception", "security_exception", "index_closed_exception":
		return retry.Blocked
	}
	switch {
	case status >= 200 && status < 300:
		return retry.Done
	case status == http.StatusConflict:
		return retry.Newer
	case status == http.StatusRequestTimeout,
		status == http.StatusRequestEntityTooLarge,
		status == http.StatusTooManyRequests,
		status >= 500:
		return retry.Later
	case status == http.StatusBadRequest:
		return retry.Refused
	}
	return retry.Blocked
}

// item is what a server says of one document of a request.
type item struct {
	action, id string
	status     int
	cause      *cause // nil where it took the document
}

// itemsOf reads the answer to a request with documents. It is read often, and by its length takes longer with
// reflection than documents take to be built.
func itemsOf(answer []byte) (items []item, err error) {
	if !gjson.ValidBytes(answer) {
		return nil, fmt.Errorf("it is no JSON, or not all of it came: it ends %.60q", answer[max(0, len(answer)-60):])
	}
	gjson.GetBytes(answer, "items").ForEach(func(_, each gjson.Result) bool {
		var i item
		each.ForEach(func(action, r gjson.Result) bool {
			if i.action != "" {
				i.action = "" // one thing is done to a document
				return false
			}
			i.action = action.String()
			r.ForEach(func(name, value gjson.Result) bool {
				switch name.String() {
				case "_id":
					i.id = value.String()
				case "status":
					i.status = int(value.Int())
				case "error":
					if value.Type != gjson.Null {
						err = json.Unmarshal([]byte(value.Raw), &i.cause)
					}
				}
				return err == nil
			})
			return err == nil
		})
		items = append(items, i)
		return err == nil
	})
	return items, err
}

// longestKey is how many bytes a document's id may have.
const longestKey = 512

// keyTooLong is the kind of refusal that is found before the engine has to.
const keyTooLong = "key_too_long"

const unblock = "writes are blocked by a setting of the index or the cluster (blocks.write, read_only): remove the block, and Pingo continues"

// adviceOn says what to do about a failure that no document causes; empty when the engine's
// words say it all.
func adviceOn(kind, words string) string {
	switch {
	case kind == "index_closed_exception":
		return "the index is closed: open it (POST /INDEX/_open), or run pingo apply for another edition"
	case kind == "cluster_block_exception" && strings.Contains(words, "flood-stage"):
		return "the engine's disk is nearly full; it takes documents again by itself once there is room"
	case kind == "cluster_block_exception":
		return unblock
	case strings.Contains(words, "maxClauseCount"):
		return "the search has too many words for the number of fields that are searched; use fewer"
	}
	return ""
}

var (
	wrongType    = regexp.MustCompile(`failed to parse field \[([^\]]+)\] of type \[([^\]]+)\]`)
	unknownField = regexp.MustCompile(`introduction of \[([^\]]+)\] within \[([^\]]+)\]`)
	notAnObject  = regexp.MustCompile(`object mapping for \[([^\]]+)\] tried to parse`)
	tooLong      = regexp.MustCompile(`immense term in field="([^"]+)"`)
	twice        = regexp.MustCompile(`Duplicate field '([^']*)'`)
)

// Explain reads a refusal of a document.
func (*Engine) Explain(kind, reason string) retry.Cause {
	pattern := retry.Pattern(reason)
	because := func(field, format string, args ...any) retry.Cause {
		return retry.CauseOf(kind, pattern, field, fmt.Sprintf(format, args...))
	}
	if kind == keyTooLong {
		return because(
			"",
			"The key is longer than the %d bytes that the engine takes. A shorter primary key is needed.",
			longestKey,
		)
	}
	if m := tooLong.FindStringSubmatch(reason); m != nil {
		return because(
			m[1],
			"The value of %s is longer than the engine keeps whole. Make the field a text that is searched by its words, or cut it with sql:.",
			m[1],
		)
	}
	if m := twice.FindStringSubmatch(reason); m != nil {
		return because(
			"",
			"A json value of the row has the key %s twice. The type jsonb keeps one of them (sql: column::jsonb).",
			m[1],
		)
	}
	if m := wrongType.FindStringSubmatch(reason); m != nil {
		return retry.WrongType(kind, pattern, m[1], m[2])
	}
	if m := unknownField.FindStringSubmatch(reason); m != nil {
		return retry.UnknownField(kind, pattern, strings.TrimPrefix(m[2]+"."+m[1], "_doc."))
	}
	if m := notAnObject.FindStringSubmatch(reason); m != nil {
		return retry.WrongType(kind, pattern, m[1], "an object")
	}
	switch {
	case strings.Contains(reason, "nested array field"):
		return because(
			"",
			"Lists are nested in each other more deeply than the engine takes (20). Flatten them with sql:.",
		)
	case strings.Contains(reason, "Number value length"):
		return because(
			"",
			"A number has more digits than the engine reads (1,000). Round it, or make a text of it with sql:.",
		)
	case strings.Contains(reason, "nesting depth"), strings.Contains(reason, "Document nesting"):
		return because(
			"",
			"A json value of the row is nested more deeply than the engine reads. Index a part of it with sql:.",
		)
	}
	return because("", "%s", retry.AsTheEngineSays)
}

// RefusesOlderVersions: documents are sent with external versions.
func (*Engine) RefusesOlderVersions() {}

// info is what a server says of itself.
type info struct {
	ClusterName string `json:"cluster_name"`
	Version     struct {
		Distribution string `json:"distribution"`
		Number       string `json:"number"`
	} `json:"version"`
}

// Describe says which server answered.
func (e *Engine) Describe(ctx context.Context) (string, error) {
	var i info
	if err := e.do(ctx, http.MethodGet, "/", nil, nil, &i); err != nil {
		return "", err
	}
	if i.Version.Number == "" {
		return "", &engine.Failure{
			Outcome: retry.Blocked,
			Message: fmt.Sprintf("%s answers JSON, but not as a search engine does: look at the url", e.at),
		}
	}
	return fmt.Sprintf("%s %s, cluster %s", i.Version.Distribution, i.Version.Number, i.ClusterName), nil
}

// recognize asks a server whether it speaks this interface: it says so at its root.
func recognize(ctx context.Context, c engine.Config) (bool, error) {
	e, err := Open(c)
	if err != nil {
		return false, err
	}
	defer e.Close()
	var i info
	if err := e.do(ctx, http.MethodGet, "/", nil, nil, &i); err != nil {
		return false, err
	}
	return i.Version.Distribution == "opensearch", nil
}
