package demo

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
)

// step is a part of the scenario that is loaded once. It may have been broken off at any point before: what is there already is left.
type step struct {
	name string
	do   func(context.Context) error
}

// Steps returns what a first start of the whole scenario loads, as its progress names it.
func Steps() (names []string) {
	s := &Stage{}
	for _, step := range append(s.basicSteps(), s.fleetSteps()...) {
		names = append(names, step.title())
	}
	return names
}

func (s step) title() string { return strings.ReplaceAll(s.name, "-", " ") }

// load loads the steps that have not been loaded yet, in their order, and notes each in a file once it is done.
func (s *Stage) load(ctx context.Context) error {
	done, err := os.ReadFile(s.path("loaded"))
	if err != nil && !os.IsNotExist(err) {
		return err
	}
	steps := s.basicSteps()
	if s.Fleet {
		steps = append(steps, s.fleetSteps()...)
	}
	loaded := strings.Fields(string(done))
	for _, step := range steps {
		if slices.Contains(loaded, step.name) {
			continue
		}
		s.say("  %s ...\n", step.title())
		if err := step.do(ctx); err != nil {
			return fmt.Errorf("loading the demo data, %s: %w", step.title(), err)
		}
		loaded = append(loaded, step.name)
		if err := s.keep("loaded", []byte(strings.Join(loaded, "\n")+"\n")); err != nil {
			return err
		}
	}
	return nil
}

// keep writes a file whole or not at all.
func (s *Stage) keep(name string, text []byte) error {
	if err := os.WriteFile(s.path(name+".new"), text, 0o600); err != nil {
		return err
	}
	return os.Rename(s.path(name+".new"), s.path(name))
}

func (s *Stage) say(format string, args ...any) {
	if s.Progress != nil {
		fmt.Fprintf(s.Progress, format, args...)
	}
}
