package flow

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"
)

// Two processes of one network know it by the same name, and those of others by another:
// what a process holds that listens at the same address elsewhere stays its own.
func TestNetworksHaveNames(t *testing.T) {
	here, err := network()
	if err != nil {
		t.Fatal(err)
	}
	if os.Getenv("PINGO_TEST_NETWORK") != "" {
		fmt.Printf("network %s\n", here)
		return
	}
	elsewhere := func(name string, args ...string) string {
		cmd := exec.Command(name, append(args, "-test.run=^TestNetworksHaveNames$")...)
		cmd.Env = append(os.Environ(), "PINGO_TEST_NETWORK=1")
		out, err := cmd.Output()
		if err != nil {
			t.Skipf("%s: %v", name, err)
		}
		first, _, _ := strings.Cut(string(out), "\n")
		return strings.TrimPrefix(first, "network ")
	}
	if there := elsewhere(os.Args[0]); there != here {
		t.Errorf("%q and %q are the same network", here, there)
	}
	if there := elsewhere("unshare", "--net", os.Args[0]); there == here || there == "" {
		t.Errorf("%q and %q are two networks", here, there)
	}
}
