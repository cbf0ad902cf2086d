package plainsql

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/big"
	"regexp"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"pingo/internal/core/definition"
)

// Documents makes all documents of an index by one statement for each of its tables.
func Documents(ctx context.Context, conn *pgx.Conn, ix *definition.Index) (map[string]any, error) {
	if _, err := conn.Exec(ctx, "SET TIME ZONE 'UTC'; SET IntervalStyle = 'iso_8601'; SET jit = off"); err != nil {
		return nil, err
	}
	keys := map[string][]string{}
	rows, err := conn.Query(
		ctx,
		`SELECT n.nspname || '.' || c.relname, array_agg(a.attname::text ORDER BY k.position)
		FROM pg_index i CROSS JOIN LATERAL unnest(i.indkey::int2[]) WITH ORDINALITY k(attnum, position)
		JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.attnum JOIN pg_class c ON c.oid = i.indrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE i.indisprimary GROUP BY 1`,
	)
	if err != nil {
		return nil, err
	}
	var table string
	var columns []string
	if _, err := pgx.ForEachRow(rows, []any{&table, &columns}, func() error {
		keys[table] = columns
		columns = nil
		return nil
	}); err != nil {
		return nil, err
	}
	all := map[string]any{}
	for _, r := range ix.Rows {
		statement := Statement(r, func(table string) []string {
			if !strings.Contains(table, ".") {
				table = "public." + table
			}
			return keys[table]
		})
		rows, err := conn.Query(ctx, statement)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", statement, err)
		}
		var key []string
		var doc []byte
		if _, err := pgx.ForEachRow(rows, []any{&key, &doc}, func() error {
			decoded, err := Decode(doc)
			all[keyText(r.Name, key)] = decoded
			return err
		}); err != nil {
			return nil, fmt.Errorf("%s: %w", statement, err)
		}
	}
	return all, nil
}

// keyText writes a key as documents have it, in a second way.
func keyText(rows string, parts []string) string {
	var out []string
	if rows != "" {
		out = append(out, rows)
	}
	for _, p := range parts {
		p = strings.ReplaceAll(strings.ReplaceAll(p, "~", "~0"), ",", "~1")
		if p == "" {
			p = "~2"
		}
		out = append(out, p)
	}
	return strings.Join(out, ",")
}

// Decode reads a document with its numbers as they are written.
func Decode(doc []byte) (any, error) {
	decoder := json.NewDecoder(bytes.NewReader(doc))
	decoder.UseNumber()
	var v any
	return v, decoder.Decode(&v)
}

// Difference is a document on which two sides do not agree.
type Difference struct{ Key, What string }

// Compare lists the documents in which an engine differs from what rows make.
func Compare(want, have map[string]any) []Difference {
	var out []Difference
	for key, w := range want {
		h, ok := have[key]
		switch {
		case !ok:
			out = append(out, Difference{key, "missing"})
		case !Same(w, h):
			out = append(out, Difference{key, fmt.Sprintf("stale: %v instead of %v", h, w)})
		}
	}
	for key := range have {
		if _, ok := want[key]; !ok {
			out = append(out, Difference{key, "orphaned"})
		}
	}
	return out
}

// Same reports whether a document of an engine says what one made by SQL does. The
// database writes moments, places and what JSON has no number for in its own way.
func Same(want, have any) bool {
	switch w := want.(type) {
	case map[string]any:
		h, ok := have.(map[string]any)
		if !ok {
			return false
		}
		seen := 0
		for k, v := range w {
			other, has := h[k]
			if !has || !Same(v, other) {
				return false
			}
			seen++
		}
		if _, has := h[definition.FingerprintField]; has {
			seen++
		}
		return seen == len(h)
	case []any:
		h, ok := have.([]any)
		if !ok || len(h) != len(w) {
			return false
		}
		for i := range w {
			if !Same(w[i], h[i]) {
				return false
			}
		}
		return true
	case json.Number:
		h, ok := have.(json.Number)
		if !ok {
			_, err := w.Float64()
			return have == nil && err != nil // beyond a double
		}
		return sameNumber(w.String(), h.String())
	case string:
		return sameText(w, have)
	}
	return want == have
}

// sameNumber: engines keep a number with a fraction as a double, and write it in their own way.
func sameNumber(a, b string) bool {
	x, ok := new(big.Rat).SetString(a)
	y, too := new(big.Rat).SetString(b)
	if !ok || !too || x.Cmp(y) == 0 {
		return ok && too
	}
	first, _ := x.Float64()
	second, _ := y.Float64()
	return !x.IsInt() && !y.IsInt() && first == second
}

func sameText(w string, have any) bool {
	switch h := have.(type) {
	case nil:
		return w == "NaN" || strings.HasSuffix(strings.ToLower(w), "infinity")
	case []any: // a place, (8.5,46.5)
		if len(h) != 2 {
			return false
		}
		var longitude, latitude string
		if inner, is := strings.CutPrefix(strings.TrimSuffix(w, ")"), "("); is {
			longitude, latitude, _ = strings.Cut(inner, ",")
		}
		return sameNumber(longitude, fmt.Sprint(h[0])) && sameNumber(latitude, fmt.Sprint(h[1]))
	case string:
		return w == h || times.ReplaceAllStringFunc(w, isoTime) == h
	}
	return false
}

// times are dates and moments as the database's JSON writes them, alone or among words.
var times = regexp.MustCompile(`\b\d{4,}-\d\d-\d\d(T[0-9:.]+(\+00:00)?)?( BC)?`)

func isoTime(w string) string {
	w, before := strings.CutSuffix(w, " BC")
	if head, ok := strings.CutSuffix(w, "+00:00"); ok {
		w = head + "Z"
	}
	year, rest, _ := strings.Cut(w, "-")
	n, err := strconv.Atoi(year)
	switch {
	case err != nil:
		return w
	case before && n == 1:
		return "0000-" + rest
	case before:
		return fmt.Sprintf("-%04d-%s", n-1, rest)
	case n > 9999:
		return "+" + w
	}
	return w
}
