// Package ostest gives tests a real OpenSearch server, where they are asked to use one.
package ostest

import (
	"context"
	"fmt"
	"net"
	"os"
	"sync"
	"testing"

	"pingo/internal/lab/osnode"
)

var shared struct {
	once   sync.Once
	dir    string
	server *osnode.Server
	err    error
}

// Strict makes a server forbid what it can.
var Strict = []string{
	"action.auto_create_index=false",
	"action.destructive_requires_name=true",
	"action.search.shard_count.limit=20",
	"cluster.max_shards_per_node=30",
	"http.max_content_length=1mb",
	"indices.id_field_data.enabled=false",
	"indices.query.bool.max_clause_count=64",
	"rest.action.multi.allow_explicit_index=false",
	"search.allow_expensive_queries=false",
	"search.default_allow_partial_results=false",
	"search.default_search_timeout=2s",
	"search.max_keep_alive=1m",
	"search.default_keep_alive=30s",
	"search.max_open_scroll_context=5",
}

// Server gives tests the one real server of their process, with the settings of the first who asks; it ends with the
// process.
// The test is skipped unless PINGO_TEST_ENGINES is set, as make test-engines does.
func Server(t testing.TB, settings ...string) *osnode.Server {
	t.Helper()
	Wanted(t)
	shared.once.Do(func() {
		if shared.dir, shared.err = os.MkdirTemp("", "pingo-engine-"); shared.err == nil {
			shared.server, shared.err = osnode.Start(context.Background(), osnode.Options{Dir: shared.dir, Settings: settings})
		}
	})
	if shared.err != nil {
		t.Fatal(shared.err)
	}
	return shared.server
}

// Wanted skips the test unless tests with real servers are asked for.
func Wanted(t testing.TB) {
	t.Helper()
	if os.Getenv("PINGO_TEST_ENGINES") == "" {
		t.Skip("make test-engines runs this with a real server")
	}
}

// Main runs a package's tests and stops the server that they may have started.
func Main(m *testing.M) {
	code := m.Run()
	if shared.server != nil {
		if err := shared.server.Stop(); err != nil {
			fmt.Fprintln(os.Stderr, err)
			code = 1
		}
		os.RemoveAll(shared.dir)
	}
	os.Exit(code)
}

// Pair starts a cluster of two servers, which end with the test. The first may be the only one
// that is left: it alone decides.
func Pair(t testing.TB) (one, two *osnode.Server) {
	t.Helper()
	var ports [2]int
	for i := range ports {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		ports[i] = l.Addr().(*net.TCPAddr).Port
		if err := l.Close(); err != nil {
			t.Fatal(err)
		}
	}
	start := func(name, roles string, port int) *osnode.Server {
		s, err := osnode.Start(t.Context(), osnode.Options{Dir: t.TempDir(), Settings: []string{
			"cluster.name=pair", "node.name=" + name, "node.roles=" + roles, fmt.Sprintf("transport.port=%d", port),
			fmt.Sprintf("discovery.seed_hosts=127.0.0.1:%d", ports[0]), "cluster.initial_cluster_manager_nodes=one",
		}})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { s.Kill() })
		return s
	}
	return start("one", "cluster_manager,data,ingest", ports[0]), start("two", "data,ingest", ports[1])
}
