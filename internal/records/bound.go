package records

import (
	"encoding/hex"
	"encoding/json"
	"strings"
	"unicode/utf8"
)

// PostgreSQL's texts cannot have the character 0, nor what is not UTF-8. Keys of other databases can.

// hexPrefix is what a value of a key begins with that is kept as its bytes in hexadecimal digits.
const hexPrefix = "\x01"

// bound makes a key at which a range ends such that it can be kept; a nil one stays nil.
func bound(key []string) []string {
	var out []string
	for _, v := range key {
		if !utf8.ValidString(v) || strings.Contains(v, "\x00") || strings.HasPrefix(v, hexPrefix) {
			v = hexPrefix + hex.EncodeToString([]byte(v))
		}
		out = append(out, v)
	}
	return out
}

// readBound reads one that was kept, as a JSON array; nothing stays nil.
func readBound(kept []byte, into *[]string) error {
	if kept == nil {
		return nil
	}
	var key []string
	if err := json.Unmarshal(kept, &key); err != nil {
		return err
	}
	for i, v := range key {
		if digits, is := strings.CutPrefix(v, hexPrefix); is {
			b, err := hex.DecodeString(digits)
			if err != nil {
				return err
			}
			key[i] = string(b)
		}
	}
	*into = key
	return nil
}
