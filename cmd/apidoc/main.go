// Apidoc prints the OpenAPI document of this program's API. The console's types are generated from it at every build,
// so that a console which does not fit the API does not compile. With -fields it prints the comments of the fields instead, which the
// document describes them with.
package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"

	"beacon/api"
)

func main() {
	fields := flag.Bool("fields", false, "print the comments of the fields, for api/fields.json")
	flag.Parse()
	var document any = api.Document()
	if *fields {
		comments, err := fieldComments("wire", "core", "resolve")
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		document = comments
	}
	encoder := json.NewEncoder(os.Stdout)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	if err := encoder.Encode(document); err != nil {
		os.Exit(1)
	}
}
