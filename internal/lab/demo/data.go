package demo

import (
	"context"
	_ "embed"
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/api"
)

//go:embed lodge.sql
var lodgeSQL string

// Definition is the part of the demo's definition that is about huts.
//
//go:embed huts.yaml
var Definition string

//go:embed finder.yaml
var finder string

// Files is the demo's whole definition.
func Files() []api.File {
	return []api.File{{Name: "huts.yaml", Text: Definition}, {Name: "finder.yaml", Text: finder}}
}

// On is a definition of the demo for another kind of engine.
func On(engine string, files []api.File) []api.File {
	if engine == "collections" || engine == "tasks" {
		files[0].Text = strings.Replace(files[0].Text, "    kind: opensearch\n", "    kind: "+engine+"\n    key: ${SEARCH_KEY}\n", 1)
	}
	return files
}

// Huts is how many the demo begins with.
const Huts = 2000

var (
	peaks = words(
		"Aldren Birk Corvin Dusk Eira Falk Grim Harrow Isen Jora Kestrel Lorn Marrow Nevil Orrin Pell Quarn Raven Skarn Torvel Ulm Varn Wester Yarrow Zinnel Amber Bracken Cinder Drift Ember Fallow Granite Hollow Juniper Larch",
	)
	features = words(
		"Ridge Saddle Notch Spire Terrace Hollow Basin Crag Shoulder Gully Pass Moraine Cirque Ledge Plateau",
	)
	buildings = words("Hut Hut Hut Refuge Bothy Shelter Lodge")
	regions   = words(
		"Upper-Fenn Lower-Fenn Tarn-Country Grey-Marches Sunward-Range Shade-Range Ostrel Velm Karst-of-Ansgard Long-Glacier Seven-Lakes Black-Larch Windgap Pale-Cliffs Hearth-Valley North-Comb South-Comb Ironmoor Silverbeck Old-Pastures Cloudfold Emberfell Thornwall Moonstair",
	)
	countries = words("Norrland Veldmark Aurelia Tarsen")
	firsts    = words(
		"Alva Bram Cato Dagny Edda Fenn Greta Hale Ilka Joss Kaia Lev Mira Nils Odette Per Runa Sten Tove Ulla Vera Wim Yrsa Zeno",
	)
	lasts = words(
		"Aske Brandt-Holm Carrow Dell Eken Fjord Garn Hask Ivers Jarl Krag Lind Moss Nygaard-Fell Orm Pike Rask Storr Thorn Uld Vang Wold",
	)
	offers = []string{
		"drinking water",
		"wood stove",
		"hot meals",
		"drying room",
		"solar power",
		"sauna",
		"dormitory",
		"family room",
		"rope rental",
		"sledge run",
		"library",
		"telescope",
		"rescue sled",
		"dog kennel",
		"map table",
		"gas cooker",
		"boot warmer",
		"weather board",
	}
	opening = []string{
		"Stone hut",
		"Timber hut",
		"Old shepherds' hut",
		"Small refuge",
		"Roomy hut",
		"Restored border post",
		"Wind-worn shelter",
		"Quiet hut",
	}
	setting = []string{
		"above the tree line",
		"at the edge of the glacier",
		"beside a dark tarn",
		"under the north face",
		"on a sunny terrace",
		"where two trails meet",
		"in a hanging valley",
		"below the old pass",
		"between larches",
	}
	remark = []string{
		"Good start for the long traverse.",
		"The spring behind the house never freezes.",
		"Carry out what you carry in.",
		"The last hour is steep.",
		"Reached on skis from December.",
		"Known for its morning light.",
		"The path is marked with blue stones.",
		"A rope helps on the last ledge.",
		"Bring your own blanket in winter.",
	}
	praise = []string{
		"Warm soup after a cold ridge.",
		"The stove took an hour to draw.",
		"Slept like a marmot.",
		"Fog all day, stars all night.",
		"The keeper knows every cairn.",
		"Crowded, but kind.",
		"We waited out a storm here.",
		"Best bread this side of the pass.",
		"The spring was dry in August.",
		"Snow up to the windows in May.",
		"Ibex on the terrace at dawn.",
		"Bunks creak, view does not.",
	}
	reasons = []string{
		"roof repair",
		"rockfall on the path",
		"avalanche danger",
		"water pipe frozen",
		"keeper change",
		"bridge washed away",
	}
)

func words(text string) []string {
	list := strings.Fields(text)
	for i := range list {
		list[i] = strings.ReplaceAll(list[i], "-", " ")
	}
	return list
}

func pick[T any](r *rand.Rand, list []T) T { return list[r.IntN(len(list))] }

func hutName(r *rand.Rand) string {
	return pick(r, peaks) + " " + pick(r, features) + " " + pick(r, buildings)
}

func hutSummary(r *rand.Rand) string {
	return pick(r, opening) + " " + pick(r, setting) + ". " + pick(r, remark)
}

// season is when the invented story takes place.
var season = time.Date(2031, 6, 1, 6, 0, 0, 0, time.UTC)

func hut(r *rand.Rand, id int) []any {
	var keeper, opens any
	if r.IntN(12) > 0 {
		keeper = 1 + r.IntN(keepers)
	}
	if r.IntN(5) > 0 {
		opens = season.AddDate(0, 0, r.IntN(60))
	}
	var retired any
	if r.IntN(40) == 0 {
		retired = season.AddDate(-1, 0, -r.IntN(900))
	}
	return []any{
		int64(id),
		hutName(r),
		hutSummary(r),
		900 + r.IntN(2700),
		4 + r.IntN(90),
		fmt.Sprintf("%d.%02d", 18+r.IntN(70), 50*r.IntN(2)),
		6 + r.Float64()*8,
		44 + r.Float64()*4,
		r.IntN(3) == 0,
		opens,
		1 + r.IntN(len(regions)),
		keeper,
		retired,
	}
}

const keepers = 150

var hutColumns = []string{
	"id",
	"name",
	"summary",
	"altitude_m",
	"beds",
	"night_price",
	"lon",
	"lat",
	"winter_room",
	"opens_on",
	"region_id",
	"keeper_id",
	"retired_at",
}

// Load makes the tables of lodge and fills them with a number of huts.
func Load(ctx context.Context, conn *pgx.Conn, huts int, seed int64) error {
	if _, err := conn.Exec(ctx, lodgeSQL); err != nil {
		return fmt.Errorf("making the tables of lodge: %w", err)
	}
	r := rand.New(rand.NewPCG(uint64(seed), 1))
	load := func(table string, columns []string, rows int, row func(i int) []any) error {
		_, err := conn.CopyFrom(
			ctx,
			pgx.Identifier{table},
			columns,
			pgx.CopyFromSlice(rows, func(i int) ([]any, error) { return row(i), nil }),
		)
		if err != nil {
			return fmt.Errorf("loading %s: %w", table, err)
		}
		return nil
	}
	steps := []func() error{
		func() error {
			return load(
				"regions",
				[]string{"id", "name", "country"},
				len(regions),
				func(i int) []any { return []any{i + 1, regions[i], countries[i%len(countries)]} },
			)
		},
		func() error {
			return load(
				"keepers",
				[]string{"id", "first_name", "last_name", "email", "telephone"},
				keepers,
				func(i int) []any {
					first, last := pick(r, firsts), pick(r, lasts)
					return []any{
						i + 1,
						first,
						last,
						strings.ToLower(first) + fmt.Sprint(i+1) + "@firnline.invalid",
						fmt.Sprintf("000 %04d", i),
					}
				},
			)
		},
		func() error {
			return load(
				"amenities",
				[]string{"id", "label"},
				len(offers),
				func(i int) []any { return []any{i + 1, offers[i]} },
			)
		},
		func() error { return load("huts", hutColumns, huts, func(i int) []any { return hut(r, i+1) }) },
		func() error {
			return load("hut_amenities", []string{"hut_id", "amenity_id"}, huts*4, func(i int) []any {
				return []any{int64(i/4 + 1), 1 + (i%4)*4 + r.IntN(4)}
			})
		},
		func() error {
			return load(
				"guest_notes",
				[]string{"hut_id", "author_email", "body", "written_at", "approved"},
				huts*3,
				func(i int) []any {
					return []any{
						int64(1 + r.IntN(huts)),
						fmt.Sprintf("guest%d@firnline.invalid", i),
						pick(r, praise),
						season.Add(-time.Duration(r.IntN(900*24*60)) * time.Minute),
						r.IntN(5) > 0,
					}
				},
			)
		},
		func() error {
			return load(
				"closures",
				[]string{"hut_id", "starts_on", "ends_on", "reason"},
				huts/8,
				func(i int) []any {
					start := season.AddDate(0, 0, r.IntN(200))
					return []any{
						int64(1 + r.IntN(huts)),
						start,
						start.AddDate(0, 0, 1+r.IntN(20)),
						pick(r, reasons),
					}
				},
			)
		},
	}
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	_, err := conn.Exec(ctx, "ANALYZE")
	return err
}

// Changes makes up changes to lodge, each to one row.
type Changes struct {
	r    *rand.Rand
	huts int
	next int
}

// NewChanges begins a series of changes to a number of huts; huts that open get numbers
// from next on.
func NewChanges(huts, next int, seed int64) *Changes {
	return &Changes{rand.New(rand.NewPCG(uint64(seed), 2)), huts, next}
}

// Make carries out one change and says what it was.
func (c *Changes) Make(ctx context.Context, conn *pgx.Conn) (string, error) {
	r := c.r
	id := 1 + r.IntN(c.huts)
	exec := func(what, sql string, args ...any) (string, error) {
		tag, err := conn.Exec(ctx, sql, args...)
		if err == nil && tag.RowsAffected() == 0 {
			return c.Make(ctx, conn) // that hut has no such row; change another
		}
		return what, err
	}
	switch n := r.IntN(100); {
	case n < 25:
		return exec(
			fmt.Sprintf("a guest wrote about hut %d", id),
			"INSERT INTO guest_notes (hut_id, author_email, body, written_at, approved) VALUES ($1, 'guest@firnline.invalid', $2, $3, true)",
			id,
			pick(r, praise),
			season.Add(time.Duration(r.IntN(10000))*time.Minute),
		)
	case n < 40:
		return exec(
			fmt.Sprintf("hut %d has another night price", id),
			"UPDATE huts SET night_price = night_price + 0.5 WHERE id = $1",
			id,
		)
	case n < 52:
		return exec(
			fmt.Sprintf("hut %d got another summary", id),
			"UPDATE huts SET summary = $2 WHERE id = $1 AND summary IS DISTINCT FROM $2",
			id,
			hutSummary(r),
		)
	case n < 60:
		return exec(
			fmt.Sprintf("a note about hut %d was approved or hidden", id),
			"UPDATE guest_notes SET approved = NOT approved WHERE id = (SELECT min(id) FROM guest_notes WHERE hut_id = $1)",
			id,
		)
	case n < 68:
		return exec(
			fmt.Sprintf("hut %d offers something new", id),
			"INSERT INTO hut_amenities VALUES ($1, $2) ON CONFLICT DO NOTHING",
			id,
			1+r.IntN(len(offers)),
		)
	case n < 74:
		return exec(
			fmt.Sprintf("hut %d stopped offering something", id),
			"DELETE FROM hut_amenities WHERE (hut_id, amenity_id) = (SELECT hut_id, amenity_id FROM hut_amenities WHERE hut_id = $1 ORDER BY amenity_id LIMIT 1)",
			id,
		)
	case n < 80:
		return exec(
			fmt.Sprintf("hut %d moved to another region", id),
			"UPDATE huts SET region_id = region_id % $2 + 1 WHERE id = $1",
			id,
			len(regions),
		)
	case n < 85:
		return exec(
			fmt.Sprintf("hut %d is closed for a while", id),
			"INSERT INTO closures (hut_id, starts_on, ends_on, reason) VALUES ($1, $2, $2::date + 5, $3)",
			id,
			season.AddDate(0, 0, r.IntN(90)),
			pick(r, reasons),
		)
	case n < 89:
		return exec(
			fmt.Sprintf("hut %d retired or came back", id),
			"UPDATE huts SET retired_at = CASE WHEN retired_at IS NULL THEN now() END WHERE id = $1",
			id,
		)
	case n < 93:
		keeper := 1 + r.IntN(keepers)
		return exec(
			fmt.Sprintf("keeper %d changed names", keeper),
			"UPDATE keepers SET last_name = $2 WHERE id = $1 AND last_name <> $2",
			keeper,
			pick(r, lasts),
		)
	case n < 97:
		c.next++
		row := hut(r, c.next-1)
		row[12] = nil
		return exec(
			fmt.Sprintf("hut %d opened", c.next-1),
			"INSERT INTO huts ("+strings.Join(
				hutColumns,
				", ",
			)+") VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)",
			row...)
	default:
		return exec(
			fmt.Sprintf("a note about hut %d was deleted", id),
			"DELETE FROM guest_notes WHERE id = (SELECT max(id) FROM guest_notes WHERE hut_id = $1)",
			id,
		)
	}
}
