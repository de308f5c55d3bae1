// Apidoc prints the OpenAPI document of this program's API. The console's types are generated from it at every build,
// so that a console which does not fit the API does not compile.
package main

import (
	"encoding/json"
	"os"

	"beacon/api"
)

func main() {
	encoder := json.NewEncoder(os.Stdout)
	encoder.SetIndent("", "  ")
	if err := encoder.Encode(api.Document()); err != nil {
		os.Exit(1)
	}
}
