package definition

import _ "embed"

// Schema is the JSON Schema (draft 2020-12) of definition files, by which editors complete and check them.
//
//go:embed schema.json
var Schema []byte
