package standin

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
)

// searchRequest is the body of a search, read.
type searchRequest struct {
	query      any // nil for everything
	from, size int
	sort       []sortKey
	after      []any
	source     any
	facets     map[string]facet
	pit        string
	keepAlive  string
}

type facet struct {
	path string
	size int
}

type sortKey struct {
	path      string
	down      bool
	gapsFirst bool
}

// readObject reads a JSON object as the server's parser does; an empty body is one, too.
func readObject(body []byte) (object, error) {
	if len(bytes.TrimSpace(body)) == 0 {
		return object{}, nil
	}
	decoder := json.NewDecoder(bytes.NewReader(body))
	decoder.UseNumber()
	var v any
	if err := decoder.Decode(&v); err != nil {
		kind := "json_parse_exception"
		if errors.Is(err, io.ErrUnexpectedEOF) {
			kind = "json_e_o_f_exception"
		}
		return nil, &apiError{400, kind, err.Error(), nil}
	}
	o, ok := v.(object)
	if !ok {
		return nil, badQuery("Expected [START_OBJECT] but found [START_ARRAY]")
	}
	return o, nil
}

func readSearch(body []byte) (*searchRequest, error) {
	o, err := readObject(body)
	if err != nil {
		return nil, err
	}
	r := &searchRequest{size: 10, facets: map[string]facet{}}
	number := func(name string, into *int) error {
		v, has := o[name]
		if !has {
			return nil
		}
		n, ok := v.(json.Number)
		i, err := n.Int64()
		if !ok || err != nil {
			return badNumber(fmt.Sprint(v))
		}
		if i < 0 {
			return &apiError{
				400,
				"illegal_argument_exception",
				fmt.Sprintf("[%s] parameter cannot be negative, found [%d]", name, i),
				nil,
			}
		}
		*into = int(i)
		return nil
	}
	if err := errors.Join(number("from", &r.from), number("size", &r.size)); err != nil {
		var api *apiError
		errors.As(err, &api)
		return nil, api
	}
	for name, v := range o {
		switch name {
		case "from", "size", "timeout", "min_score", "version", "explain", "stored_fields":
		case "query":
			r.query = v
		case "sort":
			if r.sort, err = readSort(v); err != nil {
				return nil, err
			}
		case "search_after":
			r.after, _ = v.([]any)
		case "_source":
			r.source = v
		case "track_total_hits":
			if text, is := v.(string); is && text != "true" && text != "false" {
				return nil, badNumber(text)
			}
		case "pit":
			p, _ := v.(object)
			r.pit, _ = p["id"].(string)
			r.keepAlive, _ = p["keep_alive"].(string)
		case "aggs", "aggregations":
			if err := r.readFacets(v); err != nil {
				return nil, err
			}
		default:
			return nil, badQuery("Unknown key for a VALUE_NUMBER in [%s].", name)
		}
	}
	return r, nil
}

func readSort(v any) ([]sortKey, error) {
	list, ok := v.([]any)
	if !ok {
		list = []any{v}
	}
	var out []sortKey
	for _, item := range list {
		switch item := item.(type) {
		case string:
			out = append(out, sortKey{path: item, down: item == "_score"})
		case object:
			for path, how := range item {
				key := sortKey{path: path, down: path == "_score"}
				o, long := how.(object)
				if !long {
					o = object{"order": how}
				}
				for name, v := range o {
					switch name {
					case "order":
						if v != "asc" && v != "desc" {
							return nil, &apiError{400, "x_content_parse_exception", "[field_sort] failed to parse field [order]",
								&apiError{kind: "illegal_argument_exception", reason: fmt.Sprintf("No enum constant of SortOrder.%v", v)}}
						}
						key.down = v == "desc"
					case "missing":
						key.gapsFirst = v == "_first"
					case "mode", "unmapped_type", "numeric_type", "format":
					default:
						return nil, &apiError{400, "x_content_parse_exception", fmt.Sprintf("[field_sort] unknown field [%s]", name), nil}
					}
				}
				out = append(out, key)
			}
		}
	}
	return out, nil
}

func (r *searchRequest) readFacets(v any) error {
	all, _ := v.(object)
	for name, what := range all {
		kinds, _ := what.(object)
		for kind, v := range kinds {
			if kind != "terms" {
				return &apiError{400, "parsing_exception", fmt.Sprintf("Unknown aggregation type [%s]", kind),
					&apiError{
						kind:   "named_object_not_found_exception",
						reason: fmt.Sprintf("unknown field [%s]", kind),
					}}
			}
			o, _ := v.(object)
			path, ok := o["field"].(string)
			if !ok {
				return &apiError{
					400,
					"illegal_argument_exception",
					"Required one of fields [field, script], but none were specified. ",
					nil,
				}
			}
			f := facet{path, 10}
			if size, has := o["size"].(json.Number); has {
				n, _ := size.Int64()
				if n < 1 {
					return &apiError{400, "x_content_parse_exception", "[terms] failed to parse field [size]",
						&apiError{
							kind:   "illegal_argument_exception",
							reason: fmt.Sprintf("[size] must be greater than 0. Found [%d] in [%s]", n, name),
						}}
				}
				f.size = int(n)
			}
			r.facets[name] = f
		}
	}
	return nil
}

const notForWords = "Text fields are not optimised for operations that require per-document field data like aggregations and sorting, so these operations are disabled by default. Please use a keyword field instead. Alternatively, set fielddata=true on [%s] in order to load field data by uninverting the inverted index. Note that this can use significant memory."

// check refuses what the index's fields cannot do; the caller holds the index's lock.
func (r *searchRequest) check(ix *index) error {
	window := 10000
	if n, err := parseInt(ix.settings["max_result_window"]); err == nil {
		window = n
	}
	illegal := func(format string, args ...any) error { return atShard("illegal_argument_exception", format, args...) }
	switch {
	case r.from+r.size > window:
		return illegal(
			"Result window is too large, from + size must be less than or equal to: [%d] but was [%d]. See the scroll api for a more efficient way to request large data sets.",
			window,
			r.from+r.size,
		)
	case r.after != nil && len(r.sort) == 0:
		return illegal("Sort must contain at least one field.")
	case r.after != nil && len(r.after) != len(r.sort):
		return illegal("search_after has %d value(s) but sort has %d.", len(r.after), len(r.sort))
	case r.after != nil && r.from > 0:
		err := atShard("search_exception", "`from` parameter must be set to 0 when `search_after` is used.").(*apiError)
		err.status = 500
		return err
	}
	for _, k := range r.sort {
		if k.path == "_id" || k.path == "_score" || k.path == "_doc" {
			continue
		}
		switch f := ix.mapping.at(k.path); {
		case f == nil || !f.leaf():
			return atShard("query_shard_exception", "No mapping found for [%s] in order to sort on", k.path)
		case f.Type == "text":
			return illegal(notForWords, k.path)
		case f.Type == "geo_point":
			return illegal(
				"can't sort on geo_point field without using specific sorting feature, like geo_distance",
			)
		}
	}
	for _, a := range r.facets {
		if f := ix.mapping.at(a.path); f != nil && f.Type == "text" {
			return illegal(notForWords, a.path)
		} else if f != nil && f.Type == "geo_point" {
			return illegal("Field [%s] of type [geo_point] is not supported for aggregation [terms]", a.path)
		}
	}
	return nil
}
