package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"beacon/core/finding"
	"beacon/core/rules"
	"beacon/core/spelling"
)

// explainCommand needs no service: what a code means is part of the program.
func (a *app) explainCommand() *cobra.Command {
	return &cobra.Command{Use: "explain [CODE]", Short: "Explain a finding: what it means, what to do, what it blocks", Args: cobra.MaximumNArgs(1),
		Example: "  beacon explain saved-not-active\n  beacon explain --output json",
		ValidArgsFunction: func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			var codes []string
			for _, k := range rules.Guide() {
				codes = append(codes, k.Code+"\t"+k.Meaning)
			}
			if len(args) > 0 {
				codes = nil
			}
			return codes, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return a.show(rules.Guide(), func() { a.codeTable(rules.Guide()) })
			}
			list := rules.Explain(args[0])
			if len(list) == 0 {
				return errors.New(unknownCode(args[0]))
			}
			return a.show(list, func() { a.explained(list) })
		}}
}

func unknownCode(code string) string {
	var codes []string
	for _, k := range rules.Guide() {
		codes = append(codes, k.Code)
	}
	message := fmt.Sprintf("%q is no code of a finding.", code)
	if near, ok := spelling.Closest(code, codes); ok {
		message += fmt.Sprintf(" Did you mean %s?", near)
	}
	return message + " All codes: beacon explain"
}

func (a *app) codeTable(list []finding.Known) {
	var rows [][]string
	for _, k := range list {
		rows = append(rows, []string{k.Code, k.Severity, k.About})
	}
	a.table([]string{"CODE", "SEVERITY", "ABOUT"}, rows)
}

func (a *app) explained(list []finding.Known) {
	for i, k := range list {
		if i > 0 {
			a.printf("\n")
		}
		a.printf("%s  %s\n", a.paint(bold, k.Code), k.About)
		for _, part := range [][2]string{{"severity", k.Severity}, {"meaning", k.Meaning}, {"what to do", k.Remedy}, {"blocks", k.Guard}} {
			if part[1] != "" {
				a.printf("  %-11s %s\n", part[0], strings.Join(wrap(part[1], width-14), "\n"+strings.Repeat(" ", 14)))
			}
		}
	}
}
