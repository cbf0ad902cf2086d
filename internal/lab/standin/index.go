package standin

import (
	"fmt"
	"strconv"
	"strings"
	"sync"
	"time"
)

// index is one index of the stand-in: what is stored now, and what a search sees
// since the last refresh.
type index struct {
	mu       sync.RWMutex
	name     string
	created  time.Time
	mapping  *field
	settings map[string]string
	analysis *analysis

	stored    map[string]*doc // with tombstones
	dirty     map[string]struct{}
	refreshed time.Time
	seqNo     int64

	visible map[string]*doc
	inverted
}

// doc is one stored document; it never changes once made.
type doc struct {
	id      string
	version int64
	source  []byte
	gone    time.Time // when it was deleted
	ordinal int64
}

// tombstoneLife is how long a deletion's version is remembered, as the server's
// index.gc_deletes has it by default.
const tombstoneLife = time.Minute

func newIndex(name string, mapping *field, settings map[string]string, analysis *analysis) *index {
	ix := &index{
		name:      name,
		created:   time.Now(),
		mapping:   mapping,
		settings:  settings,
		analysis:  analysis,
		stored:    map[string]*doc{},
		dirty:     map[string]struct{}{},
		visible:   map[string]*doc{},
		refreshed: time.Now(),
	}
	ix.inverted.reset()
	return ix
}

// write is one action of a bulk request or of a request for a single document.
type bulkWrite struct {
	action   string // index, create, delete
	id       string
	external bool
	version  int64
	source   []byte
}

type written struct {
	index   string // that it went to, whatever alias was named
	status  int
	result  string
	version int64
	seqNo   int64
	err     *apiError
}

// apply does one write; the caller holds the lock.
func (ix *index) apply(w *bulkWrite) written {
	if len(w.id) > 512 {
		return written{
			status: 400,
			err: &apiError{
				400,
				"illegal_argument_exception",
				fmt.Sprintf("id is too long, must be no longer than 512 bytes but was: %d", len(w.id)),
				nil,
			},
		}
	}
	if ix.settings["blocks.write"] == "true" || ix.settings["blocks.read_only"] == "true" {
		return written{
			status: 403,
			err: &apiError{
				403,
				"cluster_block_exception",
				fmt.Sprintf("index [%s] blocked by: [FORBIDDEN/8/index write (api)];", ix.name),
				nil,
			},
		}
	}
	old := ix.stored[w.id]
	alive := old != nil && old.gone.IsZero()
	version := int64(1)
	if old != nil {
		version = old.version + 1
	}
	if w.external {
		if old != nil && old.version >= w.version {
			return written{
				status: 409,
				err: &apiError{
					409,
					"version_conflict_engine_exception",
					fmt.Sprintf(
						"[%s]: version conflict, current version [%d] is higher or equal to the one provided [%d]",
						w.id,
						old.version,
						w.version,
					),
					nil,
				},
			}
		}
		version = w.version
	}
	if w.action == "create" && alive {
		return written{
			status: 409,
			err: &apiError{
				409,
				"version_conflict_engine_exception",
				fmt.Sprintf(
					"[%s]: version conflict, document already exists (current version [%d])",
					w.id,
					old.version,
				),
				nil,
			},
		}
	}
	if w.action != "delete" {
		if err := ix.mapping.checkDocument(w.id, w.source); err != nil {
			return written{status: 400, err: err.(*apiError)}
		}
	}
	seq := ix.seqNo
	ix.seqNo++
	fresh := &doc{id: w.id, version: version, ordinal: seq}
	out := written{status: 200, version: version, seqNo: seq}
	switch {
	case w.action == "delete":
		fresh.gone = time.Now()
		out.result = "deleted"
		if !alive {
			out.status, out.result = 404, "not_found"
		}
	default:
		fresh.source = append([]byte(nil), w.source...)
		out.result = "updated"
		if !alive {
			out.status, out.result = 201, "created"
		}
	}
	ix.stored[w.id] = fresh
	ix.dirty[w.id] = struct{}{}
	return out
}

func (ix *index) get(id string) *doc {
	ix.mu.RLock()
	defer ix.mu.RUnlock()
	if d := ix.stored[id]; d != nil && d.gone.IsZero() {
		return d
	}
	return nil
}

// refresh makes all that was written visible to searches; the caller holds the lock.
func (ix *index) refresh() {
	for id := range ix.dirty {
		now := ix.stored[id]
		if old := ix.visible[id]; old != nil {
			ix.inverted.drop(old, ix.indexWords)
		}
		if now.gone.IsZero() {
			ix.visible[id] = now
			ix.inverted.waiting[now] = struct{}{}
		} else {
			delete(ix.visible, id)
			if time.Since(now.gone) > tombstoneLife {
				delete(ix.stored, id)
				continue
			}
		}
	}
	for id := range ix.dirty {
		if d := ix.stored[id]; d == nil || d.gone.IsZero() {
			delete(ix.dirty, id) // tombstones stay, to be looked at again
		}
	}
	ix.refreshed = time.Now()
}

// autoRefresh refreshes when the refresh interval has passed; the caller holds the lock.
func (ix *index) autoRefresh() {
	interval := time.Second
	if setting, ok := ix.settings["refresh_interval"]; ok {
		if setting == "-1" {
			return
		}
		if d, err := parseTime(setting); err == nil {
			interval = d
		}
	}
	if len(ix.dirty) > 0 && time.Since(ix.refreshed) >= interval {
		ix.refresh()
	}
}

// indexWords gives the words by which a value of a field is found.
func (ix *index) indexWords(path string, value any) []string {
	text, ok := value.(string)
	if !ok {
		return nil
	}
	return ix.analysis.of(ix.mapping.at(path), false).words(text)
}

// parseTime reads the interface's durations: 500ms, 30s, 2m, 1h.
func parseTime(text string) (time.Duration, error) {
	if days, ok := strings.CutSuffix(text, "d"); ok {
		n, err := strconv.Atoi(days)
		return time.Duration(n) * 24 * time.Hour, err
	}
	return time.ParseDuration(text)
}
