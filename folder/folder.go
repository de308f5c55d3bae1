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
	err := each(folder, func(at string, _ fs.DirEntry) error {
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
