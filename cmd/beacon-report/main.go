// Command beacon-report reports the addresses of the machine that it runs on: the command `beacon host report` alone, in a small program.
package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"runtime/debug"

	"github.com/spf13/cobra"

	"beacon/core/special"
	"beacon/reach"
	"beacon/reporter/command"
)

func main() {
	debug.SetGCPercent(20)
	os.Exit(run())
}

func run() int {
	address, plain, output := os.Getenv("BEACON_ADDRESS"), os.Getenv("BEACON_PLAIN_TEXT") == "1", "table"
	if address == "" {
		address = "http://127.0.0.1:8053"
	}
	everywhere, err := reach.New([]string{"0.0.0.0/0", "::/0"})
	if err != nil {
		fmt.Fprintln(os.Stderr, "beacon-report:", err)
		return command.Failed
	}
	p := command.Program{Name: "beacon-report", Door: everywhere.Local(),
		Address: func() string { return address },
		Printf:  func(format string, args ...any) { fmt.Printf(format, args...) },
		Secured: func() error {
			if host := special.PlainText(address, nil); host != "" && !plain {
				return command.Exit{Code: command.Misuse, Message: host + " is another machine, and http:// sends the token in plain text. Nothing was sent. Use https://, or repeat with --plain-text"}
			}
			return nil
		},
		Show: func(v any, human func()) error {
			if output != "json" {
				human()
				return nil
			}
			text, err := json.MarshalIndent(v, "", "  ")
			fmt.Printf("%s\n", text)
			return err
		}}
	c := command.New(p)
	c.Use, c.SilenceUsage, c.SilenceErrors = "beacon-report", true, true
	c.CompletionOptions.DisableDefaultCmd = true
	c.PersistentFlags().StringVar(&address, "address", address, "address of the service (BEACON_ADDRESS)")
	c.PersistentFlags().BoolVar(&plain, "plain-text", plain, "send the token to another machine without TLS (BEACON_PLAIN_TEXT=1)")
	c.PersistentFlags().StringVarP(&output, "output", "o", output, "table or json")
	c.SetFlagErrorFunc(func(_ *cobra.Command, err error) error {
		return command.Exit{Code: command.Misuse, Message: err.Error()}
	})
	err = c.Execute()
	var e command.Exit
	switch {
	case err == nil:
		return 0
	case errors.As(err, &e):
		if e.Message != "" {
			fmt.Fprintln(os.Stderr, "beacon-report:", e.Message)
		}
		return e.Code
	}
	fmt.Fprintln(os.Stderr, "beacon-report:", err)
	return command.Failed
}
