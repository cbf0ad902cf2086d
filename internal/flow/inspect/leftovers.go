package inspect

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"pingo/internal/api"
	"pingo/internal/flow/connect"
)

// editionNames are the names that editions get: the index, a number, and a birth mark.
var editionNames = regexp.MustCompile(`^(.+)-e\d+(-[0-9a-z]+)?$`)

// MadeLikeEditionOf reports whether a name in an engine is one that an edition of an index gets.
func MadeLikeEditionOf(index, name string) bool {
	m := editionNames.FindStringSubmatch(name)
	return m != nil && m[1] == index
}

// Leftovers lists the editions in the engines of the definition in force that the records do not
// know: of indexes that were given up while an engine was away, or of other records. Another
// Pingo on the same engine has editions that these records do not know.
func (i *Inspector) Leftovers(ctx context.Context) ([]api.Leftover, error) {
	known, err := namesOf(ctx, i.Records)
	if err != nil {
		return nil, err
	}
	out := []api.Leftover{}
	for _, eng := range i.Connections.Engines() {
		there, err := eng.Editions(ctx)
		if err != nil {
			return nil, fmt.Errorf("engine %s: %w", eng.Name, err)
		}
		for _, name := range there {
			if slices.Contains(known, name) {
				continue
			}
			l := api.Leftover{Engine: eng.Name, Edition: name}
			if l.Answers, err = answers(ctx, eng, name); err != nil {
				return nil, fmt.Errorf("engine %s: %w", eng.Name, err)
			}
			if l.Documents, err = eng.Count(ctx, name); err != nil {
				return nil, fmt.Errorf("engine %s: %w", eng.Name, err)
			}
			out = append(out, l)
		}
	}
	slices.SortFunc(out, func(a, b api.Leftover) int {
		return strings.Compare(a.Engine+" "+a.Edition, b.Engine+" "+b.Edition)
	})
	return out, nil
}

func namesOf(ctx context.Context, store Store) ([]string, error) {
	editions, err := store.Editions(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the editions: %w", err)
	}
	names := make([]string, len(editions))
	for n, e := range editions {
		names[n] = e.Name()
	}
	return names, nil
}

// answers is the public name under which an edition answers; empty when it does not.
func answers(ctx context.Context, eng *connect.Engine, edition string) (string, error) {
	m := editionNames.FindStringSubmatch(edition)
	if m == nil {
		return "", nil
	}
	now, err := eng.Resolve(ctx, m[1])
	if err != nil || !slices.Contains(now, edition) {
		return "", err
	}
	return m[1], nil
}

// RemoveLeftover deletes an edition that the records do not know and that is not live.
func (i *Inspector) RemoveLeftover(ctx context.Context, engine, edition string) error {
	eng := i.Connections.Engine(engine)
	if eng == nil {
		return fmt.Errorf("engine %q is %w", engine, ErrUnknown)
	}
	there, err := eng.Editions(ctx)
	if err != nil {
		return err
	}
	if !slices.Contains(there, edition) {
		return fmt.Errorf("edition %q of engine %s is %w", edition, engine, ErrUnknown)
	}
	known, err := namesOf(ctx, i.Records)
	if err != nil {
		return err
	}
	if slices.Contains(known, edition) {
		return &BadRequest{
			fmt.Errorf(
				"edition %s belongs to an index of these records; it is deleted when another one replaces it",
				edition,
			),
		}
	}
	name, err := answers(ctx, eng, edition)
	if err != nil {
		return err
	}
	if name != "" {
		return &BadRequest{
			fmt.Errorf(
				"edition %s is still live as %s: remove that name first",
				edition,
				name,
			),
		}
	}
	return eng.Drop(ctx, edition)
}
