package profile

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"
)

// Suffix is how files with profiles end.
const Suffix = ".profile.yaml"

// LoadAll reads every profile at the top of a file system, by name. Of a profile with faults it gives those.
func LoadAll(files fs.FS) (map[string]*Profile, error) {
	names, err := fs.Glob(files, "*"+Suffix)
	if err != nil {
		return nil, err
	}
	all, from := map[string]*Profile{}, map[string]string{}
	var problems []error
	for _, name := range names {
		text, err := fs.ReadFile(files, name)
		if err != nil {
			return nil, err
		}
		p, faults := Load(name, text)
		for _, f := range faults {
			problems = append(problems, f)
		}
		if p == nil {
			continue
		}
		if other := from[p.Name]; other != "" {
			problems = append(problems, fmt.Errorf("%s: the profile %q is in %s already", name, p.Name, other))
		}
		all[p.Name], from[p.Name] = p, name
	}
	return all, errors.Join(problems...)
}

// FaultText writes faults a line each.
func FaultText(faults []Fault) string {
	lines := make([]string, len(faults))
	for i, f := range faults {
		lines[i] = f.Error()
	}
	return strings.Join(lines, "\n")
}
