package cli

import (
	"fmt"
	"regexp"
	"strings"

	"github.com/spf13/cobra"

	"beacon/core/spelling"
	"beacon/wire"
)

// tidy has all commands below c report misuse in the same words, refuse unknown subcommands, and complete names that the service has.
func (a *app) tidy(c *cobra.Command) {
	for _, below := range c.Commands() {
		a.tidy(below)
	}
	c.SetFlagErrorFunc(flagProblem)
	switch {
	case c.HasSubCommands():
		c.Args, c.RunE, c.Run = cobra.ArbitraryArgs, subcommandMissing, nil
	case c.Args != nil:
		fits := c.Args
		c.Args = func(c *cobra.Command, args []string) error {
			if fits(c, args) == nil {
				return nil
			}
			return misuse("%swrong number of arguments (%d). Usage: %s", where(c), len(args), usage(c))
		}
	}
	if c.ValidArgsFunction == nil && !c.HasSubCommands() {
		c.ValidArgsFunction = a.completeArgs
	}
	for _, name := range []string{"account", "from"} {
		if c.Flags().Lookup(name) != nil {
			_ = c.RegisterFlagCompletionFunc(name, func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
				return a.accountNames(), cobra.ShellCompDirectiveNoFileComp
			})
		}
	}
}

// where returns a command below the program, for the beginning of a message.
func where(c *cobra.Command) string {
	_, below, found := strings.Cut(c.CommandPath(), " ")
	if !found {
		return ""
	}
	return below + ": "
}

// usage returns a command with its arguments, without its options.
func usage(c *cobra.Command) string {
	_, arguments, _ := strings.Cut(c.Use, " ")
	return strings.TrimSpace(c.CommandPath() + " " + arguments)
}

// subcommandMissing is what a command does that has subcommands: it shows its help, or what is wrong with the subcommand.
func subcommandMissing(c *cobra.Command, args []string) error {
	if len(args) == 0 {
		return c.Help()
	}
	var known []string
	for _, below := range c.Commands() {
		if below.IsAvailableCommand() {
			known = append(known, below.Name())
		}
	}
	hint := "see " + c.CommandPath() + " --help"
	if now, renamed := formerCommands[strings.TrimSpace(strings.TrimPrefix(c.CommandPath(), "beacon")+" "+args[0])]; renamed {
		hint = "it is called " + now + " now"
	} else if meant, found := spelling.Closest(args[0], known); found {
		hint = fmt.Sprintf("did you mean %s %s?", c.CommandPath(), meant)
	}
	return misuse("%sno command %q; %s", where(c), args[0], hint)
}

var (
	unknownOption = regexp.MustCompile(`^unknown (?:shorthand )?flag: (?:'.' in )?(-\S+)$`)
	withoutValue  = regexp.MustCompile(`^flag needs an argument: (?:'.' in )?(-\S+)$`)
	wrongValue    = regexp.MustCompile(`^invalid argument "(.*)" for "(?:-., )?(--\S+)" flag`)
)

// flagProblem returns what is wrong with an option.
func flagProblem(c *cobra.Command, err error) error {
	text := err.Error()
	if m := unknownOption.FindStringSubmatch(text); m != nil {
		hint := "see " + c.CommandPath() + " --help"
		if now := formerOptions[m[1]]; now != "" {
			hint = "it is called " + now + " now"
		}
		return misuse("%sno option %s; %s", where(c), m[1], hint)
	}
	if m := withoutValue.FindStringSubmatch(text); m != nil {
		return misuse("%s needs a value", m[1])
	}
	if m := wrongValue.FindStringSubmatch(text); m != nil {
		return misuse("%s: %q is not a valid value; see %s --help", m[2], m[1], c.CommandPath())
	}
	return misuse("%s", text)
}

var requiredOptions = regexp.MustCompile(`"([^"]+)"`)

// optionMissing returns what to say where a required option was not given; nil for other errors.
func optionMissing(err error) error {
	if !strings.HasPrefix(err.Error(), "required flag") {
		return nil
	}
	var options []string
	for _, m := range requiredOptions.FindAllStringSubmatch(err.Error(), -1) {
		options = append(options, "--"+m[1])
	}
	return misuse("missing: %s", strings.Join(options, ", "))
}

// mostCompleted bounds how many names are offered.
const mostCompleted = 100

// completeArgs offers names for the argument that is typed, by what the usage of the command calls it.
func (a *app) completeArgs(c *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	words := strings.Fields(c.Use)[1:]
	if len(words) == 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	word := strings.Trim(words[min(len(args), len(words)-1)], "[]…")
	if len(args) >= len(words) && !strings.Contains(words[len(words)-1], "…") {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	switch {
	case word == "ZONE" || word == "DOMAIN":
		return a.domainNames(typed), cobra.ShellCompDirectiveNoFileComp
	case word == "ACCOUNT":
		return a.accountNames(), cobra.ShellCompDirectiveNoFileComp
	case word == "NAME" && c.Parent() != nil && c.Parent().Name() == "host":
		return a.hostNames(), cobra.ShellCompDirectiveNoFileComp
	case word == "NAME" && c.Parent() != nil && c.Parent().Name() == "user" && c.Name() != "add":
		return named(a, wire.ListUsers, func(u wire.UserView) string { return u.Name }), cobra.ShellCompDirectiveNoFileComp
	case word == "NAME" && c.Parent() != nil && c.Parent().Name() == "token" && c.Name() != "add":
		return named(a, wire.ListTokens, func(t wire.TokenView) string { return strings.TrimSuffix(t.Name, ".") }), cobra.ShellCompDirectiveNoFileComp
	case strings.HasPrefix(word, "FILE") || word == "PROFILE" || word == "BEFORE" || word == "AFTER":
		return nil, cobra.ShellCompDirectiveDefault
	}
	return nil, cobra.ShellCompDirectiveNoFileComp
}

func (a *app) domainNames(typed string) (names []string) {
	var page wire.Page[wire.DomainView]
	if ask(a, wire.ListDomains.With("name", typed, "limit", fmt.Sprint(mostCompleted)), wire.None{}, &page) != nil {
		return nil
	}
	for _, d := range page.Items {
		names = append(names, plain(d.Name))
	}
	return names
}

// named returns the names of what a list has; none where it cannot be had.
func named[T any](a *app, list wire.List[T], name func(T) string) (names []string) {
	items, err := all(a, list)
	if err != nil {
		return nil
	}
	for _, item := range items {
		names = append(names, name(item))
	}
	return names
}

func (a *app) accountNames() []string {
	return named(a, wire.ListAccounts, func(account wire.AccountView) string { return account.Name })
}

func (a *app) hostNames() (names []string) {
	var page wire.Page[wire.HostView]
	if ask(a, wire.ListHosts.With("limit", fmt.Sprint(mostCompleted)), wire.None{}, &page) != nil {
		return nil
	}
	for _, h := range page.Items {
		names = append(names, plain(h.Name))
	}
	return names
}
