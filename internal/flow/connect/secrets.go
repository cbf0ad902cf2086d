package connect

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"pingo/internal/core/definition"
	"pingo/internal/outgoing"
)

// Secrets are what definitions may have of the machine that the service runs on. The author of a definition says
// where it is sent to, so nothing is theirs that was not given to them.
type Secrets struct {
	// Variables of the environment, by names or by patterns such as LODGE_*.
	Variables []string
	// Dirs are folders whose files are secrets, one each.
	Dirs []string
	// Addresses are those that Pingo connects to for definitions.
	Addresses outgoing.Addresses
}

// Everything gives all variables, no files, and all addresses: for what runs next to its own definitions.
var Everything = Secrets{Variables: []string{"*"}, Addresses: outgoing.Anywhere}

// Check reports what is wrong with patterns and folders.
func (s Secrets) Check() error {
	for _, pattern := range s.Variables {
		if _, err := path.Match(pattern, ""); err != nil || pattern == "" {
			return fmt.Errorf("%q is no name of variables: write them as LODGE_URL or LODGE_*", pattern)
		}
	}
	for _, dir := range s.Dirs {
		if info, err := os.Stat(dir); err != nil || !info.IsDir() || !filepath.IsAbs(dir) {
			return fmt.Errorf("%q is no folder of secrets: give the whole path of one that is there", dir)
		}
	}
	return nil
}

// String says what is given.
func (s Secrets) String() string {
	var given []string
	if len(s.Variables) > 0 {
		given = append(given, "variables "+strings.Join(s.Variables, ", "))
	}
	if len(s.Dirs) > 0 {
		given = append(given, "files in "+strings.Join(s.Dirs, ", "))
	}
	if len(given) == 0 {
		return "nothing"
	}
	return strings.Join(given, " and ")
}

// Lookup resolves ${NAME} and ${file:path}; it is a definition.Lookup. A path is below one of the folders, or begins
// with it.
func (s Secrets) Lookup(reference string) (string, error) {
	if name, ok := strings.CutPrefix(reference, "file:"); ok {
		return s.file(name)
	}
	if !slices.ContainsFunc(s.Variables, func(pattern string) bool {
		ok, err := path.Match(pattern, reference)
		return ok && err == nil
	}) {
		return "", fmt.Errorf(
			"the variable %s is not given to definitions: start pingo serve with --secrets-env %[1]s, or with a pattern for several (given: %s)",
			reference,
			s,
		)
	}
	v, ok := os.LookupEnv(reference)
	if !ok {
		return "", fmt.Errorf("the environment variable %s is not set where pingo serve runs", reference)
	}
	return v, nil
}

// Path is where a file is that a URL may name, such as a certificate: one in the folders.
func (s Secrets) Path(name string) (string, error) {
	if _, err := s.file(name); err != nil {
		return "", err
	}
	for _, dir := range s.Dirs {
		full := name
		if !filepath.IsAbs(name) {
			full = filepath.Join(dir, name)
		}
		if _, err := os.Stat(full); err == nil {
			return full, nil
		}
	}
	return "", fmt.Errorf("the file %s is not given to definitions", name)
}

// A secret is a URL, a key or a certificate.
const largestSecret = 64 << 10

func (s Secrets) file(name string) (string, error) {
	var last error
	for _, dir := range s.Dirs {
		below := name
		if filepath.IsAbs(name) {
			rel, err := filepath.Rel(dir, name)
			if err != nil {
				continue
			}
			below = rel
		}
		if !filepath.IsLocal(below) {
			continue
		}
		// A link in the folder may lead to another place in it, and nowhere else.
		f, err := os.OpenInRoot(dir, below)
		if err != nil {
			last = err
			continue
		}
		defer f.Close()
		b, err := io.ReadAll(io.LimitReader(f, largestSecret+1))
		if err == nil && len(b) > largestSecret {
			err = errors.New("it is larger than 64 KiB")
		}
		if err != nil {
			return "", fmt.Errorf("${file:%s} cannot be read: %w", name, err)
		}
		return strings.TrimSpace(string(b)), nil
	}
	if last != nil {
		return "", fmt.Errorf("${file:%s} cannot be read: %w", name, last)
	}
	return "", fmt.Errorf(
		"the file %s is not given to definitions: start pingo serve with --secrets-dir and the folder that it is in (given: %s)",
		name,
		s,
	)
}

// hash tells the values of an address and options with secrets from others; it is empty if a secret cannot be read.
func (s Secrets) hash(url *definition.Secret, options *definition.Options) string {
	u, err := url.Reveal(s.Lookup)
	if err != nil {
		return ""
	}
	o, err := options.Reveal(s.Lookup)
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(append([]byte(u+"\n"), o...))
	return hex.EncodeToString(sum[:])
}
