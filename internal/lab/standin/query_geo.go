package standin

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
)

// geoField finds the field that a query about places names, next to options.
func (c *compiler) geoField(b object, known ...string) (*field, any, error) {
	for path, v := range b {
		if slices.Contains(known, path) {
			continue
		}
		f := c.ix.mapping.at(path)
		if f == nil {
			return nil, nil, atShard("query_shard_exception", "failed to find geo field [%s]", path)
		}
		if f.Type != "geo_point" {
			return nil, nil, atShard(
				"query_shard_exception",
				"type [%s] for field [%s] is not supported",
				f.Type,
				path,
			)
		}
		return f, v, nil
	}
	return nil, nil, badQuery("geo query without a field")
}

func place(v any) (lat, lon float64, err error) {
	raw, err := json.Marshal(v)
	if err != nil {
		return 0, 0, err
	}
	lat, lon, why := parsePlace(raw, "")
	if why != nil {
		return 0, 0, atShard("query_shard_exception", "couldn't validate latitude/ longitude values")
	}
	return lat, lon, nil
}

func (f *field) where(keep func(lat, lon float64) bool) query {
	return places(f, func(t *terms, each func(int)) {
		for i, k := range t.keys {
			if keep(doubleOf(k[:8]), doubleOf(k[8:])) {
				each(i)
			}
		}
	})
}

var metres = map[string]float64{
	"":           1,
	"m":          1,
	"km":         1000,
	"mi":         1609.344,
	"yd":         0.9144,
	"ft":         0.3048,
	"in":         0.0254,
	"cm":         0.01,
	"mm":         0.001,
	"NM":         1852,
	"nmi":        1852,
	"miles":      1609.344,
	"kilometers": 1000,
	"meters":     1,
}

func (c *compiler) near(b object) (query, error) {
	written, has := b["distance"]
	if !has {
		return nil, badQuery("geo_distance requires 'distance' to be specified")
	}
	text := fmt.Sprint(written)
	number := strings.TrimRight(text, "abcdefghijklmnopqrstuvwxyzNM")
	distance, err := strconv.ParseFloat(number, 64)
	unit, known := metres[strings.TrimSpace(text[len(number):])]
	if err != nil || !known {
		return nil, badNumber(text)
	}
	f, v, err := c.geoField(b, "distance", "distance_type", "boost", "_name", "validation_method")
	if err != nil {
		return nil, err
	}
	lat, lon, err := place(v)
	if err != nil {
		return nil, err
	}
	return f.where(func(a, o float64) bool { return arc(lat, lon, a, o) <= distance*unit }), nil
}

// arc is the distance of two places in metres, on a sphere (the haversine formula).
func arc(lat1, lon1, lat2, lon2 float64) float64 {
	const radius, degree = 6371008.7714, math.Pi / 180
	h := math.Pow(math.Sin((lat2-lat1)*degree/2), 2) +
		math.Cos(lat1*degree)*math.Cos(lat2*degree)*math.Pow(math.Sin((lon2-lon1)*degree/2), 2)
	return 2 * radius * math.Asin(math.Sqrt(min(1, h)))
}

func (c *compiler) inside(b object) (query, error) {
	f, v, err := c.geoField(b, "boost", "_name", "type", "validation_method", "ignore_unmapped")
	if err != nil {
		return nil, err
	}
	box, _ := v.(object)
	top, left, err := place(box["top_left"])
	if err != nil {
		return nil, err
	}
	bottom, right, err := place(box["bottom_right"])
	if err != nil {
		return nil, err
	}
	if top < bottom {
		return nil, &apiError{
			400,
			"illegal_argument_exception",
			fmt.Sprintf("top is below bottom corner: %s vs. %s", float(top), float(bottom)),
			nil,
		}
	}
	return f.where(func(lat, lon float64) bool {
		across := lon >= left && lon <= right
		if left > right {
			across = lon >= left || lon <= right
		}
		return across && lat >= bottom && lat <= top
	}), nil
}
