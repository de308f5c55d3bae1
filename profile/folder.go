package profile

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"
)

// Suffix is how files with profiles end.
const Suffix = ".profile.yaml"

// LoadAll reads every profile at the top of a file system, by name. Profiles with faults are left out; faulty holds what is wrong with
// each of them, by file. A name that two files have is a fault of the later one.
func LoadAll(files fs.FS) (all map[string]*Profile, faulty map[string]error, err error) {
	names, err := fs.Glob(files, "*"+Suffix)
	if err != nil {
		return nil, nil, err
	}
	all, faulty = map[string]*Profile{}, map[string]error{}
	from := map[string]string{}
	for _, name := range names {
		text, err := fs.ReadFile(files, name)
		if err != nil {
			faulty[name] = err
			continue
		}
		p, faults := Load(name, text)
		switch {
		case p == nil:
			faulty[name] = errors.New(FaultText(faults))
		case from[p.Name] != "":
			faulty[name] = fmt.Errorf("%s: the profile %q is in %s already", name, p.Name, from[p.Name])
		default:
			all[p.Name], from[p.Name] = p, name
		}
	}
	return all, faulty, nil
}

// FaultText writes faults a line each.
func FaultText(faults []Fault) string {
	lines := make([]string, len(faults))
	for i, f := range faults {
		lines[i] = f.Error()
	}
	return strings.Join(lines, "\n")
}
