package poll_test

import (
	"database/sql"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"

	"pingo/internal/core/change"
	"pingo/internal/core/shape"
	"pingo/internal/kinds"
	"pingo/internal/lab/mariatest"
	"pingo/internal/lab/pgtest"
	"pingo/internal/records"
	"pingo/internal/source"
)

func TestMain(m *testing.M) {
	code := m.Run()
	for _, stop := range []func() error{mariatest.Stop, pgtest.Stop} {
		if err := stop(); err != nil {
			fmt.Fprintln(os.Stderr, err)
			code = 1
		}
	}
	os.Exit(code)
}

// Rows that are newer are noticed once each: also those that share a time, come late, or are newer
// than a clock that stepped back; deleted ones by looking at all. A process that goes on where another was
// stopped misses nothing.
func TestNewerRows(t *testing.T) {
	for _, kind := range []string{"postgres", "mariadb"} {
		t.Run(kind, func(t *testing.T) {
			recordsURL, url := pgtest.URL(t), ""
			rec, err := records.Open(t.Context(), recordsURL)
			if err != nil {
				t.Fatal(err)
			}
			rec.Close()
			var db *sql.DB
			types := "timestamptz"
			if kind == "mariadb" {
				types, url = "datetime(6)", mariatest.URL(t)
				db = mariatest.Connect(t, url)
			} else {
				url = pgtest.URL(t)
				pool, err := pgxpool.New(t.Context(), url)
				if err != nil {
					t.Fatal(err)
				}
				t.Cleanup(pool.Close)
				db = stdlib.OpenDBFromPool(pool)
			}
			exec := func(statement string) {
				t.Helper()
				mariatest.Exec(t, db, statement)
			}
			exec(fmt.Sprintf("CREATE TABLE huts (id int, part varchar(9), at %s, PRIMARY KEY (id, part))", types))
			exec("CREATE TABLE marks (id int PRIMARY KEY, version bigint)")
			open := func(options string) *source.Source {
				src, err := kinds.All().OpenSource(kind, source.Config{
					Name: "s", URL: url, Capture: "poll", Records: recordsURL, ConnectTimeout: 5 * time.Second, Options: []byte(options),
				})
				if err != nil {
					t.Fatal(err)
				}
				t.Cleanup(src.Close)
				return src
			}
			const standard = `{"poll": {"tables": {"huts": "at", "marks": "version"}, "every": "1ms", "overlap": "30s"}}`
			src := open(standard)
			if _, err := src.Capture.Install(t.Context(), "one", nil); err != nil {
				t.Fatal(err)
			}
			claim := func() {
				t.Helper()
				found, err := src.Claimed(t.Context())
				if err != nil {
					t.Fatal(err)
				}
				if err := src.Claim(t.Context(), found, change.Claim{Service: "one", Holder: "A", Epoch: found.Epoch + 1, Mark: found.Mark + 1}); err != nil {
					t.Fatal(err)
				}
			}
			var seqs []int64
			changes := func(limit int) (out []string) {
				t.Helper()
				for range 20 {
					list, err := src.Changes(t.Context(), limit)
					if err != nil {
						t.Fatal(err)
					}
					for _, c := range list {
						out = append(
							out,
							strings.TrimSpace(fmt.Sprintf("%s %s %s", c.Op, c.Table.Name, strings.Join(c.Key, "|"))),
						)
						seqs = append(seqs, c.Seq)
					}
					time.Sleep(2 * time.Millisecond)
				}
				slices.Sort(out)
				return out
			}
			expect := func(want ...string) {
				t.Helper()
				if got := changes(2); !slices.Equal(got, want) {
					t.Errorf("%q, want %q", got, want)
				}
			}
			claim()
			exec("INSERT INTO huts VALUES (0, 'old', '2001-01-01 00:00:00')")
			expect("update huts 0|old") // the tables were empty, so it is new
			exec(
				"INSERT INTO huts VALUES (1, 'a', current_timestamp), (1, 'b', current_timestamp), (2, 'a', current_timestamp)",
			)
			exec("INSERT INTO marks VALUES (1, 5000), (2, 5000)")
			expect("update huts 1|a", "update huts 1|b", "update huts 2|a", "update marks 1", "update marks 2")
			expect()
			exec("UPDATE huts SET at = " + later(kind, 2) + " WHERE id = 2") // it changed again
			exec("INSERT INTO marks VALUES (3, 4500)")                       // late
			expect("update huts 2|a", "update marks 3")

			// The clock steps back: what is written then is below what was seen.
			exec("INSERT INTO huts VALUES (3, 'ahead', " + later(kind, 3600) + ")")
			expect("update huts 3|ahead")
			exec("INSERT INTO huts VALUES (4, 'after', current_timestamp)")
			expect("update huts 4|after")

			// Another one goes on: what is not done comes again, what is done does not need to.
			if n, oldest := src.InFlight(); n != 10 || time.Since(oldest) > time.Hour {
				t.Errorf("%d in flight since %v", n, oldest)
			}
			src = open(strings.Replace(standard, `"30s"`, `"1ms"`, 1))
			claim()
			if got := changes(100); !slices.Contains(got, "update huts 1|a") ||
				!slices.Contains(got, "update marks 1") {
				t.Errorf("after nothing was done: %q", got)
			}
			if err := src.Done(t.Context(), seqs); err != nil {
				t.Fatal(err)
			}
			exec("DELETE FROM huts WHERE id = 1")
			src = open(`{"poll": {"tables": {"huts": "at"}, "every": "1ms", "overlap": "1ms", "compare": "0s"}}`)
			claim()
			seqs = nil
			if got := changes(100); !slices.Contains(got, "truncate huts") ||
				slices.Contains(got, "update huts 0|old") {
				t.Errorf("all rows: %q", got)
			}
			advice, err := src.Capture.Advice(
				t.Context(),
				[]shape.Captured{{Table: shape.Ref{Schema: "x", Name: "marks"}}},
				nil,
			)
			if err != nil || len(advice) != 3 || !strings.Contains(advice[1].Message, "not looked at") || !strings.Contains(advice[2].Message, "column at may be NULL") {
				t.Errorf("%+v %v", advice, err)
			}
			exec("ALTER TABLE huts DROP COLUMN at")
			src.Rewind()
			if _, err := src.Changes(t.Context(), 10); source.FaultOf(err) != source.SchemaChanged {
				t.Errorf("without the column: %v", err)
			}
		})
	}
}

func later(kind string, seconds int) string {
	if kind == "mariadb" {
		return fmt.Sprintf("current_timestamp + INTERVAL %d SECOND", seconds)
	}
	return fmt.Sprintf("current_timestamp + interval '%d seconds'", seconds)
}
