package change

// Claim names the process that reads a source's changes. It is stored in the source itself.
type Claim struct {
	// Service is the identity of a service, Holder one of its processes, and Epoch that
	// of the lease under which it reads. Epoch is 0 before the first claim.
	Service string `json:"service"`
	Holder  string `json:"holder"`
	Epoch   int64  `json:"epoch"`
	// Mark moves on while the holder reads. A source in which it is lower than it was is
	// an older copy of itself.
	Mark int64 `json:"mark"`
	// History names the line of history that the source is on; it changes when a copy goes
	// on on its own. Empty in sources that do not know.
	History string `json:"history"`
}

// Behind reports whether a source with this claim is an older copy of one that had another
// claim before.
func (c Claim) Behind(before Claim) bool {
	return c.Epoch < before.Epoch || c.Epoch == before.Epoch && c.Mark < before.Mark ||
		c.History != before.History && before.History != ""
}
