package service

import (
	"bytes"
	"reflect"
	"regexp"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"
)

// decodeSettings reads settings from YAML. A duration may be 0 without a unit.
func decodeSettings(text []byte, s *Settings) error {
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil {
		return err
	}
	if len(doc.Content) > 0 && zeroDurations(doc.Content[0], reflect.TypeOf(*s)) {
		fixed, err := yaml.Marshal(&doc)
		if err != nil {
			return err
		}
		text = fixed
	}
	decoder := yaml.NewDecoder(bytes.NewReader(text))
	decoder.KnownFields(true)
	return decoder.Decode(s)
}

// zeroDurations writes a unit after each duration of 0 that has none, and reports whether there was one.
func zeroDurations(n *yaml.Node, t reflect.Type) (found bool) {
	if n.Kind == yaml.ScalarNode && t == reflect.TypeFor[time.Duration]() && n.Value == "0" {
		n.Value, n.Tag = "0s", "!!str"
		return true
	}
	if n.Kind != yaml.MappingNode || t.Kind() != reflect.Struct {
		return false
	}
	fields := map[string]reflect.Type{}
	for i := range t.NumField() {
		fields[t.Field(i).Tag.Get("yaml")] = t.Field(i).Type
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if field, known := fields[n.Content[i].Value]; known && zeroDurations(n.Content[i+1], field) {
			found = true
		}
	}
	return found
}

var unknownField = regexp.MustCompile(`field (\S+) not found in type \S+`)

// yamlReason returns what the YAML reader says as one line, without the names of Go types.
func yamlReason(err error) string {
	text := strings.Join(strings.Fields(strings.TrimPrefix(strings.TrimPrefix(err.Error(), "yaml: "), "unmarshal errors:")), " ")
	return unknownField.ReplaceAllStringFunc(text, func(message string) string {
		key := unknownField.FindStringSubmatch(message)[1]
		if now, renamed := formerSettings[key]; renamed {
			return `"` + key + `" is called "` + now + `" now`
		}
		return `"` + key + `" is no setting here`
	})
}
