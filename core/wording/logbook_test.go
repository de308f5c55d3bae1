package wording

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestHappened(t *testing.T) {
	for _, c := range [][4]string{
		{"ines", "draft.accepted", "a.example.", "ines accepted the draft of a.example."},
		{"service", "zone.applied", "a.example.", "The service applied a definition of a.example."},
		{"host cam.a.example.", "host.visible", "cam.a.example.", "Every nameserver serves the new address of cam.a.example."},
		{"host cam.a.example.", "host.added", "cam.a.example.", "The host itself added the dynamic host cam.a.example."},
		{"ines", "new.action", "a.example.", "Ines: new.action a.example"},
	} {
		assert.Equal(t, c[3], Happened(c[0], c[1], c[2]))
	}
}

// Every action that the rooms write has a sentence.
func TestEveryActionHasASentence(t *testing.T) {
	action := regexp.MustCompile(`"((?:account|alias|brief-check|bulk-change|channel|database|delegate|domain|draft|drift|files|hold|host|job|key|location|notification|placement|rdap|records|request|retire|secondary|set|sync|tsig-key|user|vantage-point|zone)\.[a-z-]+)"`)
	found := 0
	require.NoError(t, filepath.WalkDir("../../service", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		for _, m := range action.FindAllStringSubmatch(string(text), -1) {
			if strings.HasSuffix(m[1], ".example") || strings.HasSuffix(m[1], ".jsonl") {
				continue
			}
			found++
			assert.NotEmpty(t, sentences[m[1]], "%s in %s", m[1], path)
		}
		return err
	}))
	assert.Greater(t, found, 40)
	for action, template := range sentences {
		assert.Regexp(t, `^[A-Z].*\.$`, template, action)
	}
}
