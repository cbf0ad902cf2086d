package flow

import (
	"fmt"
	"os"
	"strings"
)

// network names the network that addresses of this process belong to, until the machine is
// started again: of two processes in it, one at most listens at an address. Containers on
// one machine have networks of their own, and may all listen at the same address. Where the
// system does not tell, it is the machine's name.
func network() (string, error) {
	boot, err1 := os.ReadFile("/proc/sys/kernel/random/boot_id")
	namespace, err2 := os.Readlink("/proc/self/ns/net")
	if err1 == nil && err2 == nil {
		return strings.TrimSpace(string(boot)) + " " + namespace, nil
	}
	name, err := os.Hostname()
	if err != nil {
		return "", fmt.Errorf("asking for the name of this machine: %w", err)
	}
	return name, nil
}
