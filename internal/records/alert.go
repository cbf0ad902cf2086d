package records

import (
	"context"
	"time"
)

// Alert is a limit that an index has passed, or no longer passes while that has not been sent.
type Alert struct {
	Index    string    `db:"index_name"`
	About    string    `db:"about"`
	Raised   bool      `db:"raised"`
	Sentence string    `db:"sentence"`
	Since    time.Time `db:"since"`
}

const alertColumns = "index_name, about, raised, sentence, since"

// RaisedAlerts lists the alerts that are raised, whichever process raised them.
func (r *Records) RaisedAlerts(ctx context.Context) ([]Alert, error) {
	var out []Alert
	return out, r.reads.SelectContext(ctx, &out, "SELECT "+alertColumns+" FROM alert WHERE raised ORDER BY index_name, about")
}

// SaveAlert records that an alert is raised or over. It reports whether that is news: then the process is the one to send it.
func (r *Records) SaveAlert(ctx context.Context, process string, a Alert) (news bool, err error) {
	statement := `INSERT INTO alert AS a (index_name, about, raised, sentence, since, sender) VALUES ($1, $2, true, $3, $4, $5)
		ON CONFLICT (index_name, about) DO UPDATE SET raised = true, sentence = $3, since = $4, sender = $5, sent = false WHERE NOT a.raised`
	if !a.Raised {
		statement = "UPDATE alert SET raised = false, sentence = $3, since = $4, sender = $5, sent = false WHERE index_name = $1 AND about = $2 AND raised"
	}
	n, err := changed(r.db.ExecContext(ctx, statement, a.Index, a.About, a.Sentence, a.Since, process))
	return n > 0, err
}

// AlertSent records that an alert was sent, or that its end was, which ends its record.
func (r *Records) AlertSent(ctx context.Context, a Alert) error {
	statement := "UPDATE alert SET sent = true WHERE index_name = $1 AND about = $2 AND raised AND since = $3"
	if !a.Raised {
		statement = "DELETE FROM alert WHERE index_name = $1 AND about = $2 AND NOT raised AND since = $3"
	}
	_, err := r.db.ExecContext(ctx, statement, a.Index, a.About, a.Since)
	return err
}

// TakeOverAlerts lists alerts that another process had to send when it ended; from now on the process has to.
func (r *Records) TakeOverAlerts(ctx context.Context, process string) ([]Alert, error) {
	var out []Alert
	return out, r.db.SelectContext(ctx, &out,
		"UPDATE alert SET sender = $1 WHERE NOT sent AND sender <> $1 AND sender NOT IN (SELECT id FROM process WHERE gone_at IS NULL) RETURNING "+alertColumns, process)
}
