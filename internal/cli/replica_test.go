package cli_test

import (
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"pingo/internal/api"
	"pingo/internal/lab/demo"
	"pingo/internal/lab/pgtest"
	"pingo/internal/lab/slowlink"
	"pingo/internal/pgserver"

	"github.com/jackc/pgx/v5"
)

// newPrimary is a server of its own with a number of huts.
func newPrimary(t *testing.T, huts int) (*pgserver.Server, *pgx.Conn) {
	t.Helper()
	dir := filepath.Join(pgtest.Dir(t), "primary")
	primary, err := pgserver.Start(t.Context(), pgserver.Options{Dir: dir, Settings: pgtest.Settings})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { primary.Stop() })
	if err := primary.CreateDatabase(t.Context(), "lodge"); err != nil {
		t.Fatal(err)
	}
	lodge := pgtest.Connect(t, primary.URL("lodge"))
	if err := demo.Load(t.Context(), lodge, huts, 3); err != nil {
		t.Fatal(err)
	}
	return primary, lodge
}

// A replica that lagged behind and takes the place of its primary is noticed, and what it never had
// is taken out of the index again.
func TestAReplicaThatIsPromoted(t *testing.T) {
	w := newWorld(t)
	primary, lodge := newPrimary(t, 300)
	w.env = append(w.env, "LODGE_URL="+primary.URL("lodge"))
	w.serve()
	w.must("apply", "--yes", w.write(demo.Definition))
	inSync := func(ix api.IndexStatus) bool {
		return ix.State == api.StateInSync && ix.Rows != nil && ix.Documents != nil && *ix.Rows == *ix.Documents
	}
	w.index(20*time.Second, "in sync", "huts", inSync)
	before := w.edition("huts")

	replica, link := replicate(t, primary)
	follower := pgtest.Connect(t, replica.URL("lodge"))
	pgtest.Exec(t, lodge, "UPDATE huts SET name = 'Both know' WHERE id = 5")
	w.eventually(20*time.Second, "the replica follows", func() error {
		var name string
		if err := follower.QueryRow(t.Context(), "SELECT name FROM huts WHERE id = 5").Scan(&name); err != nil ||
			name != "Both know" {
			return fmt.Errorf("%q %w", name, err)
		}
		return nil
	})
	link.Close()
	own := pgtest.Connect(t, w.pg.URL("pingo"))
	mark := func() (mark int64) {
		if err := own.QueryRow(t.Context(), "SELECT (claimed ->> 'mark')::bigint FROM lease").Scan(&mark); err != nil {
			t.Fatal(err)
		}
		return mark
	}
	pgtest.Exec(t, lodge, "UPDATE huts SET name = 'Never ' || id WHERE id % 3 = 0; DELETE FROM huts WHERE id % 50 = 1")
	w.must("wait", "huts")
	was := mark()
	w.eventually(15*time.Second, "the mark moves on", func() error {
		if now := mark(); now < was+2 {
			return fmt.Errorf("from %d to %d", was, now)
		}
		return nil
	})
	if err := primary.Stop(); err != nil {
		t.Fatal(err)
	}
	pgtest.Exec(t, follower, "SELECT pg_promote()")
	dir := filepath.Dir(replica.Data())
	if err := replica.Stop(); err != nil {
		t.Fatal(err)
	}
	replica, err := pgserver.Start(
		t.Context(),
		pgserver.Options{Dir: dir, Port: primary.Port(), Settings: pgtest.Settings},
	)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { replica.Stop() })
	lodge = pgtest.Connect(t, replica.URL("lodge"))
	pgtest.Exec(t, lodge, "UPDATE huts SET name = 'Now ' || id WHERE id % 7 = 0")
	w.eventually(20*time.Second, "it is noticed", func() error {
		if !strings.Contains(w.log.String(), "a replica took its place") {
			return errors.New("the log does not say so")
		}
		return nil
	})
	w.index(30*time.Second, "another edition answers", "huts", func(ix api.IndexStatus) bool {
		return inSync(ix) && ix.Edition != before
	})
	w.equal(lodge, "huts")
}

// replicate starts a server that follows another one over a link.
func replicate(t *testing.T, primary *pgserver.Server) (*pgserver.Server, *slowlink.Link) {
	t.Helper()
	u, err := url.Parse(primary.URL("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	link, err := slowlink.Start(u.Host, func() time.Duration { return 0 })
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(link.Close)
	u.Host = link.Addr()
	from, dir := filepath.Dir(primary.Data()), filepath.Join(pgtest.Dir(t), "replica")
	if err := os.Mkdir(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"password", "ready"} {
		b, err := os.ReadFile(filepath.Join(from, name))
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), b, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	info, err := os.Stat(primary.Data())
	if err != nil {
		t.Fatal(err)
	}
	owner := info.Sys().(*syscall.Stat_t)
	if err := os.Chown(dir, int(owner.Uid), int(owner.Gid)); err != nil {
		t.Fatal(err)
	}
	programs, err := filepath.Glob("/usr/lib/postgresql/*/bin/pg_basebackup")
	if err != nil || len(programs) == 0 {
		t.Fatal("there is no pg_basebackup", err)
	}
	cmd := exec.Command(
		programs[len(programs)-1],
		"-d",
		u.String(),
		"-D",
		filepath.Join(dir, "data"),
		"-R",
		"-X",
		"stream",
		"-c",
		"fast",
	)
	cmd.SysProcAttr, cmd.Dir = &syscall.SysProcAttr{
		Credential: &syscall.Credential{Uid: owner.Uid, Gid: owner.Gid},
	}, "/"
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	replica, err := pgserver.Start(t.Context(), pgserver.Options{Dir: dir, Settings: pgtest.Settings})
	if err != nil {
		t.Fatal(err)
	}
	return replica, link
}

// An edition is filled from a replica that lags behind, while rows are written, and nothing of it is older than
// what the stream has brought.
func TestFilledFromAReplica(t *testing.T) {
	w := newWorld(t)
	primary, lodge := newPrimary(t, 1500)
	replica, _ := replicate(t, primary)
	t.Cleanup(func() { replica.Stop() })
	w.env = append(
		w.env,
		"LODGE_URL="+primary.URL("lodge"),
		"REPLICA_URL="+replica.URL("lodge"),
		"OTHER_URL="+w.pg.URL("lodge"),
	)
	w.serve()
	from := func(name string) string {
		return strings.Replace(
			demo.Definition,
			"    capture: triggers\n",
			"    capture: triggers\n    replica: ${"+name+"}\n",
			1,
		)
	}
	for name, words := range map[string]string{"OTHER_URL": "is none of this source", "NOBODY": "NOBODY"} {
		if out, errs, code := w.run("check", w.write(from(name))); code != 3 || !strings.Contains(out+errs, words) {
			t.Errorf("%s: exit %d: %s%s", name, code, out, errs)
		}
	}
	if out, errs, code := w.run("check", w.write(strings.Replace(from("REPLICA_URL"), "${REPLICA_URL}", "postgres://me:secret@h/d", 1))); code != 3 ||
		!strings.Contains(out+errs, "the replica's url has a password or key written out") {
		t.Errorf("exit %d: %s%s", code, out, errs)
	}

	follower := pgtest.Connect(t, replica.URL("lodge"))
	pgtest.Exec(t, follower, "SELECT pg_wal_replay_pause()")
	done := make(chan struct{})
	go func() {
		defer close(done)
		w.must("apply", "--yes", w.write(from("REPLICA_URL")))
	}()
	w.eventually(20*time.Second, "it is being filled", func() error {
		status, err := w.client.Status(t.Context())
		if err == nil &&
			(len(status.Indexes) == 0 || status.Indexes[0].Fill == nil || status.Indexes[0].Fill.State != api.FillFilling) {
			err = fmt.Errorf("%+v", status.Indexes)
		}
		return err
	})
	pgtest.Exec(t, lodge, "UPDATE huts SET name = 'Only the primary knows' WHERE id = 5")
	select {
	case <-done:
		t.Error("it was filled though the replica pauses")
	case <-time.After(3 * time.Second):
	}
	stop := make(chan struct{})
	lagging := make(chan struct{})
	go func() { // it lags by up to 200 ms from here on
		defer close(lagging)
		for paused := true; ; paused = !paused {
			sql := "SELECT pg_wal_replay_resume()"
			if !paused {
				sql = "SELECT pg_wal_replay_pause()"
			}
			if _, err := follower.Exec(t.Context(), sql); err != nil {
				t.Error(err)
				return
			}
			select {
			case <-stop:
				if !paused {
					pgtest.Exec(t, follower, "SELECT pg_wal_replay_resume()")
				}
				return
			case <-time.After(200 * time.Millisecond):
			}
		}
	}()
	<-done
	finished := make(chan struct{})
	go func() {
		defer close(finished)
		w.must("reindex", "start", "huts")
	}()
	for n := 0; ; n++ {
		select {
		case <-finished:
			if n < 20 {
				t.Errorf("%d writes meanwhile, which shows nothing", n)
			}
			close(stop)
			<-lagging
			w.must("wait", "huts")
			w.equalTo(lodge, demo.Definition, "huts", 0)
			return
		default:
			pgtest.Exec(
				t,
				lodge,
				fmt.Sprintf(
					"UPDATE huts SET summary = 'round %d' WHERE id %% 40 = %d; DELETE FROM huts WHERE id = %d",
					n,
					n%40,
					max(1500-n, 700), // so that some are left
				),
			)
		}
	}
}
