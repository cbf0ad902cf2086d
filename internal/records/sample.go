package records

import (
	"context"
	"encoding/json"
	"strings"
	"time"
)

const samplesKept = 24 * time.Hour

// SaveSample keeps how an index was, and forgets what is older than a day.
func (r *Records) SaveSample(ctx context.Context, index string, at time.Time, sample any) error {
	body, err := json.Marshal(sample)
	if err != nil {
		return err
	}
	_, err = r.db.ExecContext(
		ctx,
		`WITH old AS (DELETE FROM sample WHERE index_name = $1 AND at < $2::timestamptz - $4::interval)
		INSERT INTO sample (index_name, at, body) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`,
		index,
		at,
		string(body),
		samplesKept.String(),
	)
	return err
}

// Samples reads what SaveSample kept of an index since some time ago, oldest first, into
// a list.
func (r *Records) Samples(ctx context.Context, index string, since time.Duration, into any) error {
	var bodies []string
	if err := r.db.SelectContext(ctx, &bodies, "SELECT body FROM sample WHERE index_name = $1 AND at > now() - $2::interval ORDER BY at", index, since.String()); err != nil {
		return err
	}
	return json.Unmarshal([]byte("["+strings.Join(bodies, ",")+"]"), into)
}
