package rebuild

import (
	"context"
	"errors"
	"fmt"

	"pingo/internal/core/query"
	"pingo/internal/core/reindex"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
)

// Outcome is what an expected search found.
type Outcome struct {
	reindex.Expectation
	// Place is that of the key among the hits, from 1; 0 when it is not among the expected number.
	Place int
	// Total is how many documents were found, and First the keys of the first of them.
	Total int64
	First []string
	// Refused is why the engine does not search for that; empty when it does.
	Refused string
}

// Met reports whether the search found what it should.
func (o *Outcome) Met() bool { return o.Place > 0 }

func (o *Outcome) String() string {
	switch {
	case o.Refused != "":
		return fmt.Sprintf("%q is refused: %s", o.Search, o.Refused)
	case o.Met():
		return fmt.Sprintf("%q finds %s in place %d", o.Search, o.Finds, o.Place)
	case o.Among == 1:
		return fmt.Sprintf("%q does not find %s first", o.Search, o.Finds)
	}
	return fmt.Sprintf("%q does not find %s among the first %d", o.Search, o.Finds, o.Among)
}

// shownKeys is the number of found keys in a message.
const shownKeys = 5

// Expect runs searches under a public name or in an edition of a shape, and says what they found.
func Expect(
	ctx context.Context,
	e engine.Engine,
	name string,
	s *shape.Shape,
	list []reindex.Expectation,
) ([]Outcome, error) {
	out := make([]Outcome, len(list))
	for i, x := range list {
		o := &out[i]
		o.Expectation = x
		hits, err := e.Search(ctx, name, s, query.Query{Text: x.Search, Limit: x.Among})
		if err != nil {
			var f *engine.Failure
			if !errors.As(err, &f) || f.Outcome != retry.Refused {
				return nil, fmt.Errorf("searching %s for %q: %w", name, x.Search, err)
			}
			o.Refused = f.Message
			continue
		}
		o.Total = hits.Total
		for n, hit := range hits.Hits {
			if hit.Key == x.Finds {
				o.Place = n + 1
			}
			if n < shownKeys {
				o.First = append(o.First, hit.Key)
			}
		}
	}
	return out, nil
}
