package main

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
)

// fieldComments returns the comments of the fields of all exported structs in some folders and those below them, by package path, type
// and field.
func fieldComments(folders ...string) (map[string]string, error) {
	comments := map[string]string{}
	for _, folder := range folders {
		err := filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ParseComments)
			if err != nil {
				return err
			}
			ast.Inspect(file, func(n ast.Node) bool {
				spec, ok := n.(*ast.TypeSpec)
				if !ok {
					return true
				}
				if s, ok := spec.Type.(*ast.StructType); ok && spec.Name.IsExported() {
					for _, f := range s.Fields.List {
						for _, name := range f.Names {
							if text := commentOf(f); text != "" && name.IsExported() {
								comments["beacon/"+filepath.ToSlash(filepath.Dir(path))+"."+spec.Name.Name+"."+name.Name] = text
							}
						}
					}
				}
				return true
			})
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return comments, nil
}

// commentOf returns the comment behind a field, or the one before it, as one line.
func commentOf(f *ast.Field) string {
	for _, group := range []*ast.CommentGroup{f.Comment, f.Doc} {
		if group != nil {
			return strings.Join(strings.Fields(group.Text()), " ")
		}
	}
	return ""
}
