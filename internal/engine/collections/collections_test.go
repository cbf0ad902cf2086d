package collections_test

import (
	"encoding/json"
	"strings"
	"testing"

	"pingo/internal/core/retry"
	"pingo/internal/engine"
	"pingo/internal/engine/collections"
	"pingo/internal/engine/enginetest"
	"pingo/internal/lab/collectionsnode"
)

func open(t *testing.T, server *collectionsnode.Server) *collections.Engine {
	t.Helper()
	options, err := json.Marshal(map[string]string{"key": server.Key})
	if err != nil {
		t.Fatal(err)
	}
	e, err := collections.Open(engine.Config{URL: server.URL(), Options: options})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(e.Close)
	return e
}

func TestRealConformance(t *testing.T) {
	enginetest.Run(t, open(t, collectionsnode.ForTest(t)), enginetest.Faults{})
}

func TestRealDocuments(t *testing.T) {
	enginetest.Documents(t, open(t, collectionsnode.ForTest(t)))
}

// A key that the server does not take is the engine's trouble, and says what to look at.
func TestRealKeys(t *testing.T) {
	server := collectionsnode.ForTest(t)
	for _, key := range []string{"", "wrong"} {
		options, _ := json.Marshal(map[string]string{"key": key})
		e, err := collections.Open(engine.Config{URL: server.URL(), Options: options})
		if err != nil {
			t.Fatal(err)
		}
		_, err = e.Describe(t.Context())
		if f := engine.FailureOf(err); err == nil || f.Outcome != retry.Blocked || !strings.Contains(f.Message, "check the engine's key") || key != "" && strings.Contains(f.Message, key) {
			t.Errorf("%q: %v", key, err)
		}
		if is, err := collections.Kind.Recognize(t.Context(), engine.Config{URL: server.URL()}); !is || err != nil {
			t.Errorf("not recognised: %v", err)
		}
	}
}
