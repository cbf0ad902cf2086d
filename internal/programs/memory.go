package programs

import (
	"fmt"
	"runtime/debug"

	"github.com/KimMachineGun/automemlimit/memlimit"
	"github.com/dustin/go-humanize"

	"pingo/internal/cli"
)

const (
	usualMemory = 256_000_000
	leastMemory = 96_000_000
)

// memory is the target for the memory of a service, in bytes: what the flag says, or else the default, or four fifths of what its
// control group may have where that is less.
func memory(said string) (int64, error) {
	if said == "" {
		most := int64(usualMemory)
		if group, err := memlimit.FromCgroup(); err == nil { // else there is none
			most = min(most, int64(min(group, usualMemory*2))/5*4)
		}
		return max(most, leastMemory), nil
	}
	n, err := humanize.ParseBytes(said)
	if err != nil || n < leastMemory || n > 1<<50 {
		return 0, cli.UsageError{Err: fmt.Errorf(
			"--memory is a size such as 256MB, and at least %s, not %q", humanize.Bytes(leastMemory), said,
		)}
	}
	return int64(n), nil
}

// keepTo makes the garbage collector work harder before the process grows beyond a number of bytes. Some of them are
// for what it does not know of, and for when it is late.
func keepTo(bytes int64) { debug.SetMemoryLimit(bytes / 10 * 7) }
