package definition

import _ "embed"

// schema is the part of the JSON Schema that does not depend on kinds; see Kinds.Schema.
//
//go:embed schema.json
var schema []byte
