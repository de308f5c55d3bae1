package clock

import (
	"context"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWorldFollows(t *testing.T) {
	body := `{"wall":"2030-01-01T00:00:00Z","world":"2031-01-01T00:00:00Z","rate":60}`
	server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) { _, _ = rw.Write([]byte(body)) }))
	defer server.Close()
	var w World
	assert.InDelta(t, 0, time.Since(w.Now()).Seconds(), 1, "the zero clock runs with the wall")
	changed, err := w.Follow(context.Background(), server.Client(), server.URL)
	require.NoError(t, err)
	assert.True(t, changed)
	changed, err = w.Follow(context.Background(), server.Client(), server.URL)
	require.NoError(t, err)
	assert.False(t, changed, "it runs as it did")
	wall := time.Date(2030, 1, 1, 0, 1, 0, 0, time.UTC)
	world := time.Date(2031, 1, 1, 1, 0, 0, 0, time.UTC)
	assert.Equal(t, world, w.At(wall))
	assert.Equal(t, wall, w.WallAt(world))
	assert.EqualValues(t, 60, w.Rate())

	good := body
	body = `{"wall":"2029-01-01T00:00:00Z","world":"2039-01-01T00:00:00Z","rate":1}`
	changed, err = w.Follow(context.Background(), server.Client(), server.URL)
	require.NoError(t, err)
	assert.False(t, changed)
	assert.Equal(t, world, w.At(wall), "an answer that a later one has overtaken is not followed")
	body = strings.ReplaceAll(good, "30-01-01", "30-01-02")
	require.NoError(t, w.Skip(context.Background(), server.Client(), server.URL, world))
	assert.Equal(t, world, w.At(wall.AddDate(0, 0, 1)))

	body, wall = "no time", wall.AddDate(0, 0, 1)
	_, err = w.Follow(context.Background(), server.Client(), server.URL)
	require.Error(t, err)
	assert.Equal(t, world, w.At(wall), "a failure leaves the clock as it was")
}
