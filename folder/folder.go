package folder

import (
	"io/fs"
	"os"

	"beacon/core/definition"
)

// Definitions reads the definition files in a folder and those below it, in the order of their names. Hidden folders, such as a
// checkout's own, are left out. lookup gives the variables of the environment that files ask for.
func Definitions(folder string, lookup func(string) (string, bool)) ([]definition.File, error) {
	var files []definition.File
	err := Each(folder, lookup, func(f definition.File) error {
		files = append(files, f)
		return nil
	})
	return files, err
}

// Each calls do for each file that Definitions would return, and holds none of them.
func Each(folder string, lookup func(string) (string, bool), do func(definition.File) error) error {
	return each(folder, func(at string, _ fs.DirEntry) error {
		f, err := Definition(at, lookup)
		if err != nil {
			return err
		}
		return do(f)
	})
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
