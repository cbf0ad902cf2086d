package kinds

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"gopkg.in/yaml.v3"

	"pingo/internal/core/definition"
)

// The schema that editors use takes what check takes, and refuses what check refuses for the form of a value.
func TestTheSchemaAgreesWithCheck(t *testing.T) {
	text := All().Language().Schema()
	if strings.Contains(string(text), `"(?`) || strings.Contains(string(text), `(?i)`) {
		t.Error("a pattern is no regular expression of ECMA-262")
	}
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	compiler := jsonschema.NewCompiler()
	compiler.DefaultDraft(jsonschema.Draft2020)
	if err := compiler.AddResource("definition.json", document); err != nil {
		t.Fatal(err)
	}
	schema, err := compiler.Compile("definition.json") // which holds it to the draft's own schema
	if err != nil {
		t.Fatal(err)
	}
	const base = `
sources:
  s: { kind: postgres, url: "${URL}" SOURCE }
  hooks: { kind: webhook, unsigned: allowed, records: { r: {} } HOOKS }
engines:
  e: { kind: opensearch, url: "${URL}" }
alerts: { lag: 1m ALERTS }
indexes:
  i: { engine: e, rows: s.t, fields: [a] INDEX }
`
	for _, c := range []struct{ place, written string }{
		{"", ""},
		{"INDEX", "refresh: 1h"}, {"INDEX", "refresh: 1h30m"}, {"INDEX", "refresh: 1.5h"}, {"INDEX", "refresh: hourly"}, {"INDEX", "refresh: 1 h"}, {"INDEX", "refresh: 1d"},
		{"INDEX", "reindex: { keep_previous: 0 }"}, {"INDEX", "reindex: { keep_previous: 2h }"}, {"INDEX", "reindex: { keep_previous: 2 }"}, {"INDEX", "reindex: { keep_previous: two }"},
		{"INDEX", "reindex: { hours: \"22:00-06:00\" }"}, {"INDEX", "reindex: { hours: \"25:00-06:00\" }"}, {"INDEX", "reindex: { hours: \"22-6\" }"},
		{"INDEX", "reindex: { bytes_per_second: 2MB }"}, {"INDEX", "reindex: { bytes_per_second: 2 MiB }"}, {"INDEX", "reindex: { bytes_per_second: fast }"},
		{"INDEX", "drift: { sweep: 0 }"}, {"INDEX", "drift: { sweep: 24h }"}, {"INDEX", "drift: { sweep: daily }"},
		{"INDEX", "drift: { check: 30 3 * * * }"}, {"INDEX", "drift: { check: \"*/15 0-6 1,15 jan-mar MON-FRI\" }"}, {"INDEX", "drift: { check: 30 3 * * }"}, {"INDEX", "drift: { check: nightly }"},
		{"INDEX", "drift: { content: 10% }"}, {"INDEX", "drift: { content: 0.5% }"}, {"INDEX", "drift: { content: 100% }"}, {"INDEX", "drift: { content: 110% }"}, {"INDEX", "drift: { content: \"10\" }"}, {"INDEX", "drift: { content: 1.2.3% }"},
		{"SOURCE", "target_lag: 50ms"}, {"SOURCE", "target_lag: 50"}, {"SOURCE", "journal_limit: 2GB"}, {"SOURCE", "journal_limit: big"},
		{"HOOKS", "max_request: 1MB"}, {"HOOKS", "max_request: 1 mib"}, {"HOOKS", "max_request: 1 Gb/s"}, {"HOOKS", "time_window: 5m"}, {"HOOKS", "time_window: soon"},
		{"ALERTS", "blocked: 5m"}, {"ALERTS", "blocked: 5"},
	} {
		written := base
		for _, place := range []string{"SOURCE", "HOOKS", "ALERTS", "INDEX"} {
			with := ""
			if place == c.place {
				with = ", " + c.written
			}
			written = strings.Replace(written, " "+place, with, 1)
		}
		_, findings := definition.Parse([]definition.File{{Name: "d.yaml", Text: written}}, All().Language(), func(string) (string, error) { return "postgres://h/d", nil })
		for i := len(findings) - 1; i >= 0; i-- {
			if strings.Contains(findings[i].Message, "begins with") { // the one address fits one kind alone
				findings = append(findings[:i], findings[i+1:]...)
			}
		}
		var plain any
		if err := yaml.Unmarshal([]byte(written), &plain); err != nil {
			t.Fatal(err)
		}
		asJSON, err := json.Marshal(plain)
		if err != nil {
			t.Fatal(err)
		}
		value, err := jsonschema.UnmarshalJSON(bytes.NewReader(asJSON))
		if err != nil {
			t.Fatal(err)
		}
		if refused := schema.Validate(value); (refused == nil) != (len(findings) == 0) {
			t.Errorf("%s: check says %v, the schema says %v", c.written, findings, fmt.Sprint(refused))
		}
	}
}
