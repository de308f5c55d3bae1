package folder

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"beacon/core/definition"
)

// Definitions reads the definition files in a folder and those below it, in the order of their names. Hidden folders, such as a
// checkout's own, are left out. lookup gives the variables of the environment that files ask for.
func Definitions(folder string, lookup func(string) (string, bool)) ([]definition.File, error) {
	var files []definition.File
	err := filepath.WalkDir(folder, func(at string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case entry.IsDir() && at != folder && strings.HasPrefix(entry.Name(), "."):
			return filepath.SkipDir
		case entry.IsDir() || !strings.HasSuffix(at, ".beacon.yaml"):
			return nil
		}
		f, err := Definition(at, lookup)
		files = append(files, f)
		return err
	})
	return files, err
}

// Definition reads one definition file.
func Definition(path string, lookup func(string) (string, bool)) (definition.File, error) {
	text, err := os.ReadFile(path)
	f := definition.File{Name: path, Text: string(text), Environment: map[string]string{}}
	for _, name := range definition.Variables(f.Text) {
		if value, set := lookup(name); set {
			f.Environment[name] = value
		}
	}
	return f, err
}
