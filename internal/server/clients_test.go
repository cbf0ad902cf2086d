package server

import (
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

// useOfClient reads and writes with a client that was generated from the API's description.
const useOfClient = `
import sys
from pingo_client import AuthenticatedClient
from pingo_client.api.default import get_status, get_tokens, post_tokens, delete_token, get_index_search, post_definition_check
import pingo_client.models as models
client = AuthenticatedClient(base_url=sys.argv[1], token=sys.argv[2])
status = get_status.sync(client=client)
assert isinstance(status, models.Status) and status.state == "empty", status
made = post_tokens.sync(client=client, body=models.NewToken(name="python", role=models.NewTokenRole.VIEWER))
names = [t.name for t in get_tokens.sync(client=client)]
assert "python" in names, names
assert delete_token.sync_detailed("python", client=client).status_code == 204
problem = get_index_search.sync("nowhere", client=client)
assert isinstance(problem, models.Problem) and problem.status == 404 and problem.type_, problem
plan = post_definition_check.sync(client=client, body=models.Files(files=[models.File(name="a.yaml", text="indexes: {}\nnope: 1\n")]))
assert isinstance(plan, models.Plan) and len(plan.findings) > 0, plan
`

// A client that a generator makes of openapi.yaml works. make test-clients installs the generator.
func TestGeneratedClients(t *testing.T) {
	generator := os.Getenv("PINGO_TEST_CLIENTS")
	if generator == "" {
		t.Skip("PINGO_TEST_CLIENTS names no generator: see make test-clients")
	}
	s, token := newServerWith(t, Options{})
	web := httptest.NewServer(s.http.Handler)
	t.Cleanup(web.Close)
	dir := t.TempDir()
	if out, err := exec.CommandContext(t.Context(), generator, "generate", "--path", "../api/openapi.yaml", "--output-path", filepath.Join(dir, "client")).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	python := exec.CommandContext(t.Context(), filepath.Join(filepath.Dir(generator), "python"), "-c", useOfClient, web.URL, token)
	python.Dir = filepath.Join(dir, "client")
	if out, err := python.CombinedOutput(); err != nil {
		t.Errorf("%v\n%s", err, out)
	}
}
