// Command beacon is Agile Beacon: the service, the practice world, and the commands that talk to a service.
package main

import (
	"os"
	"runtime/debug"

	"beacon/cli"
	"beacon/resolve"
)

func main() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(resolve.GCPercent)
	}
	root := cli.New(os.Stdin, os.Stdout, os.Stderr)
	root.AddCommand(serveCommand(), practiceCommand(), demoCommand(), evaluateCommand(), keyCommand(), recoverUserCommand(), firstUserCommand(), backupCommand(), restoreCommand())
	cli.AddRehearse(root, rehearse)
	os.Exit(cli.Run(root, os.Stderr))
}
