package define

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"pingo/internal/api"
	"pingo/internal/core/definition"
	"pingo/internal/core/shape"
	"pingo/internal/flow/inspect"
	"pingo/internal/source"
)

// ErrNeedsFill says that installing capture alone would leave an index wrong.
var ErrNeedsFill = errors.New(
	"changes are missing because capture was removed: run pingo apply with the current definition, or with one without the dropped tables, to reinstall capture and refill the indexes",
)

// captured is a source of the definition in force, opened in addition to the one that is read,
// with what it has to note.
type captured struct {
	*source.Source
	definition *definition.Source
	need       []shape.Captured
}

func (d *Definer) captured(ctx context.Context, name string) (*captured, error) {
	src, err := d.Inspector.Source(name)
	if err != nil {
		return nil, err
	}
	shapes, err := d.Inspector.Shapes(ctx, src.Name)
	if err != nil {
		return nil, err
	}
	opened, err := d.Connections.OpenSource(src)
	if err != nil {
		return nil, err
	}
	if opened.Capture == nil {
		opened.Close()
		return nil, nothingInstalled(src)
	}
	return &captured{opened, src, shape.Capture(src.Name, shapes)}, nil
}

// nothingInstalled says that a source has no capture that Pingo installs, so there is none to remove.
func nothingInstalled(src *definition.Source) error {
	return &inspect.BadRequest{Err: fmt.Errorf("nothing of Pingo is in source %s, whose changes come by %s: there is nothing to remove", src.Name, src.Capture)}
}

// readGrants are the statements that let Pingo read the tables of a definition, if that is all that stands against it: what capture
// needs shows only when the tables can be read. It is empty otherwise.
func readGrants(p *api.Plan) string {
	var out strings.Builder
	for _, f := range p.Findings {
		if !strings.HasPrefix(f.Suggestion, "GRANT ") {
			return ""
		}
		if !strings.Contains(out.String(), f.Suggestion) {
			fmt.Fprintln(&out, f.Suggestion)
		}
	}
	if out.Len() == 0 {
		return ""
	}
	return "-- Pingo cannot read these tables yet. Run this as their owner, then run pingo capture show again: it prints the rest.\n" + out.String()
}

// InstallCapture installs what the definition in force needs, where it is missing. An
// empty name is the only source.
func (d *Definer) InstallCapture(ctx context.Context, name string) error {
	c, err := d.captured(ctx, name)
	if err != nil {
		return err
	}
	defer c.Close()
	status, err := c.Capture.Status(ctx)
	if err != nil {
		return err
	}
	if !status.Installed && len(c.need) > 0 {
		return ErrNeedsFill
	}
	gaps, err := c.Capture.Gaps(ctx, c.need)
	if err != nil {
		return err
	}
	for _, gap := range gaps {
		if !gap.Safe {
			return fmt.Errorf("%w (%s)", ErrNeedsFill, gap.Reason)
		}
	}
	return d.install(ctx, c.definition, c.need)
}

// RepairCapture installs the capture of a source where it is missing, while no change can
// have been missed.
func (d *Definer) RepairCapture(ctx context.Context, name string) error {
	return d.Records.Exclusively(ctx, func() error {
		c, err := d.captured(ctx, name)
		if err != nil {
			return err
		}
		defer c.Close()
		return d.install(ctx, c.definition, c.need)
	})
}

// CaptureScript is what InstallCapture would run.
func (d *Definer) CaptureScript(ctx context.Context, name string) (string, error) {
	c, err := d.captured(ctx, name)
	if err != nil {
		return "", err
	}
	defer c.Close()
	return c.Capture.Script(ctx, c.need)
}

// CaptureScriptFor is what applying a definition would install in one of its sources.
func (d *Definer) CaptureScriptFor(ctx context.Context, files []api.File, name string) (string, error) {
	p, err := d.plan(ctx, files, scope{})
	if err != nil {
		return "", err
	}
	if script := readGrants(&p.Plan); script != "" {
		return script, nil
	}
	if wrong := p.Wrong(); wrong != "" {
		return "", fmt.Errorf("%w: %s", ErrRefused, wrong)
	}
	known := []string{}
	for _, c := range p.Capture {
		known = append(known, c.Source)
		if c.Source == name || name == "" && len(p.Capture) == 1 {
			opened, err := d.Connections.OpenSource(p.definition.Source(c.Source))
			if err != nil {
				return "", err
			}
			defer opened.Close()
			return opened.Capture.Script(ctx, p.need[c.Source])
		}
	}
	return "", fmt.Errorf(
		"%w: the definition captures nothing in a source %q: %s",
		inspect.ErrUnknown,
		name,
		definition.Nearest(name, known),
	)
}
