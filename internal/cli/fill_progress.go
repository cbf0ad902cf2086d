package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/schollz/progressbar/v3"

	"pingo/internal/api"
)

// takenUpWithin is how long it may take until whoever feeds an index tells of what was asked for.
const takenUpWithin = 15 * time.Second

// waitForFill shows how far editions are until none is being filled; those of one index when it is
// named. It fails for those that wait for a person. What does not go on for now, since it is paused or its
// time has not come, is waited for by the patient only. there reports whether the status shows what was
// asked for: until it does, no process may have begun.
func (a *App) waitForFill(ctx context.Context, index string, patient bool, there func(*api.Status) bool) error {
	p := &fillProgress{app: a}
	defer p.finish()
	asked := time.Now()
	for {
		status, err := a.client().Status(ctx)
		if err != nil {
			return err
		}
		var open *api.IndexStatus
		var stopped error
		var halted []string
		for i := range status.Indexes {
			ix := &status.Indexes[i]
			switch {
			case ix.Fill == nil || index != "" && ix.Name != index:
			case ix.Fill.State == api.FillReady && ix.Fill.ByHand:
				stopped = errors.Join(stopped, fmt.Errorf("%s: %w: %s", ix.Fill.Edition, errStopped, ix.Sentence))
			case ix.Fill.Halted && !patient:
				halted = append(halted, ix.Sentence)
			case open == nil:
				open = ix
			}
		}
		begins := stopped == nil && halted == nil && !there(status) && time.Since(asked) < takenUpWithin
		if open == nil && !begins {
			for _, sentence := range halted {
				fmt.Fprintln(a.Err, sentence)
			}
			return stopped
		}
		if open != nil {
			asked = time.Now()
			p.show(open)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// fillProgress shows how far an edition is: a bar on a terminal, else a line now and then.
type fillProgress struct {
	app             *App
	bar             *progressbar.ProgressBar
	barOf, lastLine string
	said            time.Time
}

func (p *fillProgress) finish() {
	if p.bar != nil {
		p.bar.Finish()
	}
}

func (p *fillProgress) show(ix *api.IndexStatus) {
	a, f := p.app, ix.Fill
	switch {
	case ix.Trouble != nil || f.Halted:
		if line := ix.Sentence; ix.Name+f.Waits != p.lastLine &&
			(ix.Trouble == nil || ix.Trouble.Message != p.lastLine) {
			p.lastLine = ix.Name + f.Waits
			if ix.Trouble != nil {
				p.lastLine = ix.Trouble.Message
			}
			fmt.Fprintf(a.Err, "\n%s: %s\n", ix.Name, line)
		}
	case !watched():
		if line := f.Edition + f.State; line != p.lastLine || time.Since(p.said) > 5*time.Second {
			left := ""
			if f.LeftMS > 0 {
				left = ", " + inWords(float64(f.LeftMS)/1000) + " left"
			}
			fmt.Fprintf(
				a.Err,
				"%s: %s, %s of %s%s\n",
				f.Edition,
				f.State,
				humanize.Comma(f.Rows),
				countOfRows(f.Expected),
				left,
			)
			p.lastLine, p.said = line, time.Now()
		}
	case f.State == api.FillFilling:
		if p.barOf != f.Edition {
			p.bar, p.barOf = progressbar.NewOptions64(
				max(f.Expected, 1),
				progressbar.OptionSetWriter(a.bars),
				progressbar.OptionShowCount(),
				progressbar.OptionSetPredictTime(false), // Pingo's own is steadier
				progressbar.OptionOnCompletion(func() { fmt.Fprintln(a.Err) }),
			), f.Edition
		}
		about := f.Edition
		if f.LeftMS > 0 {
			about += fmt.Sprintf(
				"  %s rows/s, %s left",
				humanize.Comma(int64(f.PerSecond)),
				inWords(float64(f.LeftMS)/1000),
			)
		}
		if f.Helpers > 0 {
			about += ", with " + otherProcesses(f.Helpers)
		}
		p.bar.Describe(about)
		p.bar.Set64(min(f.Rows, max(f.Expected, 1)))
	}
}
