package profile

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
)

// The reference has every key that is read, and no other.
func TestReferenceIsComplete(t *testing.T) {
	listed := map[string]bool{}
	for _, k := range Reference {
		if k.Name != "" {
			listed[k.Name] = true
			assert.NotContains(t, k.Means+k.Type+k.Default, "\n", k.Name)
		}
	}
	read := map[string]bool{}
	for _, pattern := range []string{"testdata/examples/*.yaml", "testdata/*.yaml", "../demo/profiles/*.yaml"} { // all of them together have every section
		files, err := filepath.Glob(pattern)
		require.NoError(t, err)
		require.NotEmpty(t, files)
		for _, file := range files {
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			var doc yaml.Node
			require.NoError(t, yaml.Unmarshal(text, &doc))
			r := &reader{file: file, known: map[string]bool{}}
			r.read(doc.Content[0])
			require.Empty(t, r.faults)
			for key := range r.known {
				read[key] = true
			}
		}
	}
	for key := range read {
		assert.True(t, listed[key], "%q is read, and the reference does not list it", key)
	}
	for key := range listed {
		assert.True(t, read[key], "%q is listed, and nothing reads it", key)
	}

	page := "../docs/guides/profile-reference.md"
	if os.Getenv("BEACON_UPDATE") != "" {
		require.NoError(t, os.WriteFile(page, []byte(ReferenceText()), 0o644))
	}
	have, err := os.ReadFile(page)
	require.NoError(t, err)
	assert.True(t, ReferenceText() == string(have), "%s is not as the code has it; run: BEACON_UPDATE=1 go test ./profile -run Reference", page)
}
