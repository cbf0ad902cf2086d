package drift

import (
	"slices"
	"time"
)

// Coverage is how much of an edition was compared with its rows, and when. A sweep goes round: first through
// all documents of the engine, for those that have no row, then through all rows in the order of their
// keys, a segment at a time.
type Coverage struct {
	Round int `json:"round"`
	// Scanned is when the engine's documents were last looked up in the source. Looked: it is known in this
	// round which there are.
	Scanned *time.Time `json:"scanned,omitempty"`
	Looked  bool       `json:"looked,omitempty"`
	// Tree and After are where the round goes on.
	Tree  int      `json:"tree"`
	After []string `json:"after,omitempty"`
	// Done are the segments of this round, and Before those of the one before that this one has not come to.
	Done   []Segment `json:"done,omitempty"`
	Before []Segment `json:"before,omitempty"`
}

// Segment is a range of rows that was compared.
type Segment struct {
	Tree int `json:"tree"`
	// Upto is its last key; nil at the end of its tree.
	Upto []string `json:"upto,omitempty"`
	Rows int64    `json:"rows"`
	// Differing documents were found, and Unsettled ones, whose state could not be determined.
	Differing int64     `json:"differing,omitempty"`
	Unsettled int64     `json:"unsettled,omitempty"`
	At        time.Time `json:"at"`
	// Content is the share of documents whose whole content was compared, not only their fingerprint.
	Content float64 `json:"content,omitempty"`
}

// Segments is the number of segments of a round.
const Segments = 128

// SegmentRows is the number of rows of a segment, if an index has a number of rows.
func SegmentRows(rows int64) int { return int(max(100, (rows+Segments-1)/Segments)) }

// Restart begins another round, with what this one has not come to taken for what it was.
func (c *Coverage) Restart() {
	c.Before, c.Done, c.Tree, c.After, c.Looked = c.All(), nil, 0, nil, false
}

// List notes that the engine's documents are known in this round.
func (c *Coverage) List() { c.Looked = true }

// Scan notes that a lookup of all of them in the source began at a time.
func (c *Coverage) Scan(at time.Time) { c.Scanned = &at }

// Took takes in a segment of an index with a number of trees. It reports whether the round is over.
func (c *Coverage) Took(s Segment, trees int) bool {
	s.Tree = c.Tree
	c.Done = append(c.Done, s)
	c.Before = rest(c.Before, s.Rows)
	if c.After = s.Upto; s.Upto != nil {
		return false
	}
	if c.Tree++; c.Tree < trees {
		return false
	}
	c.Before, c.Done, c.Tree, c.Looked, c.Round = c.Done, nil, 0, false, c.Round+1
	return true
}

// rest leaves a number of rows out of segments. Their keys are in no order that is known here, so rows represent
// them: those that came or went in between shift what was proven a little.
func rest(list []Segment, rows int64) []Segment {
	list = slices.Clone(list)
	for len(list) > 0 && rows >= list[0].Rows {
		rows -= list[0].Rows
		list = list[1:]
	}
	if len(list) > 0 {
		list[0].Rows -= rows
		list[0].Differing, list[0].Unsettled = min(
			list[0].Differing,
			list[0].Rows,
		), min(
			list[0].Unsettled,
			list[0].Rows,
		)
	}
	return list
}

// All are the segments as they are known now, in the order of keys.
func (c *Coverage) All() []Segment { return append(slices.Clone(c.Done), c.Before...) }

// Proven is the share of an index's rows whose documents were found to match them since a
// time, where some still differ; it is 0 unless the documents of the engine were listed since then as well.
func (c *Coverage) Proven(rows, differing int64, since time.Time) float64 {
	if c.Scanned == nil || c.Scanned.Before(since) {
		return 0
	}
	var proven, known int64
	for _, s := range c.All() {
		known += s.Rows
		if !s.At.Before(since) {
			proven += s.Rows - s.Unsettled
		}
	}
	proven = max(0, proven-differing)
	if rows = max(rows, known); rows == 0 {
		if len(c.All()) > 0 {
			return 1 // an empty index was compared, and nothing in it can differ
		}
		return 0
	}
	return float64(proven) / float64(rows)
}

// Content is the share of the compared documents whose whole content was compared.
func (c *Coverage) Content() float64 {
	var rows, whole float64
	for _, s := range c.All() {
		n := float64(max(1, s.Rows))
		rows, whole = rows+n, whole+n*s.Content
	}
	if rows == 0 {
		return 0
	}
	return whole / rows
}

// Checked is when all rows and documents were last looked at: the time of the oldest segment of a whole
// round; nil before there was one.
func (c *Coverage) Checked() *time.Time {
	if c.Round == 0 || c.Scanned == nil {
		return nil
	}
	oldest := *c.Scanned
	for _, s := range c.All() {
		if s.At.Before(oldest) {
			oldest = s.At
		}
	}
	return &oldest
}
