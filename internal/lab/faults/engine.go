package faults

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
)

// Engine is an engine as a process reaches it. Documents for which refuses says so are refused.
func Engine(p *Process, e engine.Engine, refuses func(body []byte) bool) engine.Engine {
	s := &search{Engine: e, p: p, refuses: refuses}
	if v, is := e.(engine.Versioned); is {
		return struct {
			*search
			engine.Versioned
		}{s, v}
	}
	s.plain = true
	return s
}

type search struct {
	engine.Engine
	p       *Process
	refuses func(body []byte) bool
	// plain: the engine keeps what comes last, so nothing may come after its caller has given up,
	// or very late.
	plain bool
}

func (s *search) Deliver(ctx context.Context, edition string, docs []engine.Document) ([]engine.Result, error) {
	sent := make([]engine.Document, len(docs))
	for i, d := range docs {
		sent[i] = d
		if d.Body != nil {
			sent[i].Body = append([]byte{}, d.Body...) // the caller uses its buffer again
		}
	}
	began := time.Now()
	return call(
		ctx,
		s.p,
		"engine",
		"deliver "+edition+" "+docs[0].Key,
		func(half bool) ([]engine.Result, error) {
			if s.plain && (ctx.Err() != nil || time.Since(began) > time.Second) {
				return nil, errFault
			}
			n := len(sent)
			if half {
				n /= 2
			}
			results, err := s.deliver(edition, sent[:n])
			if err == nil && n < len(sent) {
				err = errFault
			}
			return results, err
		},
	)
}

func (s *search) deliver(edition string, docs []engine.Document) ([]engine.Result, error) {
	results := make([]engine.Result, len(docs))
	var taken []engine.Document
	var at []int
	for i, d := range docs {
		if d.Body != nil && s.refuses(d.Body) {
			results[i] = engine.Result{
				Outcome: retry.Refused,
				Kind:    "misfit",
				Reason:  "a number that the engine refuses",
			}
			continue
		}
		taken, at = append(taken, d), append(at, i)
	}
	if len(taken) == 0 {
		return results, nil
	}
	answers, err := s.Engine.Deliver(context.Background(), edition, taken)
	for i, a := range answers {
		results[at[i]] = a
	}
	return results, err
}

func (s *search) Prepare(ctx context.Context, edition string, sh *shape.Shape) error {
	return s.p.do(ctx, "engine", "prepare "+edition, func() error {
		return s.Engine.Prepare(context.Background(), edition, sh)
	})
}

func (s *search) Copy(ctx context.Context, edition string) (string, error) {
	return call(ctx, s.p, "engine", "copy "+edition, func(bool) (string, error) {
		return s.Engine.Copy(context.Background(), edition)
	})
}

func (s *search) FinishFill(ctx context.Context, edition string, sh *shape.Shape) error {
	return s.p.do(ctx, "engine", "finish "+edition, func() error {
		return s.Engine.FinishFill(context.Background(), edition, sh)
	})
}

func (s *search) Drop(ctx context.Context, edition string) error {
	return s.p.do(
		ctx,
		"engine",
		"drop "+edition,
		func() error { return s.Engine.Drop(context.Background(), edition) },
	)
}

func (s *search) Switch(ctx context.Context, name, edition string) error {
	return s.p.do(ctx, "engine", "switch "+edition, func() error {
		return s.Engine.Switch(context.Background(), name, edition)
	})
}

func (s *search) Count(ctx context.Context, edition string) (int64, error) {
	return call(ctx, s.p, "engine", "count "+edition, func(bool) (int64, error) {
		return s.Engine.Count(context.Background(), edition)
	})
}

func (s *search) Get(ctx context.Context, edition string, keys []string) (map[string]json.RawMessage, error) {
	return call(
		ctx,
		s.p,
		"engine",
		fmt.Sprint("get ", edition, keys),
		func(bool) (map[string]json.RawMessage, error) {
			return s.Engine.Get(context.Background(), edition, keys)
		},
	)
}

func (s *search) Fingerprints(ctx context.Context, edition string, keys []string) (map[string]string, error) {
	return call(ctx, s.p, "engine", fmt.Sprint("fingerprints ", edition, keys), func(bool) (map[string]string, error) {
		return s.Engine.Fingerprints(context.Background(), edition, keys)
	})
}

func (s *search) Scan(ctx context.Context, edition string, each func(key, fingerprint string) error) error {
	found, err := call(ctx, s.p, "engine", "scan "+edition, func(bool) (out [][2]string, err error) {
		err = s.Engine.Scan(context.Background(), edition, func(key, fingerprint string) error {
			out = append(out, [2]string{key, fingerprint})
			return nil
		})
		return out, err
	})
	if err != nil {
		return err
	}
	for _, f := range found {
		if err := each(f[0], f[1]); err != nil {
			return err
		}
	}
	return nil
}

func (s *search) Resolve(ctx context.Context, name string) ([]string, error) {
	return call(ctx, s.p, "engine", "resolve "+name, func(bool) ([]string, error) {
		return s.Engine.Resolve(context.Background(), name)
	})
}
