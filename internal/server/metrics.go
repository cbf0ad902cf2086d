package server

import (
	"slices"

	"github.com/prometheus/client_golang/prometheus"

	"pingo/internal/api"
	"pingo/internal/core/stats"
	"pingo/internal/flow"
)

// newReceived counts the outcomes of the events that senders send to this process.
func newReceived() *prometheus.CounterVec {
	return prometheus.NewCounterVec(prometheus.CounterOpts{
		Name: "pingo_source_events_total",
		Help: "Events that this process received, by outcome.",
	}, []string{"source", "outcome"})
}

// exporter tells Prometheus what the status tells people.
type exporter struct{ flow *flow.Service }

func metric(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("pingo_"+name, help, labels, nil)
}

var (
	rowsMetric = metric(
		"index_rows",
		"Rows in the source that have documents, when last counted.",
		"index",
		"source",
		"engine",
	)
	documentsMetric = metric(
		"index_documents",
		"Documents that searches find, when last counted.",
		"index",
		"source",
		"engine",
	)
	failedMetric    = metric("index_failed_documents", "Failed documents now.", "index", "source", "engine")
	differingMetric = metric(
		"index_differing_documents",
		"Documents that are known not to be what their rows make.",
		"index",
		"source",
		"engine",
	)
	provenMetric = metric(
		"index_proven_share",
		"Share of the rows whose documents were found to be what the rows make within the last day, from 0 to 1.",
		"index",
		"source",
		"engine",
	)
	waitingMetric = metric(
		"index_waiting_documents",
		"Documents that wait to be delivered.",
		"index",
		"source",
		"engine",
	)
	rebuildMetric = metric(
		"index_rebuild_rows",
		"Rows of a change of most documents: of all that it is about, those that are done.",
		"index",
		"source",
		"engine",
		"of",
	)
	deliveredMetric = metric(
		"index_delivered_documents_total",
		"Documents that the engine acknowledged since this process began.",
		"index",
		"source",
		"engine",
	)
	lagMetric = metric(
		"index_lag_seconds",
		"Age of the oldest change that is not acknowledged, 0 when there is none.",
		"index",
		"source",
		"engine",
	)
	recentMetric = metric(
		"index_recent_lag_seconds",
		"Lag of the most recent changes by percentile.",
		"index",
		"source",
		"engine",
		"percentile",
	)
	lagsMetric = metric(
		"index_change_lag_seconds",
		"Changes by their lag, from the commit in the source to the engine's acknowledgement.",
		"index",
		"source",
		"engine",
	)
	troubleMetric = metric(
		"index_trouble",
		"1 while the index waits for something, by kind.",
		"index",
		"source",
		"engine",
		"kind",
	)
	builtMetric = metric(
		"index_built_documents_total",
		"Documents made of rows, or found to be gone, since the process began to feed the index.",
		"index",
		"source",
		"engine",
	)
	unchangedMetric = metric(
		"index_unchanged_documents_total",
		"Built documents not sent because the engine has them already.",
		"index",
		"source",
		"engine",
	)
	refusedMetric = metric(
		"index_refused_documents_total",
		"Answers of the engine that refused a document.",
		"index",
		"source",
		"engine",
	)
	liveMetric = metric(
		"index_live",
		"1 while the public name answers from a complete edition.",
		"index",
		"source",
		"engine",
	)
	downMetric = metric(
		"engine_down",
		"1 while the engine does not answer deliveries of this process.",
		"engine",
	)
	allowedMetric = metric(
		"engine_requests_allowed",
		"Maximum number of concurrent requests; lower while the engine is busy.",
		"engine",
	)
	depthMetric  = metric("source_journal_changes", "Changes in the journal.", "source")
	oldestMetric = metric(
		"source_journal_oldest_seconds",
		"Age of the oldest change in the journal, 0 when there is none.",
		"source",
	)
	sizeMetric  = metric("source_journal_bytes", "Size of the journal.", "source")
	limitMetric = metric(
		"source_journal_limit_bytes",
		"Size above which the journal is too large.",
		"source",
	)
	unfedMetric    = metric("source_unfed", "1 while no process feeds the indexes of the source.", "source")
	noticedMetric  = metric("source_changes_total", "Changes noticed since this process began.", "source")
	inFlightMetric = metric(
		"source_changes_in_flight",
		"Changes read from the journal that are not done.",
		"source",
	)
)

func (x *exporter) Describe(c chan<- *prometheus.Desc) { prometheus.DescribeByCollect(x, c) }

func (x *exporter) Collect(c chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		c <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	counter := func(d *prometheus.Desc, v int64, labels ...string) {
		c <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, float64(v), labels...)
	}
	status := x.flow.Status()
	for _, ix := range status.Indexes {
		// With these labels everything can be summed by source and by engine.
		labels := func(more ...string) []string { return append([]string{ix.Name, ix.Source, ix.Engine}, more...) }
		if ix.Rows != nil {
			gauge(rowsMetric, float64(*ix.Rows), labels()...)
		}
		if ix.Documents != nil {
			gauge(documentsMetric, float64(*ix.Documents), labels()...)
		}
		gauge(failedMetric, float64(ix.Failed), labels()...)
		if ix.Drift != nil {
			gauge(differingMetric, float64(ix.Drift.Differing), labels()...)
			gauge(provenMetric, ix.Drift.Day, labels()...)
		}
		gauge(waitingMetric, float64(ix.Waiting), labels()...)
		if r := ix.Rebuild; r != nil {
			gauge(rebuildMetric, float64(r.Rows), labels("done")...)
			if r.Expected > 0 {
				gauge(rebuildMetric, float64(r.Expected), labels("expected")...)
			}
		}
		counter(deliveredMetric, ix.Delivered, labels()...)
		counter(builtMetric, ix.Built, labels()...)
		counter(unchangedMetric, ix.Unchanged, labels()...)
		counter(refusedMetric, ix.Refused, labels()...)
		gauge(liveMetric, yes(ix.Live), labels()...)
		gauge(lagMetric, ix.LagMS/1000, labels()...)
		gauge(recentMetric, ix.Lag.P50/1000, labels("50")...)
		gauge(recentMetric, ix.Lag.P95/1000, labels("95")...)
		gauge(recentMetric, ix.Lag.P99/1000, labels("99")...)
		if l := ix.LagTotals; l != nil && len(l.Counts) == len(stats.LagBounds)+1 {
			buckets, all := map[float64]uint64{}, uint64(0)
			for i, bound := range stats.LagBounds {
				all += uint64(l.Counts[i])
				buckets[bound] = all
			}
			all += uint64(l.Counts[len(stats.LagBounds)])
			c <- prometheus.MustNewConstHistogram(lagsMetric, all, l.Seconds, buckets, labels()...)
		}
		for _, kind := range []string{api.StateWaiting, api.StateBlocked} {
			gauge(troubleMetric, yes(ix.State == kind), labels(kind)...)
		}
	}
	for _, src := range status.Sources {
		counter(noticedMetric, src.Noticed, src.Name)
		gauge(inFlightMetric, float64(src.InFlight), src.Name)
		fed := false
		for _, p := range status.Processes {
			fed = fed || slices.Contains(p.Sources, src.Name)
		}
		gauge(unfedMetric, yes(!fed), src.Name)
		if j := src.Journal; j != nil {
			gauge(depthMetric, float64(j.Changes), src.Name)
			gauge(sizeMetric, float64(j.Bytes), src.Name)
			gauge(limitMetric, float64(j.LimitBytes), src.Name)
			age := 0.0
			if j.Oldest != nil {
				age = max(0, status.At.Sub(*j.Oldest).Seconds())
			}
			gauge(oldestMetric, age, src.Name)
		}
	}
	for _, eng := range status.Engines {
		gauge(downMetric, yes(eng.Trouble != nil), eng.Name)
		gauge(allowedMetric, float64(eng.RequestsAllowed), eng.Name)
	}
}

func yes(b bool) float64 {
	if b {
		return 1
	}
	return 0
}
