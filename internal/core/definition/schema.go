package definition

import _ "embed"

// Schema is the JSON Schema (2020-12) of definition files.
//
//go:embed schema.json
var Schema []byte
