package postgres

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/core/change"
	"pingo/internal/core/shape"
	"pingo/internal/lab/pgtest"
	"pingo/internal/source"
	"pingo/internal/source/journal"
)

// reader reads a feed as a stream does: it claims it again when it has lost its claim.
type reader struct {
	*testing.T
	src    *source.Source
	claims int64
	// open are changes that were returned under this claim and are not done.
	open map[int64]string
	seen map[string]int // by key, how often; a truncate counts for "all"
}

func newReader(t *testing.T, src *source.Source) *reader {
	r := &reader{T: t, src: src, seen: map[string]int{}}
	r.claim()
	return r
}

func (r *reader) claim() {
	r.Helper()
	r.claims++
	found, err := r.src.Claimed(r.Context())
	if err == nil {
		err = r.src.Claim(r.Context(), found, change.Claim{Service: "one", Holder: fmt.Sprint("A/", r.claims), Epoch: 1, Mark: found.Mark + 1})
	}
	if err != nil {
		r.Fatal(err)
	}
	r.src.Rewind()
	r.open = map[int64]string{}
}

func (r *reader) read() (n int) {
	r.Helper()
	changes, err := r.src.Changes(r.Context(), 1000)
	if source.FaultOf(err) == source.Superseded && err != nil {
		r.claim()
		return 1
	}
	if err != nil {
		r.Fatal(err)
	}
	for _, c := range changes {
		what := "all"
		if c.Op != change.Truncate {
			what = strings.Join(c.Key, ",")
		}
		r.open[c.Seq] = what
		r.seen[what]++
	}
	return len(changes)
}

// settle says that some of the open changes are done.
func (r *reader) settle(most int) {
	r.Helper()
	var seqs []int64
	for seq := range r.open {
		if len(seqs) < most {
			seqs = append(seqs, seq)
		}
	}
	err := r.src.Done(r.Context(), seqs)
	if source.FaultOf(err) == source.Superseded && err != nil {
		r.claim()
		return
	}
	if err != nil {
		r.Fatal(err)
	}
	for _, seq := range seqs {
		delete(r.open, seq)
	}
}

// quiet reads and settles until nothing came for a while.
func (r *reader) quiet() {
	r.Helper()
	for last := time.Now(); time.Since(last) < 3*journal.WholeEvery+300*time.Millisecond; time.Sleep(5 * time.Millisecond) {
		if r.read() > 0 {
			last = time.Now()
		}
		r.settle(1000)
	}
}

func often(t *testing.T) {
	was := journal.WholeEvery
	journal.WholeEvery = 100 * time.Millisecond
	t.Cleanup(func() { journal.WholeEvery = was })
}

func numbered(t *testing.T) (conn *pgx.Conn, url string, r *reader) {
	often(t)
	url = pgtest.URL(t)
	conn, src := pgtest.Connect(t, url), open(t, url)
	pgtest.Exec(t, conn, "CREATE TABLE huts (id int PRIMARY KEY, name text); INSERT INTO huts SELECT n, 'a' FROM generate_series(1, 300) n")
	if _, err := src.Capture.Install(t.Context(), "one", []shape.Captured{captured("huts", []string{"id"}, []string{"id", "name"}, nil)}); err != nil {
		t.Fatal(err)
	}
	return conn, url, newReader(t, src)
}

// Sequences are set back, hand out numbers in blocks, and stand at a number that waits, while rows are written, read and
// done: after each write that was committed, its change is read.
func TestNumbersThatGoBack(t *testing.T) {
	conn, url, r := numbered(t)
	var writers []*pgx.Conn
	for range 4 {
		writers = append(writers, pgtest.Connect(t, url))
	}
	rng := rand.New(rand.NewPCG(7, 11))
	due := map[int]int{} // how often the change of a row had been read when it was last written
	write := func(c *pgx.Conn) {
		id := 1 + rng.IntN(300)
		pgtest.Exec(t, c, fmt.Sprintf("UPDATE huts SET name = name || 'b' WHERE id = %d", id))
		due[id] = r.seen[fmt.Sprint(id)] + r.seen["all"]
	}
	resets := []string{
		"SELECT setval('pingo_capture.journal_seq', 1, false)",
		"SELECT setval('pingo_capture.journal_seq', coalesce((SELECT min(seq) FROM pingo_capture.journal), 1), false)",
		"SELECT setval('pingo_capture.journal_seq', greatest((SELECT last_value FROM pingo_capture.journal_seq) - 5, 1), false)",
		"ALTER SEQUENCE pingo_capture.journal_seq CACHE 100", "ALTER SEQUENCE pingo_capture.journal_seq CACHE 1", "ALTER SEQUENCE pingo_capture.journal_seq RESTART",
		"SELECT setval('pingo_capture.journal_seq', (1::bigint << 62) + (random() * 1000)::bigint)", // after very many years of use
	}
	late := pgtest.Connect(t, url)
	for round := range 60 {
		switch rng.IntN(5) {
		case 0:
			pgtest.Exec(t, conn, resets[rng.IntN(len(resets))])
		case 1:
			r.read()
			r.settle(rng.IntN(5))
		case 2: // one that commits later
			id := 301 + round
			pgtest.Exec(t, late, fmt.Sprintf("BEGIN; INSERT INTO huts VALUES (%d, 'late')", id))
			write(writers[0])
			pgtest.Exec(t, conn, resets[rng.IntN(3)])
			write(writers[1])
			r.read()
			pgtest.Exec(t, late, "COMMIT")
			due[id] = r.seen[fmt.Sprint(id)] + r.seen["all"]
		}
		for range rng.IntN(6) {
			write(writers[rng.IntN(len(writers))])
		}
	}
	r.quiet()
	for id, before := range due {
		if now := r.seen[fmt.Sprint(id)] + r.seen["all"]; now <= before {
			t.Errorf("the last change of row %d was not read", id)
		}
	}
	if left := text(t, conn, "SELECT count(*) FROM pingo_capture.journal"); left != "0" {
		t.Errorf("%s rows are left in the journal", left)
	}
	if cache := text(t, conn, "SELECT cache_size FROM pg_sequences WHERE sequencename = 'journal_seq'"); cache != "1" {
		t.Errorf("sessions take %s numbers together", cache)
	}
}

// A number that is handed out again while the change that has it is being done: neither change is lost.
func TestANumberThatIsTakenTwice(t *testing.T) {
	conn, _, r := numbered(t)
	pgtest.Exec(t, conn, "UPDATE huts SET name = 'b' WHERE id = 1")
	r.read()
	pgtest.Exec(t, conn, "SELECT setval('pingo_capture.journal_seq', (SELECT max(seq) FROM pingo_capture.journal), false); UPDATE huts SET name = 'c' WHERE id = 2")
	r.settle(10)
	r.quiet()
	if r.seen["2"]+r.seen["all"] == 0 {
		t.Error("the second change was lost")
	}
}

// A user who empties the journal, or a part of it, takes changes away: all tables are taken for changed. No one reads while
// that happens.
func TestAJournalEmptiedByOthers(t *testing.T) {
	for _, statement := range []string{"TRUNCATE pingo_capture.journal", "DELETE FROM pingo_capture.journal", "TRUNCATE pingo_capture.journal RESTART IDENTITY"} {
		t.Run(statement, func(t *testing.T) {
			conn, _, r := numbered(t)
			r.quiet()
			r.seen = map[string]int{}
			pgtest.Exec(t, conn, "UPDATE huts SET name = 'b' WHERE id = 1")
			r.quiet()
			if r.seen["all"] > 0 {
				t.Error("what Pingo deletes itself is taken for the work of another user")
			}
			pgtest.Exec(t, conn, "UPDATE huts SET name = 'c' WHERE id = 1")
			pgtest.Exec(t, conn, statement)
			pgtest.Exec(t, conn, "UPDATE huts SET name = 'd' WHERE id = 3")
			r.quiet()
			if r.seen["all"] == 0 || r.seen["3"] == 0 {
				t.Errorf("read: %v", r.seen)
			}
		})
	}
}
