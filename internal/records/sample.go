package records

import (
	"context"
	"encoding/json"
	"strings"
	"time"
)

// Sample is how an index was over a step of time.
type Sample struct {
	Index string `json:"index"`
	Body  any    `json:"body"`
}

// Step is how far apart points are, and for how long they are kept.
type Step struct{ Every, Kept time.Duration }

// Steps lists the finest first. Each is kept for as long as the next one is not fine enough to look at.
var Steps = []Step{
	{10 * time.Second, time.Hour},
	{time.Minute, 24 * time.Hour},
	{15 * time.Minute, 31 * 24 * time.Hour},
}

// SaveSamples stores the samples of all indexes for a step, in one statement, and deletes those that are too old.
func (r *Records) SaveSamples(ctx context.Context, step Step, at time.Time, samples []Sample) error {
	list, err := json.Marshal(samples)
	if err != nil {
		return err
	}
	_, err = r.db.ExecContext(ctx, `
		WITH old AS (DELETE FROM sample WHERE step = $1 AND at < $2::timestamptz - $3::interval)
		INSERT INTO sample (index_name, step, at, body)
		SELECT s ->> 'index', $1, $2, s -> 'body' FROM jsonb_array_elements($4::jsonb) s ON CONFLICT DO NOTHING`,
		int(step.Every.Seconds()), at, step.Kept.String(), string(list))
	return err
}

// Samples reads what SaveSamples kept of an index since some time ago, oldest first, into a list: in the finest step that
// goes so far back.
func (r *Records) Samples(ctx context.Context, index string, since time.Duration, into any) error {
	step := Steps[0]
	for _, coarser := range Steps[1:] {
		if since > step.Kept {
			step = coarser
		}
	}
	var bodies []string
	err := r.reads.SelectContext(ctx, &bodies,
		"SELECT body FROM sample WHERE index_name = $1 AND step = $2 AND at > now() - $3::interval ORDER BY at",
		index, int(step.Every.Seconds()), since.String())
	if err != nil {
		return err
	}
	return json.Unmarshal([]byte("["+strings.Join(bodies, ",")+"]"), into)
}
