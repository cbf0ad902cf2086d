package collections_test

import (
	"encoding/json"
	"testing"

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
