package records

import (
	"context"
	"crypto/rand"
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"pingo/internal/core/reindex"
	"pingo/internal/core/shape"
)

// Edition is one physical copy of an index.
type Edition struct {
	Index      string
	Number     int
	State      reindex.State
	Shape      *shape.Shape
	Engine     string
	Definition int
	// Expected is the count of rows when the fill began.
	Expected int64
	// PlannedTo is the key up to which chunks were planned in the tree PlannedTree;
	// Planned says that they all are.
	PlannedTree int
	PlannedTo   []string
	Planned     bool
	BeganAt     *time.Time
	FilledAt    *time.Time
	Rows        int64
	Bytes       int64
	// Birth makes its name one that no other edition ever had.
	Birth string
	// Copy names the copy of it that the engine has been given documents for; empty while it is not known.
	Copy string
	// Missed says why changes may be missing in it for good; nil when none is. Only
	// another edition puts that right.
	Missed *Missed
	// Gates are what it must come to before it is switched to, as last looked at.
	Gates []reindex.Gate
	// KeptUntil is how long an edition that answered is kept, so that it can again; nil for others.
	KeptUntil *time.Time
	Course
	// Fence is that of the lease under which the edition is fed; what is recorded under a
	// lease that was lost is not taken. It is empty for a person, who needs no lease.
	Fence string
}

// Name is the edition's name in the engine.
func (e *Edition) Name() string {
	if e.Birth == "" { // it was recorded before there were birth marks
		return fmt.Sprintf("%s-e%d", e.Index, e.Number)
	}
	return fmt.Sprintf("%s-e%d-%s", e.Index, e.Number, e.Birth)
}

// Course is what people say of how an edition is filled.
type Course struct {
	// Paused: no more of it is filled.
	Paused bool `db:"paused"`
	// Pace is nil where the definition's holds.
	Pace *Pace `db:"pace"`
	// BeginsAt is from when on it is filled; nil is immediately.
	BeginsAt *time.Time `db:"begins_at"`
	// TakesOver: an index of the public name that Pingo did not make may go.
	TakesOver bool `db:"takes_over"`
}

// Pace is a reindex.Pace as the database has it.
type Pace reindex.Pace

// Scan reads what the database has.
func (p *Pace) Scan(value any) error { return scanJSON(value, p) }

// Value is what the database gets.
func (p *Pace) Value() (driver.Value, error) {
	if p == nil {
		return nil, nil
	}
	b, err := json.Marshal(p)
	return string(b), err
}

// Missed says that an edition may lack changes.
type Missed struct {
	Reason string
	Since  time.Time
	// Refill: another edition is begun without being asked for.
	Refill bool
}

type editionRow struct {
	Index      string     `db:"index_name"`
	Number     int        `db:"number"`
	State      string     `db:"state"`
	Shape      []byte     `db:"shape"`
	Engine     string     `db:"engine"`
	Definition int        `db:"definition"`
	Expected   int64      `db:"expected_rows"`
	Tree       int        `db:"planned_tree"`
	PlannedTo  []byte     `db:"planned_to"`
	Planned    bool       `db:"planned"`
	BeganAt    *time.Time `db:"began_at"`
	FilledAt   *time.Time `db:"filled_at"`
	Rows       int64      `db:"rows"`
	Bytes      int64      `db:"bytes"`
	Birth      string     `db:"birth"`
	Copy       string     `db:"copy"`
	Gates      []byte     `db:"gates"`
	KeptUntil  *time.Time `db:"kept_until"`
	Course
	missed
}

// EditionState is how far an edition is.
type EditionState struct {
	Index  string        `db:"index_name"`
	Number int           `db:"number"`
	State  reindex.State `db:"state"`
	Engine string        `db:"engine"`
	Source string        `db:"source"`
	// Others are sources that its documents are made from, too.
	Others Names `db:"others"`
	// Expired: it has answered before, and need not be kept any longer, or may not answer again, since it lacks changes.
	Expired bool `db:"expired"`
	// Ordered: a check or a repair of it was asked for.
	Ordered bool `db:"ordered"`
	// Owed: there are keys in its backlog.
	Owed bool `db:"owed"`
	// Offered: any process may fill some of its chunks.
	Offered bool `db:"offered"`
	Course
	missed
}

// Sources are all that its documents are made from, that which it is fed by first.
func (e *EditionState) Sources() []string { return append([]string{e.Source}, e.Others...) }

// Names are a list of JSON strings in the database.
type Names []string

// Scan reads what the database has.
func (n *Names) Scan(value any) error { return scanJSON(value, n) }

func scanJSON(value, into any) error {
	switch text := value.(type) {
	case []byte:
		return json.Unmarshal(text, into)
	case string:
		return json.Unmarshal([]byte(text), into)
	}
	return fmt.Errorf("JSON as %T", value)
}

// missed is Missed as the database has it.
type missed struct {
	Reason *string    `db:"missed"`
	At     *time.Time `db:"missed_at"`
	Refill bool       `db:"refill"`
}

// Missed says why changes may be missing in it; nil when none is.
func (m *missed) Missed() *Missed {
	if m.Reason == nil || m.At == nil {
		return nil
	}
	return &Missed{Reason: *m.Reason, Since: *m.At, Refill: m.Refill}
}

// EditionStates lists all editions, oldest first, without their shapes.
func (r *Records) EditionStates(ctx context.Context) ([]EditionState, error) {
	var out []EditionState
	err := r.reads.SelectContext(
		ctx,
		&out,
		`SELECT index_name, number, state, engine, source, missed, missed_at, refill,
		paused, pace, begins_at, takes_over, state IN ('previous', 'returning') AND missed IS NOT NULL OR state = 'previous' AND kept_until < now() AS expired,
		EXISTS (SELECT FROM drift_order o WHERE o.index_name = edition.index_name AND o.number = edition.number AND o.ended_at IS NULL) AS ordered,
		EXISTS (SELECT FROM backlog b WHERE b.index_name = edition.index_name AND b.number = edition.number) AS owed,
		EXISTS (SELECT FROM chunk c WHERE c.index_name = edition.index_name AND c.number = edition.number AND c.offered IS NOT NULL AND c.process IS NULL) AS offered,
		(SELECT coalesce(jsonb_agg(DISTINCT name), '[]') FROM jsonb_array_elements(others) name) AS others
		FROM edition ORDER BY index_name, number`,
	)
	return out, err
}

// Editions lists all editions, oldest first.
func (r *Records) Editions(ctx context.Context) ([]*Edition, error) {
	var rows []editionRow
	err := r.reads.SelectContext(
		ctx,
		&rows,
		`SELECT index_name, number, state, shape, engine, definition, expected_rows,
		planned_tree, array_to_json(planned_to) AS planned_to, planned, began_at, filled_at, rows, bytes, birth, copy, gates,
		kept_until, paused, pace, begins_at, takes_over, missed, missed_at, refill FROM edition ORDER BY index_name, number`,
	)
	if err != nil {
		return nil, err
	}
	out := make([]*Edition, len(rows))
	for i, row := range rows {
		e := &Edition{
			Index:       row.Index,
			Number:      row.Number,
			State:       reindex.State(row.State),
			Shape:       &shape.Shape{},
			Engine:      row.Engine,
			Definition:  row.Definition,
			Expected:    row.Expected,
			PlannedTree: row.Tree,
			Planned:     row.Planned,
			BeganAt:     row.BeganAt,
			FilledAt:    row.FilledAt,
			Rows:        row.Rows,
			Bytes:       row.Bytes,
			Birth:       row.Birth,
			Copy:        row.Copy,
			Missed:      row.Missed(),
			KeptUntil:   row.KeptUntil,
			Course:      row.Course,
		}
		if err := json.Unmarshal(row.Shape, e.Shape); err != nil {
			return nil, fmt.Errorf("the stored shape of %s: %w", e.Name(), err)
		}
		if err := json.Unmarshal(row.Gates, &e.Gates); err != nil {
			return nil, fmt.Errorf("the stored gates of %s: %w", e.Name(), err)
		}
		if err := readBound(row.PlannedTo, &e.PlannedTo); err != nil {
			return nil, err
		}
		out[i] = e
	}
	return out, nil
}

// NewEdition records the next edition of an index before anything is made of it.
func (r *Records) NewEdition(
	ctx context.Context,
	s *shape.Shape,
	engine string,
	version int,
	course Course,
) (*Edition, error) {
	b, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	e := &Edition{
		Index:      s.Index,
		State:      reindex.Preparing,
		Shape:      s,
		Engine:     engine,
		Definition: version,
		Birth:      strings.ToLower(rand.Text()[:6]),
		Course:     course,
	}
	err = r.db.GetContext(
		ctx,
		&e.Number,
		`
		WITH next AS (INSERT INTO numbered AS n VALUES ($1, 1) ON CONFLICT (index_name) DO UPDATE SET number = n.number + 1 RETURNING number)
		INSERT INTO edition (index_name, number, state, shape, engine, definition, birth, paused, pace, begins_at, takes_over)
		SELECT $1, number, $2, $3, $4, $5, $6, $7, $8, $9, $10 FROM next RETURNING number`,
		s.Index,
		string(e.State),
		string(b),
		engine,
		version,
		e.Birth,
		course.Paused,
		course.Pace,
		course.BeginsAt,
		course.TakesOver,
	)
	return e, err
}

// SaveEdition records an edition's step and progress, unless it was cancelled.
func (r *Records) SaveEdition(ctx context.Context, e *Edition) error {
	gates, err := json.Marshal(slices.Concat([]reindex.Gate{}, e.Gates))
	if err != nil {
		return err
	}
	return r.mustChange(
		ctx,
		`WITH saved AS (UPDATE edition SET state = $5, expected_rows = $6, began_at = $7, filled_at = $8, planned = $9, gates = $10, copy = $11
			WHERE index_name = $3 AND number = $4 AND state <> 'cancelled' AND `+held+` RETURNING index_name, number, state)
		INSERT INTO edition_event (index_name, number, what) SELECT index_name, number, state FROM saved`,
		e,
		string(e.State),
		e.Expected,
		e.BeganAt,
		e.FilledAt,
		e.Planned,
		string(gates),
		e.Copy,
	)
}

// SaveCopy records which copy of an edition the engine holds.
func (r *Records) SaveCopy(ctx context.Context, e *Edition, copy string) error {
	return r.mustChange(ctx, "UPDATE edition SET copy = $5 WHERE index_name = $3 AND number = $4 AND "+held, e, copy)
}

// SaveShape records a shape that differs only in what an edition takes up in place.
func (r *Records) SaveShape(ctx context.Context, e *Edition) error {
	b, err := json.Marshal(e.Shape)
	if err != nil {
		return err
	}
	_, err = r.db.ExecContext(
		ctx,
		"UPDATE edition SET shape = $3 WHERE index_name = $1 AND number = $2",
		e.Index,
		e.Number,
		string(b),
	)
	return err
}
