package reindex

// Sizer chooses how many rows a chunk has, so that each is about Target bytes of
// document whatever a row's documents weigh. The zero value is ready.
type Sizer struct {
	bytesPerRow float64
}

// Bounds of a chunk.
const (
	TargetBytes = 6 << 20
	firstRows   = 500
	maxRows     = 12000
)

// Rows is the size of the next chunk.
func (s *Sizer) Rows() int {
	if s.bytesPerRow == 0 {
		return firstRows
	}
	return max(1, min(maxRows, int(TargetBytes/s.bytesPerRow)))
}

// BytesPerRow is what a row's documents weigh; 0 when unknown.
func (s *Sizer) BytesPerRow() float64 { return s.bytesPerRow }

// Saw takes in the size of a chunk. Growth counts immediately, shrinking slowly, so that
// a few heavy rows do not meet a chunk sized by light ones.
func (s *Sizer) Saw(rows, bytes int) {
	if rows == 0 {
		return
	}
	per := float64(bytes) / float64(rows)
	if per < s.bytesPerRow {
		per = s.bytesPerRow*0.7 + per*0.3
	}
	s.bytesPerRow = max(per, 1)
}
