package sourcetest

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/shape"
	"pingo/internal/source"
)

// read takes what the feed gives within a moment, as sorted text.
func (s *suite) read(want ...string) (seqs []int64) {
	s.Helper()
	var got []string
	for deadline := time.Now().Add(5 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		changes, err := s.src.Changes(s.Context(), 1000)
		if err != nil {
			s.Fatal(err)
		}
		for _, c := range changes {
			got = append(got, words(&c))
			seqs = append(seqs, c.Seq)
			if c.At.IsZero() || time.Since(c.At) > time.Hour {
				s.Errorf("%s is of %v", words(&c), c.At)
			}
		}
		if len(got) >= len(want) || time.Now().After(deadline) {
			break
		}
	}
	slices.Sort(got)
	slices.Sort(want)
	if !slices.Equal(got, want) {
		s.Errorf("noticed %q, want %q", got, want)
	}
	return seqs
}

func words(c *change.Change) string {
	out := fmt.Sprintf("%s %s %s", c.Op, c.Table.Name, strings.Join(c.Key, "|"))
	if len(c.Was) > 0 {
		out += " was " + strings.Join(c.Was, "|")
	}
	for _, v := range c.Values([]string{"region_id"}) {
		out += " " + strings.Join(v, "|")
	}
	return strings.TrimSpace(out)
}

func (s *suite) done(seqs []int64, left int) {
	s.Helper()
	if err := s.src.Done(s.Context(), seqs); err != nil {
		s.Fatal(err)
	}
	if n, _ := s.src.InFlight(); n != left { // also before the next read, which waits for room
		s.Errorf("%d in flight, want %d", n, left)
	}
	// A read that began before may still see what is done; the next one does not.
	s.read()
	if n, oldest := s.src.InFlight(); n != left || oldest.IsZero() != (left == 0) {
		s.Errorf("%d in flight since %v, want %d", n, oldest, left)
	}
}

// changesOfRows asks what is not done of the hut 5, which is 1005 now, and of a stay.
func (s *suite) changesOfRows(hut, stay string) {
	s.Helper()
	huts, stays := s.huts.Trees[0].Root().Table, s.stays.Trees[0].Root().Table
	for _, x := range []struct {
		table shape.Ref
		key   []string
		want  string
	}{
		{huts, []string{"1005"}, hut}, {huts, []string{"5"}, hut}, {stays, []string{"2", "b"}, stay},
		{huts, []string{"2"}, ""}, {stays, []string{"2", "c"}, ""},
	} {
		changes, err := s.src.ChangesOf(s.Context(), x.table, x.key)
		var got []string
		for i := range changes {
			got = append(got, words(&changes[i]))
		}
		if err != nil || strings.Join(got, ", ") != x.want {
			s.Errorf("changes of %v %v: %q %v, want %q", x.table, x.key, got, err, x.want)
		}
	}
}

func (s *suite) changesAreNoticed() {
	ctx := s.Context()
	if s.src.Capture != nil {
		if made, err := s.src.Capture.Install(ctx, "one", s.need()); err != nil || len(made) != 3 {
			s.Fatal(made, err)
		}
	}
	if _, err := s.src.Changes(ctx, 10); source.FaultOf(err) != source.Superseded {
		s.Errorf("changes that no one has claimed: %v", err)
	}
	s.claim(s.src, "A", 5)
	s.src.Rewind()
	s.read()
	s.do(func(tx Transaction) {
		tx.Insert("regions", Row{"id": 2, "name": "Pale Cliffs"})
		tx.Update("huts", Row{"id": 1}, Row{"name": "Grim Ridge Hut"})
		tx.Update("stays", Row{"hut_id": 2, "night": "b"}, Row{"body": "quiet"})
		tx.Delete("stays", Row{"hut_id": 3, "night": ""})
		tx.Update("huts", Row{"id": 5}, Row{"id": 1005})
	})
	first := s.read(
		"insert regions 2",
		"update huts 1",
		"update stays 2|b",
		"delete stays 3|",
		"update huts 1005 was 5",
	)
	s.read() // none comes twice
	if d, err := s.src.Depth(ctx); err != nil || d.Changes != 5 || d.Oldest == nil ||
		d.First != slices.Min(first) || d.Last < d.First+4 {
		s.Errorf("depth: %+v %v", d, err)
	}
	s.changesOfRows("update huts 1005 was 5", "update stays 2|b")
	s.done(first, 0)
	s.changesOfRows("", "")

	// What is not committed is not noticed, what is rolled back never, and who commits late
	// is noticed late.
	late, never := s.h.Begin(s.T), s.h.Begin(s.T)
	late.Update("huts", Row{"id": 10}, Row{"beds": 99})
	never.Update("huts", Row{"id": 11}, Row{"beds": 99})
	s.do(func(tx Transaction) { tx.Update("huts", Row{"id": 12}, Row{"beds": 99}) })
	seqs := s.read("update huts 12")
	s.done(seqs, 0)
	never.Rollback()
	late.Commit()
	seqs = s.read("update huts 10")

	// A process that begins again gets what is not done again, and so does a second one.
	s.src.Rewind()
	again := s.read("update huts 10")
	if !slices.Equal(seqs, again) {
		s.Errorf("the numbers of a change were %v and are %v", seqs, again)
	}
	s.done(again, 0)
	s.src.Rewind()
	s.read()

	s.h.Truncate(s.T, "stays")
	s.done(s.read("truncate stays"), 0)
}

// doneInRuns says of unbroken runs of changes and of single ones that they are done. The others stay, also one whose
// number is in the middle of a run and that is committed later.
func (s *suite) doneInRuns() {
	const rows = 400
	nights := func(from, to int) {
		s.do(func(tx Transaction) {
			for i := from; i < to; i++ {
				tx.Insert("stays", Row{"hut_id": 1, "night": fmt.Sprintf("run %03d", i), "body": "quiet"})
			}
		})
	}
	nights(0, rows/2)
	late := s.h.Begin(s.T)
	late.Update("huts", Row{"id": 10}, Row{"beds": 98})
	nights(rows/2, rows)
	var all []string
	for i := range rows {
		all = append(all, fmt.Sprintf("insert stays 1|run %03d", i))
	}
	seqs := s.read(all...)
	var done []int64
	for i, seq := range seqs {
		if i != 0 && i != 120 && i != rows-1 && (i < 300 || i > 320 || i%2 == 1) {
			done = append(done, seq)
		}
	}
	rand.Shuffle(len(done), func(i, j int) { done[i], done[j] = done[j], done[i] })
	s.done(done, rows-len(done))
	late.Commit()
	s.read("update huts 10")
	s.src.Rewind()
	left := []string{all[0], all[120], all[rows-1], "update huts 10"}
	for i := 300; i <= 320; i += 2 {
		left = append(left, all[i])
	}
	s.done(s.read(left...), 0)
	s.do(func(tx Transaction) {
		for i := range rows {
			tx.Delete("stays", Row{"hut_id": 1, "night": fmt.Sprintf("run %03d", i)})
		}
	})
	s.done(s.read(deletions(all)...), 0)
	s.src.Rewind()
	s.read()
}

// deletions are the changes that undo insertions, as text.
func deletions(insertions []string) (out []string) {
	for _, words := range insertions {
		out = append(out, strings.Replace(words, "insert", "delete", 1))
	}
	return out
}

// changesAreWaitedFor: a feed that can wait is woken by the first change, and does not wait while one may be committed at
// any moment.
func (s *suite) changesAreWaitedFor() {
	awaiter, can := s.src.Feed.(source.Awaiter)
	if !can {
		return
	}
	quiet := func() {
		s.Helper()
		for end := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
			s.read()
			began := time.Now()
			if none, waited := awaiter.Await(s.Context(), 100*time.Millisecond); waited && !none.IsZero() {
				if none.Before(began) || none.After(time.Now()) {
					s.Errorf("from %v on it saw none until %v", began, none)
				}
				return
			}
			if time.Now().After(end) {
				s.Fatal("it never waits")
			}
		}
	}
	quiet()
	for range 3 {
		woken := make(chan bool, 1)
		go func() {
			none, waited := awaiter.Await(s.Context(), time.Minute)
			woken <- waited && none.IsZero()
		}()
		time.Sleep(50 * time.Millisecond)
		s.do(func(tx Transaction) { tx.Update("huts", Row{"id": 12}, Row{"beds": time.Now().Nanosecond() % 1000}) })
		select {
		case changes := <-woken:
			if !changes {
				s.Error("it woke without saying that there are changes")
			}
		case <-time.After(20 * time.Second):
			s.Fatal("it was not woken")
		}
		s.done(s.read("update huts 12"), 0)
		quiet()
	}
	late := s.h.Begin(s.T)
	late.Update("huts", Row{"id": 12}, Row{"beds": 1001})
	s.read()
	for range 5 {
		if _, waited := awaiter.Await(s.Context(), time.Minute); waited {
			s.Error("it waits although a change may be committed")
		}
		s.read()
	}
	late.Commit()
	s.done(s.read("update huts 12"), 0)
}

func (s *suite) claim(src *source.Source, holder string, epoch int64) {
	s.Helper()
	now, err := src.Claimed(s.Context())
	if err != nil {
		s.Fatal(err)
	}
	c := change.Claim{Service: "one", Holder: holder, Epoch: epoch, Mark: 1, History: now.History}
	if err := src.Claim(s.Context(), now, c); err != nil {
		s.Fatal(err)
	}
}

// The process that claims the changes under a later epoch has them alone.
func (s *suite) changesAreClaimed() {
	ctx, second := s.Context(), s.h.Open(s.T)
	defer second.Close()
	s.do(func(tx Transaction) { tx.Update("huts", Row{"id": 14}, Row{"beds": 98}) })
	seqs := s.read("update huts 14")
	before, err := s.src.Claimed(ctx)
	if err != nil || before.Service != "one" || before.Holder != "A" || before.Epoch != 5 || before.Mark != 1 {
		s.Errorf("claimed: %+v %v", before, err)
	}
	if now, err := s.src.Beat(ctx, before); err != nil || now.Mark != 2 || now.Behind(before) ||
		!before.Behind(now) {
		s.Errorf("after a beat: %+v %v", now, err)
	}
	superseded := func(what string, err error) {
		s.Helper()
		if source.FaultOf(err) != source.Superseded {
			s.Errorf("%s: %v", what, err)
		}
	}
	now, err := second.Claimed(ctx)
	if err != nil {
		s.Fatal(err)
	}
	next := change.Claim{Service: "one", Holder: "B", Epoch: 9, Mark: 9, History: now.History}
	superseded("a claim found before the last beat", second.Claim(ctx, before, next))
	elsewhere := now
	elsewhere.History = "of another database"
	superseded("a claim found in another line of history", second.Claim(ctx, elsewhere, next))
	next.Service = "two"
	superseded("another service", second.Claim(ctx, now, next))
	s.claim(second, "B", 6)
	_, err = s.src.Changes(ctx, 10)
	superseded("reading", err)
	_, err = s.src.Beat(ctx, now)
	superseded("a beat", err)
	superseded("removing", s.src.Done(ctx, seqs))
	if changes, err := second.Changes(ctx, 10); err != nil || len(changes) != 1 {
		s.Errorf("the other one reads %+v %v", changes, err)
	}
	s.claim(s.src, "A", 7)
	s.src.Rewind()
	s.done(s.read("update huts 14"), 0)
}
