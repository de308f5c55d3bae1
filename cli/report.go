package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"beacon/reporter/command"
)

func (a *app) hostReportCommand() *cobra.Command {
	c := command.New(command.Program{Name: "beacon host report", Door: door, Address: func() string { return a.address }, Secured: a.secured, Show: a.show, Printf: a.printf})
	run := c.RunE
	c.RunE = func(c *cobra.Command, args []string) error {
		err := run(c, args)
		var e command.Exit
		if errors.As(err, &e) {
			return exit{e.Code, e.Message}
		}
		return err
	}
	return c
}
