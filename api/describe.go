package api

import (
	_ "embed"
	"encoding/json"
	"reflect"
	"strings"
)

//go:embed fields.json
var fieldComments []byte

// described are the comments of fields, by package path, type and field. The file is made from the sources: make api/fields.json.
var described = func() (comments map[string]string) {
	if err := json.Unmarshal(fieldComments, &comments); err != nil {
		panic(err) // our own file
	}
	return comments
}()

// describeField returns what a field means: its comment in the source, or what fields of this name mean everywhere.
func describeField(t reflect.Type, f reflect.StructField, name string) string {
	typ, _, _ := strings.Cut(t.Name(), "[")
	if text := described[t.PkgPath()+"."+typ+"."+f.Name]; text != "" {
		return strings.ToUpper(text[:1]) + text[1:]
	}
	return everywhere[name]
}
