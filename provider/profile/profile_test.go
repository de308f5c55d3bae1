package profile_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"beacon/demo/profiles"
	"beacon/provider/profile"
)

func TestPracticeProfilesLoad(t *testing.T) {
	all, err := profile.LoadAll(profiles.Files)
	require.NoError(t, err)
	require.Len(t, all, 3)
}
