// Package report says how sources, indexes and engines are: in numbers, in a state, and
// in a sentence.
package report

import (
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"pingo/internal/api"
	"pingo/internal/core/drift"
	"pingo/internal/core/reindex"
	"pingo/internal/core/stats"
	"pingo/internal/flow/connect"
	"pingo/internal/flow/deliver"
	"pingo/internal/flow/rebuild"
	"pingo/internal/flow/stream"
	"pingo/internal/flow/sweep"
	"pingo/internal/source"
)

// Fed is an edition that this process feeds.
type Fed struct {
	Edition *deliver.Edition
	// Followers are one for each source that its documents are made from.
	Followers []*stream.Follower
	Fill      *rebuild.Fill
	Checker   *sweep.Checker
}

// Live reports whether the edition answers under the public name.
func (f *Fed) Live() bool {
	state, _ := f.Fill.State()
	return state == reindex.Switched
}

// Oldest is when the oldest change was made that the edition has not taken in; zero when
// there is none.
func (f *Fed) Oldest() time.Time {
	oldest := f.Edition.Oldest()
	for _, follower := range f.Followers {
		oldest = deliver.Earlier(oldest, follower.Oldest())
	}
	return oldest
}

// unreadAfter is how long ago the changes must have been read before it is unknown whether
// there are more.
const unreadAfter = 5 * time.Second

const (
	// usualLag is how old the oldest change may be of an index that is in sync; or as old as nearly all were
	// recently, but not older than mostLag.
	usualLag = 250 * time.Millisecond
	mostLag  = 3 * time.Second
)

// Trouble is a trouble as the API has it.
func Trouble(t *stats.Trouble) *api.Trouble {
	if t == nil {
		return nil
	}
	return &api.Trouble{Since: t.Since, Message: t.Message, Blocked: t.Blocked}
}

// Engine says how an engine is.
func Engine(e *connect.Engine) api.EngineStatus {
	allowed, trouble := e.Limiter.State()
	return api.EngineStatus{Name: e.Name, RequestsAllowed: allowed, Trouble: Trouble(trouble)}
}

// Source says how a source is.
func Source(name string, st *stream.Stream) api.SourceStatus {
	s := api.SourceStatus{Name: name, Trouble: Trouble(st.Trouble.Get())}
	inFlight, oldest := st.InFlight()
	s.InFlight = inFlight
	if inFlight > 0 {
		s.OldestAt = &oldest
	}
	if at := st.ReadAt(); !at.IsZero() {
		s.ReadAt = &at
	}
	s.Noticed, s.PerSecond, s.Minute = st.Noticed.Read()
	if j := st.Journal.Get(); j != nil {
		s.Journal = &api.JournalStatus{
			Changes:        j.Changes,
			Oldest:         j.Oldest,
			Bytes:          j.Bytes,
			GrowsPerSecond: j.GrowsPerSecond,
			LimitBytes:     j.LimitBytes,
			MeasuredAt:     j.At,
			Warning:        j.Warning,
		}
	}
	return s
}

// Indexes says how the indexes of some editions are. source says how one of their sources is.
func Indexes(editions []*Fed, source func(name string) api.SourceStatus) []api.IndexStatus {
	out := []api.IndexStatus{}
	for _, p := range pairs(editions) {
		var sources []api.SourceStatus
		for _, name := range p.shown().Edition.Record.Shape.Sources() {
			sources = append(sources, source(name))
		}
		out = append(out, index(p, sources, time.Now()))
	}
	return out
}

type pair struct {
	live, filling *Fed
	previous      *Fed // the newest that answered before
}

// shown is the edition whose numbers are those of the index.
func (p *pair) shown() *Fed {
	switch {
	case p.live != nil:
		return p.live
	case p.filling != nil:
		return p.filling
	}
	return p.previous
}

// pairs brings together, index by index, the edition that answers and the one that
// is being filled.
func pairs(editions []*Fed) []pair {
	byIndex := map[string]*pair{}
	var names []string
	for _, e := range editions {
		name := e.Edition.Record.Index
		p := byIndex[name]
		if p == nil {
			p = &pair{}
			byIndex[name] = p
			names = append(names, name)
		}
		switch state, _ := e.Fill.State(); state {
		case reindex.Switched:
			p.live = e
		case reindex.Previous:
			p.previous = e
		default:
			p.filling = e
		}
	}
	sort.Strings(names)
	out := make([]pair, len(names))
	for i, name := range names {
		out[i] = *byIndex[name]
	}
	return out
}

func pace(p reindex.Pace) api.Pace {
	out := api.Pace{Documents: p.Documents, Bytes: p.Bytes, Workers: p.Workers}
	if p.Hours != nil {
		out.Hours = p.Hours.String()
	}
	return out
}

func percentiles(p stats.Percentiles) api.Percentiles {
	return api.Percentiles{Changes: p.Changes, P50: p.P50, P95: p.P95, P99: p.P99}
}

func age(oldest, now time.Time) float64 {
	if oldest.IsZero() {
		return 0
	}
	return max(0, float64(now.Sub(oldest))/float64(time.Millisecond))
}

func index(p pair, sources []api.SourceStatus, now time.Time) api.IndexStatus {
	shown := p.shown()
	e := shown.Edition
	st := &e.Stats
	s := api.IndexStatus{
		Name:       e.Record.Index,
		Source:     e.Record.Shape.Source,
		Engine:     e.Record.Engine,
		Edition:    e.Record.Name(),
		Definition: e.Record.Definition,
		Live:       p.live != nil,
		Failed: int64(
			e.Failed(),
		),
		Waiting:   e.Waiting(),
		Lag:       percentiles(st.Lag.Percentiles()),
		Trouble:   Trouble(e.Trouble.Get()),
		Built:     st.Built.Total(),
		Unchanged: st.Unchanged.Total(),
		Refused:   st.Refused.Total(),
		LagMS:     age(shown.Oldest(), now),
		Sources:   e.Record.Shape.Sources(),
		ReadAt:    readAt(sources),
	}
	s.LagTotals = &api.LagTotals{}
	s.LagTotals.Counts, s.LagTotals.Seconds = st.Lag.Totals()
	if r := e.Rebuilding(); r != nil {
		s.Rebuild = &api.Rebuild{
			Rows:      r.Rows,
			Expected:  r.Expected,
			PerSecond: math.Round(r.PerSecond),
			LeftMS:    r.Left.Milliseconds(),
			Since:     r.Since,
			Paused:    r.Paused,
		}
	}
	var at time.Time
	if s.Rows, at = st.Rows.Get(); s.Rows != nil {
		s.CountedAt = &at
	}
	var counted time.Time
	if s.Documents, counted = st.Documents.Get(); s.Documents != nil {
		s.DocumentsCountedAt = &counted
	}
	s.Delivered, s.PerSecond, s.Minute = st.Delivered.Read()
	if p.filling != nil {
		state, progress := p.filling.Fill.State()
		of := &p.filling.Edition.Stats
		f := &api.FillStatus{
			Edition:    p.filling.Edition.Record.Name(),
			State:      string(state),
			Definition: p.filling.Edition.Record.Definition,
			Rows:       progress.Rows,
			Resumed:    progress.Resumed,
			Expected:   max(progress.Expected, progress.Rows), // more may have come since they were counted
			Bytes:      progress.Bytes,
			Dropped:    progress.Dropped,
			Began:      progress.Began,
			PerSecond:  progress.Rate(),
			LeftMS:     progress.Left().Milliseconds(),
			Delivered:  of.Delivered.Total(),
			Unchanged:  of.Unchanged.Total(),
			Requests:   of.Requests.Total(),
			Failed:     int64(p.filling.Edition.Failed()),
		}
		_, _, f.Minute = of.Delivered.Read()
		if state == reindex.Filling {
			f.Helpers = progress.Helpers
			course, chunks := p.filling.Fill.Course()
			for _, x := range course {
				f.Course = append(f.Course, api.FillPoint{AfterMS: x.After.Milliseconds(), PerSecond: math.Round(x.Rate)})
			}
			for _, x := range chunks {
				f.Chunks = append(f.Chunks, api.FillChunks{Rows: x.Rows, State: string(x.State)})
			}
		}
		waits := p.filling.Fill.Waits()
		f.Waits, f.Halted, f.ByHand, f.Paused, f.Pace = waits.Why, waits.Halted, waits.ByHand, waits.Paused, pace(
			waits.Now,
		)
		if f.Halted || state != reindex.Filling { // the duration is unknown
			f.PerSecond, f.LeftMS = 0, 0
		}
		for _, g := range p.filling.Fill.Gates() {
			f.Gates = append(f.Gates, api.Gate(g))
		}
		s.Fill = f
		if s.Trouble == nil {
			s.Trouble = Trouble(p.filling.Edition.Trouble.Get())
		}
	}
	if p.previous != nil && p.previous != shown {
		s.Previous = p.previous.Edition.Record.Name()
	}
	for i := 0; s.Trouble == nil && i < len(sources); i++ {
		s.Trouble = sources[i].Trouble
	}
	if missed := e.Missed.Load(); missed != nil {
		s.Trouble = &api.Trouble{Since: missed.Since, Message: missed.Reason, Blocked: !missed.Refill}
		s.Unnoticed = true
	}
	if p.live != nil {
		st := shown.Checker.Status()
		rows := int64(0)
		if s.Rows != nil {
			rows = *s.Rows
		}
		s.Drift = Drift(&st.Coverage, st.Kinds, st.Causes, rows, now)
		if !st.Since.IsZero() {
			s.Drift.Since = &st.Since
		}
		s.Drift.ApartSince = e.Stats.Apart.Load()
	}
	Describe(&s, now)
	return s
}

// readAt is since when the changes of all sources are known to have been read; nil when those of one
// never were.
func readAt(sources []api.SourceStatus) (at *time.Time) {
	for _, s := range sources {
		if s.ReadAt == nil {
			return nil
		}
		if at == nil || s.ReadAt.Before(*at) {
			at = s.ReadAt
		}
	}
	return at
}

// Unknown is an index of the definition that no process has told of, since then if known.
func Unknown(name string, sources []string, engine string, since, now time.Time) api.IndexStatus {
	if since.IsZero() || since.After(now) {
		since = now
	}
	s := api.IndexStatus{
		Name:    name,
		Source:  sources[0],
		Sources: sources,
		Engine:  engine,
		Minute:  []int64{},
		Trouble: &api.Trouble{Since: since, Message: "no process has begun to feed it"},
	}
	Describe(&s, now)
	return s
}

// Describe puts into a state and a sentence how an index is.
func Describe(s *api.IndexStatus, now time.Time) {
	lasts := ""
	if s.Trouble != nil {
		lasts = span(now.Sub(s.Trouble.Since))
	}
	switch {
	case s.Unnoticed && s.Trouble.Blocked && strings.HasSuffix(s.Trouble.Message, source.AskOwner):
		s.State, s.Sentence = api.StateBlocked, fmt.Sprintf("Out of sync for %s: %s. Pingo then refills the index.", lasts, s.Trouble.Message)
	case s.Unnoticed && s.Trouble.Blocked:
		s.State, s.Sentence = api.StateBlocked, fmt.Sprintf(
			"Out of sync for %s: %s. Run pingo apply to reinstall capture and refill the index.",
			lasts,
			s.Trouble.Message,
		)
	case s.Unnoticed:
		s.State, s.Sentence = api.StateWaiting, fmt.Sprintf(
			"Out of sync for %s: %s. Pingo is filling another edition to replace it.",
			lasts,
			s.Trouble.Message,
		)
		if s.Fill != nil {
			s.State = api.StateFilling
		}
	case s.Trouble != nil && s.Trouble.Blocked:
		s.State, s.Sentence = api.StateBlocked, fmt.Sprintf(
			"Blocked for %s: %s. Nothing is lost. Pingo continues when this is fixed.",
			lasts,
			s.Trouble.Message,
		)
	case s.Trouble != nil:
		s.State, s.Sentence = api.StateWaiting, fmt.Sprintf(
			"Waiting for %s: %s. Nothing is lost. Pingo keeps trying.",
			lasts,
			s.Trouble.Message,
		)
	case s.Fill != nil:
		s.State, s.Sentence = api.StateFilling, fillSentence(s)
		if s.Fill.State == api.FillReady && s.Fill.ByHand {
			s.State = api.StateWaiting // for a person
		}
	case s.ReadAt == nil:
		s.State = api.StateCatchingUp
		s.Sentence = "The process that feeds this index has just started and is reading pending changes."
	case now.Sub(*s.ReadAt) > unreadAfter:
		s.State = api.StateCatchingUp
		s.Sentence = fmt.Sprintf(
			"Pingo last read changes %s ago. Later changes are not known yet.",
			span(now.Sub(*s.ReadAt)),
		)
	default:
		inSync(s, now)
	}
}

// inSync describes an index that nothing keeps from being in sync.
func inSync(s *api.IndexStatus, now time.Time) {
	lag := time.Duration(s.LagMS * float64(time.Millisecond))
	s.State, s.Sentence = api.StateInSync, "The engine has every change that Pingo has read so far"+exceptFailed(s.Failed)
	if lag > 0 {
		s.Sentence = "The engine has every change that Pingo has read, except those of the last " + span(
			lag,
		) + exceptFailed(
			s.Failed,
		)
	}
	d := s.Drift
	switch {
	case lag > max(usualLag, min(mostLag, time.Duration(s.Lag.P99*float64(time.Millisecond)))):
		s.State = api.StateCatchingUp
		s.Sentence = fmt.Sprintf(
			"Behind by %s: %s waiting to be delivered%s%s",
			span(lag),
			Count(int64(s.Waiting), "document is", "documents are"),
			timeLeft(s),
			exceptFailed(s.Failed),
		)
		if r := s.Rebuild; r != nil {
			done, left := humanize.Comma(r.Rows), ""
			if r.Expected > 0 {
				done += " of about " + humanize.Comma(r.Expected)
			}
			if r.LeftMS > 0 {
				left = ", " + span(time.Duration(r.LeftMS)*time.Millisecond) + " left"
			}
			s.Sentence = fmt.Sprintf("Behind by %s. A change affects most documents: %s rebuilt%s%s",
				span(lag), done, left, exceptFailed(s.Failed))
			if r.Paused {
				s.Sentence = fmt.Sprintf(
					"Behind by %s. A change of most documents is paused at %s. Run pingo reindex resume %s to continue%s",
					span(lag), done, s.Name, exceptFailed(s.Failed))
			}
		}
	case d != nil && d.Differing > 0:
		kinds := map[drift.Kind]int64{}
		for k, n := range d.Kinds {
			kinds[drift.Kind(k)] = n
		}
		s.State = api.StateDiffers
		s.Sentence = fmt.Sprintf(
			"%s not match the database: %s. pingo drift show %s lists the causes; pingo repair %s fixes them.",
			Count(d.Differing, "document does", "documents do"), drift.Summary(kinds), s.Name, s.Name)
	case d != nil && d.ApartSince != nil && (d.CheckedAt == nil || d.CheckedAt.Before(*d.ApartSince)):
		// Otherwise a check has looked since: there is a reason, such as rows that share a document.
		s.State = api.StateDiffers
		s.Sentence = fmt.Sprintf(
			"The engine has %s for %s for %s, and no change is pending. A comparison is looking for the difference.",
			Count(
				deref(s.Documents),
				"document",
				"documents",
			),
			Count(deref(s.Rows), "row", "rows"),
			span(now.Sub(*d.ApartSince)),
		)
	case countsDiffer(s):
		s.Recounting = true
		s.Sentence += fmt.Sprintf(" Pingo counted the rows %s ago and the documents %s ago, and is counting both again.",
			span(now.Sub(*s.CountedAt)), span(now.Sub(*s.DocumentsCountedAt)))
	}
}

// countsDiffer reports whether the counts of rows and documents differ for no known reason: a failed document may be missing,
// and a check finds other reasons.
func countsDiffer(s *api.IndexStatus) bool {
	if s.CountedAt == nil || s.DocumentsCountedAt == nil || s.Drift != nil && s.Drift.ApartSince != nil {
		return false
	}
	missing := *s.Rows - *s.Documents
	return missing < 0 || missing > s.Failed
}

func deref(n *int64) int64 {
	if n == nil {
		return 0
	}
	return *n
}

func exceptFailed(n int64) string {
	if n == 0 {
		return "."
	}
	return fmt.Sprintf(", except %s.", Count(n, "failed document", "failed documents"))
}

func fillSentence(s *api.IndexStatus) string {
	f := s.Fill
	lead := "No edition is live yet. "
	if s.Live {
		lead = fmt.Sprintf("%s is live. ", s.Edition)
	}
	switch f.State {
	case api.FillPreparing:
		return lead + f.Edition + " is being prepared."
	case api.FillCatchingUp:
		return lead + f.Edition + " is filled and is catching up with recent changes."
	case api.FillChecking:
		return lead + f.Edition + " is filled. Pingo is checking its gates."
	case api.FillReturning:
		return lead + f.Edition + " is about to become live again."
	case api.FillReady:
		stopped := f.Stopped()
		if !f.ByHand {
			return lead + f.Edition + " is ready and is about to become live."
		}
		if len(stopped) == 0 {
			return fmt.Sprintf(
				"%s%s is complete. Your decision is needed: run pingo reindex switch %s, or cancel it.",
				lead,
				f.Edition,
				s.Name,
			)
		}
		why := make([]string, len(stopped))
		for i, g := range stopped {
			why[i] = g.Sentence
		}
		return fmt.Sprintf(
			"%s%s is complete but failed a gate: %s. Your decision is needed: fix the failures, run pingo reindex switch %s, or cancel it.",
			lead,
			f.Edition,
			strings.Join(why, "; "),
			s.Name,
		)
	}
	left := ""
	if f.LeftMS > 0 {
		left = ", " + span(time.Duration(f.LeftMS)*time.Millisecond) + " left"
	}
	if f.Waits != "" {
		left = "; " + f.Waits
	}
	return fmt.Sprintf(
		"%s%s is being filled: %s of %s rows%s.",
		lead,
		f.Edition,
		humanize.Comma(f.Rows),
		humanize.Comma(f.Expected),
		left,
	)
}

// Overall puts into a state and a sentence how everything is. ready says that the process
// has read which definition is in force.
func Overall(s *api.Status, ready bool) {
	s.State = api.StateBlocked
	if s.Trouble != nil {
		s.Sentence = fmt.Sprintf("Pingo is not working: %s.", s.Trouble.Message)
		return
	}
	if !ready {
		s.State, s.Sentence = api.StateWaiting, "This process has just started and is reading the definition."
		return
	}
	if len(s.Indexes) == 0 {
		s.State, s.Sentence = api.StateEmpty, "There is no index yet. Write a definition and run pingo apply."
		return
	}
	worst, named := 0, map[int][]string{}
	var failed int64
	for _, ix := range s.Indexes {
		for b, state := range api.States {
			if ix.State == state {
				named[b] = append(named[b], ix.Name)
				worst = max(worst, b)
			}
		}
		failed += ix.Failed
	}
	s.State = api.States[worst]
	if s.State == api.StateInSync {
		s.Sentence = fmt.Sprintf(
			"All %d indexes are in sync: the engines have every change that Pingo has read so far%s",
			len(s.Indexes),
			exceptFailed(failed),
		)
		if len(s.Indexes) == 1 {
			s.Sentence = fmt.Sprintf(
				"%s is in sync: the engine has every change that Pingo has read so far%s",
				s.Indexes[0].Name,
				exceptFailed(failed),
			)
		}
		return
	}
	if s.State == api.StateDiffers {
		s.Sentence = differs(s.Indexes, named[worst])
		return
	}
	what := map[string]string{api.StateCatchingUp: "catching up", api.StateFilling: "being filled", api.StateWaiting: "waiting", api.StateBlocked: "blocked and needs you"}[s.State]
	is := "is"
	if len(named[worst]) > 1 {
		is, what = "are", strings.Replace(what, "needs you", "need you", 1)
	}
	s.Sentence = fmt.Sprintf("%s %s %s.", strings.Join(named[worst], ", "), is, what)
}

// timeLeft says at which rate the documents that wait are delivered, and how long the rest takes, unless that is a moment.
func timeLeft(s *api.IndexStatus) string {
	if s.PerSecond < 1 {
		return ""
	}
	left := time.Duration(float64(s.Waiting) / s.PerSecond * float64(time.Second))
	if left < 2*time.Second {
		return ""
	}
	return fmt.Sprintf(" at %s a second, about %s left", humanize.Comma(int64(s.PerSecond)), span(left))
}

// differs says of which indexes documents differ, and how many.
func differs(all []api.IndexStatus, names []string) string {
	var n int64
	for _, ix := range all {
		if ix.Drift != nil && slices.Contains(names, ix.Name) {
			n += ix.Drift.Differing
		}
	}
	if n == 0 {
		return fmt.Sprintf("The counts of rows and documents of %s do not fit.", strings.Join(names, ", "))
	}
	of := " of " + strings.Join(names, ", ")
	return Count(n, "document"+of+" is", "documents"+of+" are") + " not what their rows make."
}

// Count is a number with what it counts, as people write it.
func Count(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return humanize.Comma(n) + " " + many
}

// span rounds a duration to what a person reads.
func span(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
}
