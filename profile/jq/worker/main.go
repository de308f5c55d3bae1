// Command worker evaluates jq expressions for the tests; the service runs itself as its worker.
package main

import (
	"os"

	"beacon/profile/jq"
)

func main() { os.Exit(jq.Work(jq.Memory)) }
