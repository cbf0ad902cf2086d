package main

import (
	"context"
	"fmt"
	"os"
	"regexp"
	"strings"

	"github.com/jackc/pgx/v5"

	"pingo/internal/api"
	"pingo/internal/lab/demo"
)

// memory measures the most memory that a service has while it fills several indexes at the same time: with the usual bound, and
// with one that binds nothing.
func (b *bench) memory(ctx context.Context, conn *pgx.Conn) error {
	defer os.Unsetenv("PINGO_MEMORY")
	for _, bound := range []string{"256MB", "16GB"} {
		if err := os.Setenv("PINGO_MEMORY", bound); err != nil {
			return err
		}
		s, err := b.alone(ctx, conn)
		if err != nil {
			return err
		}
		for _, n := range []int{1, 2, 10} {
			if err := b.fillAtOnce(ctx, s, bound, n); err != nil {
				s.stop()
				return err
			}
		}
		s.stop()
	}
	return nil
}

// fillAtOnce fills a number of indexes, each like the demo's.
func (b *bench) fillAtOnce(ctx context.Context, s *service, bound string, n int) error {
	head, index, _ := strings.Cut(demo.Definition, "indexes:\n")
	name := regexp.MustCompile("(?m)^  huts:")
	text := head + "indexes:\n"
	for i := range n {
		text += name.ReplaceAllString(index, fmt.Sprintf("  huts%d_%d:", n, i)) + "\n"
	}
	// From here on the kernel counts the most memory from zero.
	if err := os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", s.cmd.Process.Pid), []byte("5"), 0); err != nil {
		return err
	}
	status, err := s.client.Status(ctx)
	if err != nil {
		return err
	}
	gone := []string{}
	for _, ix := range status.Indexes {
		gone = append(gone, ix.Name)
	}
	if _, err := s.client.Apply(ctx, []api.File{{Name: "pingo.yaml", Text: text}}, gone...); err != nil {
		return err
	}
	if err := inSync(ctx, s, n); err != nil {
		return err
	}
	peak, err := peakMemory(s.cmd.Process.Pid)
	if err != nil {
		return err
	}
	runs, first, last := int64(0), int64(0), int64(0)
	for i := range n {
		list, err := s.client.Runs(ctx, fmt.Sprintf("huts%d_%d", n, i))
		if err != nil {
			return err
		}
		runs += list[0].Rows
		if began := list[0].BeganAt.UnixMilli(); first == 0 || began < first {
			first = began
		}
		last = max(last, list[0].FilledAt.UnixMilli())
	}
	b.report(fmt.Sprintf("memory, --memory %s, %d together: most", bound, n), peak, "MB", "of the service")
	b.report(fmt.Sprintf("memory, --memory %s, %d together: fill", bound, n), 1000*float64(runs)/float64(last-first), "rows/s", "all of them together")
	return nil
}
