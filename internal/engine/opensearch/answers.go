package opensearch

import (
	"context"
	"fmt"
	"net/http"
	"regexp"
	"strings"

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

var (
	wrongType    = regexp.MustCompile(`failed to parse field \[([^\]]+)\] of type \[([^\]]+)\]`)
	unknownField = regexp.MustCompile(`introduction of \[([^\]]+)\] within \[([^\]]+)\]`)
)

// Explain reads a refusal of a document.
func (*Engine) Explain(kind, reason string) retry.Cause {
	pattern := retry.Pattern(reason)
	if m := wrongType.FindStringSubmatch(reason); m != nil {
		return retry.WrongType(kind, pattern, m[1], m[2])
	}
	if m := unknownField.FindStringSubmatch(reason); m != nil {
		return retry.UnknownField(kind, pattern, strings.TrimPrefix(m[2]+"."+m[1], "_doc."))
	}
	if strings.Contains(reason, "id is too long") {
		return retry.CauseOf(
			kind,
			pattern,
			"",
			"The key is longer than the 512 bytes that the engine takes. A shorter primary key is needed.",
		)
	}
	return retry.CauseOf(kind, pattern, "", retry.AsTheEngineSays)
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
			Message: fmt.Sprintf("%s answers JSON, but not as a search engine does: look at the url", e.base),
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
