package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/progress"

	"pingo/internal/api"
)

// takenUpWithin is how long it may take until whoever feeds an index tells of what was asked for.
const takenUpWithin = 15 * time.Second

// waitForFill shows how far editions are until none is being filled; those of the named indexes, or all for none.
// It fails for those that wait for a person. What does not go on for now, since it is paused or its
// time has not come, is waited for by the patient only. there reports whether the status shows what was
// asked for: until it does, no process may have begun.
func (a *App) waitForFill(ctx context.Context, indexes []string, patient bool, there func(*api.Status) bool) error {
	p := &fillProgress{app: a, told: map[string]told{}, trackers: map[string]*progress.Tracker{}}
	defer p.finish()
	asked := time.Now()
	for {
		status, err := a.client().Status(ctx)
		if err != nil {
			return err
		}
		var open []*api.IndexStatus
		var stopped error
		var halted []string
		for i := range status.Indexes {
			ix := &status.Indexes[i]
			switch {
			case ix.Fill == nil || len(indexes) > 0 && !slices.Contains(indexes, ix.Name):
			case ix.Fill.State == api.FillReady && ix.Fill.ByHand:
				stopped = errors.Join(stopped, fmt.Errorf("%s: %w: %s", ix.Fill.Edition, errStopped, ix.Sentence))
			case ix.Fill.Halted && !patient:
				halted = append(halted, ix.Sentence)
			default:
				open = append(open, ix)
			}
		}
		begins := stopped == nil && halted == nil && !there(status) && time.Since(asked) < takenUpWithin
		p.show(open)
		p.end(status)
		if len(open) == 0 && !begins {
			for _, sentence := range halted {
				fmt.Fprintln(a.Err, sentence)
			}
			return stopped
		}
		if len(open) > 0 {
			asked = time.Now()
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// mostShown is how many editions are shown one by one; the others are counted.
const mostShown = 10

// fillProgress shows how far editions are: bars on a terminal, else a line now and then.
type fillProgress struct {
	app      *App
	told     map[string]told // by index
	bars     progress.Writer // nil before the first bar
	trackers map[string]*progress.Tracker
	counted  time.Time // when the line about the others was printed
}

// told is the last line about an index.
type told struct {
	line string
	at   time.Time
}

func (p *fillProgress) finish() {
	if p.bars == nil {
		return
	}
	for _, t := range p.trackers {
		if !t.IsDone() {
			t.MarkAsErrored()
		}
	}
	p.bars.Stop()
	for p.bars.IsRenderInProgress() {
		time.Sleep(10 * time.Millisecond)
	}
}

func (p *fillProgress) show(open []*api.IndexStatus) {
	for _, ix := range open[:min(len(open), mostShown)] {
		p.one(ix)
	}
	if others := open[min(len(open), mostShown):]; len(others) > 0 && time.Since(p.counted) > 5*time.Second {
		var rows, expected int64
		for _, ix := range others {
			rows, expected = rows+ix.Fill.Rows, expected+ix.Fill.Expected
		}
		p.counted = time.Now()
		p.print(fmt.Sprintf("%d more editions: %s of %s", len(others), humanize.Comma(rows), countOfRows(expected)))
	}
}

// end ends the bars of editions that are live. Those that stopped are marked at the end.
func (p *fillProgress) end(status *api.Status) {
	for _, ix := range status.Indexes {
		if t := p.trackers[ix.Edition]; t != nil && !t.IsDone() && ix.Live {
			t.UpdateMessage(ix.Edition)
			t.UpdateTotal(t.Total - 1)
			t.SetValue(t.Total)
			t.MarkAsDone()
		}
	}
}

// print writes a line, above the bars if there are any.
func (p *fillProgress) print(line string) {
	if p.bars != nil {
		p.bars.Log("%s", line)
		return
	}
	fmt.Fprintln(p.app.Err, line)
}

func (p *fillProgress) one(ix *api.IndexStatus) {
	f, last := ix.Fill, p.told[ix.Name]
	say := func(as, line string) {
		if as != last.line {
			p.print(line)
			p.told[ix.Name] = told{as, time.Now()}
		}
	}
	left := ""
	if f.LeftMS > 0 {
		left = ", " + inWords(float64(f.LeftMS)/1000) + " left"
	}
	switch {
	case ix.Trouble != nil:
		say(ix.Trouble.Message, ix.Name+": "+ix.Sentence)
	case f.Halted:
		say(f.Waits, ix.Name+": "+ix.Sentence)
	case !watched():
		if line := f.Edition + f.State; line != last.line || time.Since(last.at) > 5*time.Second {
			p.print(fmt.Sprintf("%s: %s, %s of %s%s", f.Edition, f.State, humanize.Comma(f.Rows), countOfRows(f.Expected), left))
			p.told[ix.Name] = told{line, time.Now()}
		}
	case f.State == api.FillFilling || p.trackers[f.Edition] != nil:
		about := f.Edition
		if f.State != api.FillFilling {
			about += "  " + f.State
		} else if f.LeftMS > 0 {
			about += fmt.Sprintf("  %s rows/s%s", humanize.Comma(int64(f.PerSecond)), left)
		}
		if f.Helpers > 0 {
			about += ", with " + otherProcesses(f.Helpers)
		}
		p.bar(f, about)
	}
}

func (p *fillProgress) bar(f *api.FillStatus, about string) {
	if p.bars == nil {
		p.bars = progress.NewWriter()
		p.bars.SetOutputWriter(p.app.bars)
		p.bars.SetUpdateFrequency(200 * time.Millisecond)
		p.bars.SetTrackerLength(24)
		style := p.bars.Style()
		style.Visibility = progress.StyleVisibility{Percentage: true, Tracker: true, Value: true}
		style.Options.Separator, style.Options.DoneString, style.Options.ErrorString = "  ", "filled", "stopped"
		go p.bars.Render()
	}
	t := p.trackers[f.Edition]
	if t == nil {
		t = &progress.Tracker{Message: about, Units: progress.Units{Formatter: humanize.Comma}}
		p.trackers[f.Edition] = t
		p.bars.AppendTracker(t)
	}
	t.UpdateMessage(about)
	t.UpdateTotal(f.Expected + 1) // the last step is what follows the fill
	t.SetValue(min(f.Rows, f.Expected))
}
