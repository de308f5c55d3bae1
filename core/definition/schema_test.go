package definition

import (
	"bytes"
	"encoding/json"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"beacon/core/zonefile"
)

func schema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("definition.json", doc))
	s, err := c.Compile("definition.json")
	require.NoError(t, err)
	return s
}

func holds(t *testing.T, s *jsonschema.Schema, text string) error {
	t.Helper()
	var doc any
	require.NoError(t, yaml.Unmarshal([]byte(text), &doc))
	asJSON, err := json.Marshal(doc)
	require.NoError(t, err)
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(asJSON))
	require.NoError(t, err)
	return s.Validate(value)
}

func TestSchemaHoldsForDefinitions(t *testing.T) {
	s := schema(t)
	texts := []string{good, kitted}
	demo, err := filepath.Glob("../../demo/*.beacon.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, demo)
	for _, path := range demo {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		texts = append(texts, string(text))
	}
	for _, text := range texts {
		_, faults := Read(files("f", text))
		require.Empty(t, faults)
		assert.NoError(t, holds(t, s, text))
	}
	for _, text := range []string{
		"zone: {}", "zones: {a.example: {description: x}}", "zones: {a.example: {records: x, providers: Heron}}", "kits: {K: {records: x}}",
		"kits: {k: {records: x, parameters: {p: colour}}}", "values: {a: {default: x}}", "zones: {a.example: {records: x, ttl: soon}}",
	} {
		assert.Error(t, holds(t, s, text), text)
		_, faults := Read(files("f", text))
		assert.NotEmpty(t, faults, text)
	}
}

// The schema knows the keys that the reader knows, and no others.
func TestSchemaHasTheKeysOfTheReader(t *testing.T) {
	var doc struct {
		Properties map[string]any
		Defs       map[string]struct {
			Properties map[string]any
			AnyOf      []struct{ Properties map[string]any }
		} `json:"$defs"`
	}
	require.NoError(t, json.Unmarshal(Schema, &doc))
	for _, c := range []struct {
		properties map[string]any
		text       string
	}{
		{doc.Properties, "zzzzzzzzzzzz: 1\n"},
		{doc.Defs["zone"].Properties, "zones:\n  a.example:\n    zzzzzzzzzzzz: 1\n    kits: []\n"},
		{doc.Defs["kit"].Properties, "kits:\n  k:\n    zzzzzzzzzzzz: 1\n"},
		{doc.Defs["parameter"].AnyOf[1].Properties, "kits:\n  k:\n    parameters: {x: {zzzzzzzzzzzz: 1}}\n"},
		{doc.Defs["fromEnvironment"].Properties, "values:\n  x: {zzzzzzzzzzzz: 1}\n"},
	} {
		_, faults := Read(files("f", c.text))
		require.NotEmpty(t, faults)
		i := slices.IndexFunc(faults, func(f zonefile.Fault) bool { return strings.HasPrefix(f.Remedy, "the keys are ") })
		require.GreaterOrEqual(t, i, 0, c.text)
		assert.Equal(t, strings.Join(slices.Sorted(maps.Keys(c.properties)), ", "), strings.TrimPrefix(faults[i].Remedy, "the keys are "))
	}
}
