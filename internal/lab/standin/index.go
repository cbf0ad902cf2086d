package standin

import (
	"crypto/rand"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// index is one index of the stand-in: what is stored now, and what a search sees
// since the last refresh.
type index struct {
	name    string
	uuid    string
	created time.Time

	making   sync.Mutex // held while a segment is made; taken before mu
	mu       sync.Mutex // guards what follows
	mapping  *field
	fixed    bool // no document adds to the mapping
	settings map[string]string
	analysis *analysis
	closed   bool

	stored    map[string]*doc // with tombstones
	waiting   []read          // written, in no segment
	dying     []*doc          // in a segment, and deleted or replaced since the last refresh
	changed   bool            // since the last refresh
	graves    []*doc          // deletions in order
	refreshed time.Time
	seqNo     int64
	hidden    []*segment // made since the last refresh

	seen    *snapshot
	merging bool
}

// snapshot is what searches see; it never changes.
type snapshot struct {
	segments []*segment
	live     []bits
	count    int
}

// doc is one version of a stored document.
type doc struct {
	id      string
	version int64
	source  []byte
	gone    int64 // when it was deleted, in nanoseconds; 0 when it was not
	dead    bool  // deleted or replaced
	ordinal int64
	segment *segment
	place   uint32
}

// bufferedDocuments is how many documents wait at most before a segment is made of them.
const bufferedDocuments = 4096

func newIndex(name string, mapping *field, settings map[string]string, analysis *analysis) *index {
	mapping.placed("")
	fixed := true
	mapping.each(func(f *field) {
		if dynamic := f.dynamic("inherited"); dynamic == "true" || f == mapping && dynamic == "inherited" {
			fixed = false
		}
	})
	return &index{
		name:      name,
		uuid:      rand.Text()[:22],
		fixed:     fixed,
		created:   time.Now(),
		mapping:   mapping,
		settings:  settings,
		analysis:  analysis,
		stored:    map[string]*doc{},
		refreshed: time.Now(),
		seen:      &snapshot{},
	}
}

// bulkWrite is one action of a bulk request or of a request for a single document.
type bulkWrite struct {
	action   string // index, create, delete
	id       string
	external bool
	equal    bool // external_gte: the same version is taken, too
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

func refusal(err *apiError) written { return written{status: err.status, err: err} }

// blocked says why nothing can be written; nil when it can.
func (ix *index) blocked() *apiError {
	block := func(status int, what string) *apiError {
		return &apiError{
			status,
			"cluster_block_exception",
			fmt.Sprintf("index [%s] blocked by: [%s];", ix.name, what),
			nil,
		}
	}
	switch {
	case ix.closed:
		return &apiError{400, "index_closed_exception", "closed", nil}
	case ix.settings["blocks.read_only"] == "true":
		return block(403, "FORBIDDEN/5/index read-only (api)")
	case ix.settings["blocks.write"] == "true":
		return block(403, "FORBIDDEN/8/index write (api)")
	case ix.settings["blocks.read_only_allow_delete"] == "true":
		return block(
			429,
			"TOO_MANY_REQUESTS/12/disk usage exceeded flood-stage watermark, index has read-only-allow-delete block",
		)
	}
	return nil
}

// apply does one write.
func (ix *index) apply(w *bulkWrite) written {
	var terms []term
	var bad *apiError
	if ix.fixed && w.action != "delete" { // while others write
		terms, bad = ix.read(w.id, w.source)
	}
	ix.mu.Lock()
	out := ix.store(w, terms, bad)
	full := len(ix.waiting) >= bufferedDocuments
	ix.mu.Unlock()
	if full {
		ix.making.Lock()
		ix.takeIn()
		ix.making.Unlock()
	}
	return out
}

// store does one write whose document may have been read; the caller holds the lock.
func (ix *index) store(w *bulkWrite, terms []term, bad *apiError) written {
	if err := ix.blocked(); err != nil {
		return refusal(err)
	}
	old := ix.stored[w.id]
	alive := old != nil && old.gone == 0
	version := int64(1)
	if old != nil {
		version = old.version + 1
	}
	conflict := func(format string, args ...any) written {
		return refusal(&apiError{409, "version_conflict_engine_exception",
			fmt.Sprintf("[%s]: version conflict, ", w.id) + fmt.Sprintf(format, args...), nil})
	}
	if w.external {
		if old != nil && (old.version > w.version || old.version == w.version && !w.equal) {
			return conflict(
				"current version [%d] is higher or equal to the one provided [%d]",
				old.version,
				w.version,
			)
		}
		version = w.version
	}
	if w.action == "create" && alive {
		return conflict("document already exists (current version [%d])", old.version)
	}
	fresh := &doc{id: w.id, version: version, ordinal: ix.seqNo}
	if w.action != "delete" {
		if !ix.fixed {
			terms, bad = ix.read(w.id, w.source)
		}
		if bad != nil {
			return refusal(bad)
		}
		fresh.source = slices.Clone(w.source)
	}
	out := written{status: 200, version: version, seqNo: ix.seqNo}
	ix.seqNo++
	ix.changed = true
	if alive {
		old.dead = true
		if old.segment != nil {
			ix.dying = append(ix.dying, old)
		}
	}
	ix.stored[w.id] = fresh
	if w.action == "delete" {
		fresh.gone = time.Now().UnixNano()
		ix.graves = append(ix.graves, fresh)
		out.result = "deleted"
		if !alive {
			out.status, out.result = 404, "not_found"
		}
		return out
	}
	out.result = "updated"
	if !alive {
		out.status, out.result = 201, "created"
	}
	ix.waiting = append(ix.waiting, read{fresh, terms})
	return out
}

func (ix *index) get(id string) *doc {
	ix.mu.Lock()
	defer ix.mu.Unlock()
	if d := ix.stored[id]; d != nil && d.gone == 0 {
		return d
	}
	return nil
}

func (ix *index) shut() bool {
	ix.mu.Lock()
	defer ix.mu.Unlock()
	return ix.closed
}

// takeIn makes a segment of what was written, which no search sees yet; the caller holds
// making alone.
func (ix *index) takeIn() {
	ix.mu.Lock()
	docs := slices.DeleteFunc(ix.waiting, func(r read) bool { return r.doc.dead })
	ix.waiting = nil
	ix.mu.Unlock()
	if len(docs) == 0 {
		return
	}
	s := newSegment(docs)
	ix.mu.Lock()
	defer ix.mu.Unlock()
	for n, d := range s.docs {
		d.segment, d.place = s, uint32(n)
		if d.dead { // by now; until the next refresh nothing else represents it
			ix.dying = append(ix.dying, d)
		}
	}
	ix.hidden = append(ix.hidden, s)
}

// refresh makes all that was written visible to searches.
func (ix *index) refresh() {
	ix.making.Lock()
	defer ix.making.Unlock()
	ix.mu.Lock()
	ix.forget()
	ix.refreshed = time.Now()
	changed, dying := ix.changed, ix.dying
	ix.changed, ix.dying = false, nil
	ix.mu.Unlock()
	if !changed {
		return
	}
	ix.takeIn()
	ix.mu.Lock()
	defer ix.mu.Unlock()
	fresh := &snapshot{
		segments: slices.Clone(ix.seen.segments),
		live:     slices.Clone(ix.seen.live),
		count:    ix.seen.count,
	}
	for _, s := range ix.hidden {
		all := newBits(len(s.docs))
		for n := range s.docs {
			all.set(uint32(n))
		}
		fresh.segments, fresh.live = append(fresh.segments, s), append(fresh.live, all)
		fresh.count += len(s.docs)
	}
	ix.hidden = nil
	owned := map[int]bool{}
	for _, d := range dying {
		at := slices.Index(fresh.segments, d.segment)
		if !owned[at] {
			owned[at], fresh.live[at] = true, slices.Clone(fresh.live[at])
		}
		fresh.live[at].unset(d.place)
		fresh.count--
	}
	ix.seen = fresh
	ix.tidy()
}

// forget removes the deletions that are no longer remembered, as index.gc_deletes says.
func (ix *index) forget() {
	keep := time.Minute
	if d, err := parseTime(ix.settings["gc_deletes"]); err == nil {
		keep = d
	}
	for len(ix.graves) > 0 && time.Since(time.Unix(0, ix.graves[0].gone)) > keep {
		if d := ix.graves[0]; ix.stored[d.id] == d {
			delete(ix.stored, d.id)
		}
		ix.graves = ix.graves[1:]
	}
}

// mergeFactor is how many segments of about one size are made one.
const mergeFactor = 8

// tidy merges segments of about one size, and those that are dead for the most part, next to what
// else goes on; the caller holds the lock.
func (ix *index) tidy() {
	if ix.merging {
		return
	}
	sizes := map[int][]int{} // by order of magnitude
	var chosen []int
	for i, s := range ix.seen.segments {
		size := 0
		for n := len(s.docs) / 256; n > 0; n /= mergeFactor {
			size++
		}
		if sizes[size] = append(sizes[size], i); len(sizes[size]) == mergeFactor {
			chosen = sizes[size]
			break
		}
		if ix.seen.live[i].count() < len(s.docs)/2 {
			chosen = []int{i}
			break
		}
	}
	if chosen == nil {
		return
	}
	ix.merging = true
	var old []*segment
	var live []bits
	for _, i := range chosen {
		old, live = append(old, ix.seen.segments[i]), append(live, ix.seen.live[i])
	}
	go func() {
		merged := merge(old, live)
		ix.mu.Lock()
		defer ix.mu.Unlock()
		ix.replace(old, merged)
		ix.merging = false
		ix.tidy()
	}()
}

// replace puts a merged segment in the place of those it was made of.
func (ix *index) replace(old []*segment, merged *segment) {
	now := &snapshot{count: ix.seen.count}
	was := map[*segment]bits{}
	for i, s := range ix.seen.segments {
		if slices.Contains(old, s) {
			was[s] = ix.seen.live[i]
			continue
		}
		now.segments, now.live = append(now.segments, s), append(now.live, ix.seen.live[i])
	}
	alive := newBits(len(merged.docs))
	for n, d := range merged.docs {
		if was[d.segment].has(d.place) {
			alive.set(uint32(n))
		}
		d.segment, d.place = merged, uint32(n)
	}
	if len(merged.docs) > 0 {
		now.segments, now.live = append(now.segments, merged), append(now.live, alive)
	}
	ix.seen = now
}

// autoRefresh refreshes when the refresh interval has passed.
func (ix *index) autoRefresh() {
	ix.mu.Lock()
	interval := time.Second
	if setting, ok := ix.settings["refresh_interval"]; ok {
		if d, err := parseTime(setting); err == nil {
			interval = d
		}
		if setting == "-1" {
			interval = math.MaxInt64
		}
	}
	due := time.Since(ix.refreshed) >= interval
	ix.mu.Unlock()
	if due {
		ix.refresh()
	}
}

// visible is what searches see now.
func (ix *index) visible() *snapshot {
	ix.autoRefresh()
	ix.mu.Lock()
	defer ix.mu.Unlock()
	return ix.seen
}

// parseTime reads the interface's durations: 500ms, 30s, 2m, 1h, 1d.
func parseTime(text string) (time.Duration, error) {
	if days, ok := strings.CutSuffix(text, "d"); ok {
		n, err := strconv.Atoi(days)
		return time.Duration(n) * 24 * time.Hour, err
	}
	return time.ParseDuration(text)
}
