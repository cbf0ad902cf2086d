package webhook

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/tidwall/gjson"

	"pingo/internal/source"
	"pingo/internal/source/intake"
)

// mostEvents bounds a batch.
const mostEvents = 20_000

// split takes the events of a request apart: CloudEvents 1.0, structured, binary or batched, or
// plain JSON, one object or a list of them. reason says why it cannot.
func split(r *source.Request) (events []json.RawMessage, cloud bool, reason string) {
	kind, parameters, err := mime.ParseMediaType(header(r, "content-type"))
	if err != nil {
		kind = ""
	}
	if charset := parameters["charset"]; charset != "" && !strings.EqualFold(charset, "utf-8") {
		return nil, false, fmt.Sprintf("the charset %s is not taken; send UTF-8", charset)
	}
	switch {
	case kind == "application/cloudevents-batch+json":
		return list(r.Body, true)
	case kind == "application/cloudevents+json":
		events, reason = one(r.Body)
		return events, true, reason
	case header(r, "ce-specversion") != "":
		event, err := binary(r, kind)
		if err != nil {
			return nil, true, err.Error()
		}
		return []json.RawMessage{event}, true, ""
	case len(bytes.TrimSpace(r.Body)) == 0:
		return []json.RawMessage{nil}, false, ""
	case kind != "" && !isJSON(kind):
		return nil, false, fmt.Sprintf(
			"the content type %s is none that is read: send application/json, or CloudEvents",
			kind,
		)
	case bytes.HasPrefix(bytes.TrimSpace(r.Body), []byte("[")):
		return list(r.Body, false)
	}
	events, reason = one(r.Body)
	return events, false, reason
}

func list(body []byte, cloud bool) ([]json.RawMessage, bool, string) {
	if err := wellFormed(body); err != nil {
		return nil, cloud, "the body is no list of JSON objects: " + err.Error()
	}
	of := gjson.ParseBytes(body)
	if !of.IsArray() {
		return nil, cloud, "the body is no list of JSON objects"
	}
	var events []json.RawMessage
	of.ForEach(func(_, event gjson.Result) bool {
		events = append(events, body[event.Index:event.Index+len(event.Raw)])
		return len(events) <= mostEvents
	})
	if len(events) > mostEvents {
		return nil, cloud, fmt.Sprintf(
			"the request has more than %d events: send fewer in a request",
			mostEvents,
		)
	}
	return events, cloud, ""
}

func one(body []byte) ([]json.RawMessage, string) {
	if err := wellFormed(body); err != nil {
		return nil, "the body is no JSON: " + err.Error()
	}
	return []json.RawMessage{bytes.TrimSpace(body)}, ""
}

// wellFormed says what is wrong with a text that is no JSON.
func wellFormed(text []byte) error {
	if json.Valid(text) { // which is sooner known than what is wrong
		return nil
	}
	var any json.RawMessage
	return json.Unmarshal(text, &any)
}

// binary puts the headers of a CloudEvent, whose data is the body, into the structured form.
func binary(r *source.Request, kind string) (json.RawMessage, error) {
	event := map[string]any{}
	for name, values := range r.Header {
		attribute, is := strings.CutPrefix(strings.ToLower(name), "ce-")
		if !is || len(values) == 0 || attribute == "data" || attribute == "data_base64" {
			continue // the data is the body
		}
		text, err := url.PathUnescape(values[0])
		if err != nil || !utf8.ValidString(text) {
			return nil, fmt.Errorf("the header %s cannot be read", strings.ToLower(name))
		}
		event[attribute] = text
	}
	switch {
	case len(r.Body) == 0:
	case kind == "" || isJSON(kind):
		if !json.Valid(r.Body) {
			return nil, errors.New("the body is no JSON, though the content type says so")
		}
		event["data"] = json.RawMessage(r.Body)
	default:
		event["datacontenttype"] = kind
		event["data_base64"] = base64.StdEncoding.EncodeToString(r.Body)
	}
	return json.Marshal(event)
}

// read reads one event. What could be read of it is returned with an error, too.
func (h *Hook) read(text json.RawMessage, cloud bool, path, method string) (intake.Event, error) {
	var e intake.Event
	recordName, key, _ := strings.Cut(path, "/")
	event := parse(text)
	if cloud {
		if err := required(&event, &e); err != nil {
			return e, err
		}
		if err := decodeData(&event); err != nil {
			return e, err
		}
	}
	r, op, err := h.recordOf(&event, recordName)
	if err != nil {
		return e, err
	}
	e.Record = r.name
	pointer := func(given *string, ofCloud string) *string {
		if given == nil && cloud {
			return &ofCloud
		}
		return given
	}
	if key != "" {
		e.Key = key
	} else if p := pointer(r.Key, "/subject"); p != nil {
		value, err := event.at(*p)
		if err == nil {
			e.Key, err = keyText(value)
		}
		if err != nil {
			return e, fmt.Errorf("the key at %q %w", *p, err)
		}
	} else {
		return e, fmt.Errorf("the event has no key: give record %s a key: pointer, or send to …/%s/KEY", r.name, r.name)
	}
	if len(e.Key) > intake.LongestKey || e.Key == "" || strings.Contains(e.Key, "\x00") {
		return e, fmt.Errorf("a key has 1 to %d bytes, and no NUL", intake.LongestKey)
	}
	if p := pointer(r.Version, "/time"); p != nil {
		value, err := event.at(*p)
		switch {
		case err == nil:
			if e.Version, err = h.version(value); err != nil {
				return e, fmt.Errorf("the version at %q %w", *p, err)
			}
		case r.Version != nil: // the definition says that it has one
			return e, fmt.Errorf("the version at %q %w", *p, err)
		}
	}
	if op == intake.Deleted || method == http.MethodDelete {
		e.Op = intake.Deleted
		return e, nil
	}
	whole := ""
	body := &whole
	if p := pointer(r.Body, "/data"); p != nil {
		body = p
	}
	var value json.RawMessage
	if len(text) > 0 {
		value, err = event.at(*body)
	}
	empty := err != nil || len(value) == 0 || string(value) == "null"
	switch {
	case empty && r.Fetch != nil:
		e.Op = bare
		return e, nil
	case len(text) == 0: // of plain JSON; nothing else without a word for it deletes
		e.Op = intake.Deleted
		return e, nil
	case empty:
		return e, fmt.Errorf("there is no record at %q, and the event does not say that it was deleted: name its type under types: deleted, or send DELETE", *body)
	case value[0] != '{':
		return e, fmt.Errorf("the record at %q is no JSON object", *body)
	}
	e.Op, e.Body = op, value
	schema := r.whole
	if op == intake.Merged {
		schema = r.patch
	}
	return e, r.violation(schema, e.Body)
}

// decodeData puts the data of a CloudEvent that is in Base64 where other data is. It must be JSON then, too.
func decodeData(event *object) error {
	encoded, is := event.top["data_base64"]
	if !is || string(bytes.TrimSpace(encoded)) == "null" {
		return nil
	}
	if _, both := event.top["data"]; both {
		return errors.New("the CloudEvent has both data and data_base64")
	}
	text, is := textOf(bytes.TrimSpace(encoded))
	data, err := base64.StdEncoding.DecodeString(text)
	if !is || err != nil {
		return errors.New("data_base64 is no Base64")
	}
	kind, _ := textOf(event.top["datacontenttype"])
	if parsed, _, err := mime.ParseMediaType(kind); err == nil {
		kind = parsed
	}
	if kind != "" && kind != "application/octet-stream" && !isJSON(kind) {
		return fmt.Errorf("the data is %s, and records are JSON", kind)
	}
	if len(data) > 0 && !json.Valid(data) {
		return errors.New("the data is no JSON, and records are JSON")
	}
	if len(data) > 0 {
		event.top["data"] = data
	}
	return nil
}

func isJSON(kind string) bool {
	return kind == "application/json" || kind == "text/json" || strings.HasSuffix(kind, "+json")
}

// required checks what every CloudEvent has, and takes its name: the one that it has within its
// source.
func required(event *object, e *intake.Event) error {
	text := func(name string) string {
		s, _ := textOf(event.top[name]) // empty when it is no text
		return s
	}
	if v := text("specversion"); v != "1.0" {
		return fmt.Errorf("the CloudEvent is of version %q; 1.0 is read", v)
	}
	id, source := text("id"), text("source")
	if id == "" || source == "" || text("type") == "" {
		return errors.New("a CloudEvent has an id, a source and a type")
	}
	e.ID = source + " " + id
	return nil
}

// recordOf finds which record an event is of, and what it says of it. Of several patterns that
// fit its type, the longest counts.
func (h *Hook) recordOf(event *object, name string) (*record, intake.Op, error) {
	var found *record
	var means intake.Op
	longest := -1
	for _, r := range h.records {
		if name != "" && name != r.name {
			continue
		}
		pointer := "/type"
		if r.Type != nil {
			pointer = *r.Type
		}
		kind := ""
		if value, err := event.at(pointer); err == nil {
			kind, _ = textOf(value) // of another type than text it is no type
		}
		if r.Types == nil && (name != "" || len(h.records) == 1) {
			return r, said(kind), nil
		}
		for op, patterns := range r.Types {
			for _, pattern := range patterns {
				start, open := strings.CutSuffix(pattern, "*")
				if (kind == pattern || open && strings.HasPrefix(kind, start)) && len(pattern) > longest {
					found, means, longest = r, op, len(pattern)
				}
			}
		}
		if name != "" && found == nil {
			if kind == "" { // plain JSON, or DELETE: the path says what it is of
				return r, intake.Updated, nil
			}
			return nil, "", fmt.Errorf("the type %q is none of those that record %s has", kind, name)
		}
	}
	switch {
	case found != nil:
		return found, means, nil
	case name != "":
		return nil, "", fmt.Errorf(
			"the source has no record %q: it has %s",
			name,
			strings.Join(h.names(), ", "),
		)
	}
	return nil, "", fmt.Errorf(
		"the event's type matches no record of the source (%s): add it under types, or send to …/RECORD",
		strings.Join(h.names(), ", "),
	)
}

// said is what the last word of a type says, updated where it says nothing.
func said(kind string) intake.Op {
	parts := strings.FieldsFunc(
		strings.ToLower(kind),
		func(r rune) bool { return r == '.' || r == '/' || r == ':' || r == '_' || r == '-' },
	)
	if len(parts) == 0 {
		return intake.Updated
	}
	switch parts[len(parts)-1] {
	case "created", "create", "insert", "inserted", "added":
		return intake.Created
	case "deleted", "delete", "removed", "remove":
		return intake.Deleted
	case "merged", "merge", "patched", "patch":
		return intake.Merged
	}
	return intake.Updated
}

// loaded reads a row of a file, which is the body of a record. Pointers into the body
// of an event lead there without it.
func (h *Hook) loaded(r *record, body json.RawMessage) (intake.Event, error) {
	var e intake.Event
	if len(body) == 0 || body[0] != '{' {
		return e, errors.New("the row is no JSON object")
	}
	inBody := func(pointer *string) (string, bool) {
		if pointer == nil {
			return "", false
		}
		prefix := "/data"
		if r.Body != nil {
			prefix = *r.Body
		}
		return strings.CutPrefix(*pointer, prefix)
	}
	pointer, is := inBody(r.Key)
	if !is {
		pointer = "/id"
	}
	value, err := at(body, pointer)
	if err == nil {
		e.Key, err = keyText(value)
	}
	if err != nil {
		return e, fmt.Errorf("the key at %q %w", pointer, err)
	}
	if len(e.Key) > intake.LongestKey || e.Key == "" || strings.Contains(e.Key, "\x00") {
		return e, fmt.Errorf("a key has 1 to %d bytes, and no NUL", intake.LongestKey)
	}
	if pointer, is := inBody(r.Version); is {
		if value, err := at(body, pointer); err == nil {
			if e.Version, err = h.version(value); err != nil {
				return e, fmt.Errorf("the version at %q %w", pointer, err)
			}
		}
	}
	e.Op, e.Body = intake.Updated, body
	return e, r.violation(r.whole, r.typed(body)) // cells of a table are texts
}

// textOf is the text that a JSON value is; false when it is none.
func textOf(value json.RawMessage) (s string, is bool) {
	if len(value) < 2 || value[0] != '"' {
		return "", false
	}
	inner := value[1 : len(value)-1]
	if bytes.IndexByte(inner, '\\') < 0 && utf8.Valid(inner) {
		return string(inner), true // as nearly all are
	}
	return s, json.Unmarshal(value, &s) == nil
}

// object is a JSON value whose properties, if it has some, were read once.
type object struct {
	text json.RawMessage
	top  map[string]json.RawMessage
}

// parse reads the properties of a text that is JSON, or empty.
func parse(text json.RawMessage) object {
	o := object{text: text}
	if v := gjson.ParseBytes(text); v.IsObject() { // what is none has no properties
		o.top = map[string]json.RawMessage{}
		v.ForEach(func(name, value gjson.Result) bool {
			o.top[name.String()] = text[value.Index : value.Index+len(value.Raw)]
			return true
		})
	}
	return o
}

// at follows a JSON Pointer.
func (o *object) at(pointer string) (json.RawMessage, error) {
	if o.top == nil || pointer == "" {
		return at(o.text, pointer)
	}
	token, rest, more := strings.Cut(strings.TrimPrefix(pointer, "/"), "/")
	next := o.top[unescape.Replace(token)]
	switch {
	case next == nil:
		return nil, errNothing
	case more:
		return at(next, "/"+rest)
	}
	return bytes.TrimSpace(next), nil
}

var unescape = strings.NewReplacer("~1", "/", "~0", "~")

var errNothing = errors.New("is not there")

// at follows a JSON Pointer (RFC 6901).
func at(text json.RawMessage, pointer string) (json.RawMessage, error) {
	if pointer == "" {
		if len(text) == 0 {
			return nil, errNothing
		}
		return bytes.TrimSpace(text), nil
	}
	for token := range strings.SplitSeq(strings.TrimPrefix(pointer, "/"), "/") {
		token = unescape.Replace(token)
		text = bytes.TrimSpace(text)
		var next json.RawMessage
		switch {
		case len(text) > 0 && text[0] == '{':
			var object map[string]json.RawMessage
			if err := json.Unmarshal(text, &object); err != nil {
				return nil, errNothing
			}
			next = object[token]
		case len(text) > 0 && text[0] == '[':
			var items []json.RawMessage
			i, err := strconv.Atoi(token)
			if json.Unmarshal(text, &items) != nil || err != nil || i < 0 || i >= len(items) ||
				strconv.Itoa(i) != token {
				return nil, errNothing
			}
			next = items[i]
		}
		if next == nil {
			return nil, errNothing
		}
		text = next
	}
	return bytes.TrimSpace(text), nil
}

// keyText is the text of a key: that of a text or whole number.
func keyText(value json.RawMessage) (string, error) {
	if s, is := textOf(value); is {
		return s, nil
	}
	if !wholeNumber.Match(value) {
		return "", errors.New("is no text or whole number")
	}
	return string(value), nil
}

var (
	wholeNumber = regexp.MustCompile(`^-?[0-9]{1,40}$`)
	anyNumber   = regexp.MustCompile(`^-?[0-9]{1,40}(\.[0-9]{1,40})?$`)
)

// version is a number that orders versions: a number as it is, or a time in nanoseconds. A time that lies too far in the
// future is refused, since no later event could replace it.
func (h *Hook) version(value json.RawMessage) (string, error) {
	text, is := textOf(value)
	if !is {
		text = string(value)
	}
	if t, err := time.Parse(time.RFC3339Nano, text); err == nil {
		if now := time.Now(); t.After(now.Add(h.future)) {
			return "", fmt.Errorf("is %s, which is more than %s after the clock here (%s): correct the sender's clock, or raise max_future",
				text, strings.TrimSuffix(h.future.String(), "0s"), now.UTC().Format(time.RFC3339))
		}
		return fmt.Sprintf("%d%09d", t.Unix(), t.Nanosecond()), nil
	}
	if !anyNumber.MatchString(text) {
		return "", errors.New("is no number and no time as RFC 3339 has it")
	}
	return text, nil
}
