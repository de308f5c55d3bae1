package command

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"beacon/reporter"
)

// install writes a unit for systemd that runs the command with the same options.
func (p Program) install(o options) error {
	if o.tokenFile == "" {
		return misuse("name the file with the host's token: --token-file")
	}
	if err := p.Secured(); err != nil {
		return err
	}
	token, err := filepath.Abs(o.tokenFile)
	if err != nil {
		return misuse("--token-file: %s", err)
	}
	program, err := os.Executable()
	if err != nil {
		return err
	}
	command := strings.Fields(p.Name)
	command[0] = program
	name := "beacon-report"
	if o.host != "" {
		name += "-" + strings.TrimSuffix(o.host, ".")
	}
	unit := reporter.Unit{Name: name, Token: token, Command: append(command, o.arguments(p.Address())...)}
	if o.dryRun {
		return p.Show(map[string]any{"unit": unit.String()}, func() { p.Printf("%s", unit) })
	}
	path := filepath.Join(o.unitFolder, name+".service")
	if err := writeUnit(path, unit.String()); err != nil {
		return err
	}
	return p.Show(map[string]any{"unit": path}, func() {
		p.Printf("Wrote %s. Start it, now and after each boot:\n  systemctl daemon-reload && systemctl enable --now %s\n", path, name)
	})
}

// arguments returns the options as they are typed, without the token and the state, which systemd gives.
func (o options) arguments(address string) []string {
	list := []string{"--address", address}
	for _, f := range []struct{ flag, value string }{{"--host", o.host}, {"--v4", o.v4}, {"--v6", o.v6}, {"--prefix", o.prefix}} {
		if f.value != "" {
			list = append(list, f.flag, f.value)
		}
	}
	if o.prefix != "" {
		list = append(list, "--prefix-length", fmt.Sprint(o.bits))
	}
	return append(list, "--every", o.every.String())
}

// writeUnit writes a unit that is not there yet, or is the same.
func writeUnit(path, text string) error {
	was, err := os.ReadFile(path)
	switch {
	case err == nil && string(was) == text:
		return nil
	case err == nil:
		return Exit{Failed, path + " is there already and differs. Nothing was written. Remove it first, or use --unit-folder"}
	case !errors.Is(err, fs.ErrNotExist):
		return Exit{Failed, err.Error()}
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		return Exit{Failed, err.Error()}
	}
	return nil
}
