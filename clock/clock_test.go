package clock

import (
	"context"
	"net/http"
	"net/http/httptest"
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
	require.NoError(t, w.Follow(context.Background(), server.Client(), server.URL))
	wall := time.Date(2030, 1, 1, 0, 1, 0, 0, time.UTC)
	world := time.Date(2031, 1, 1, 1, 0, 0, 0, time.UTC)
	assert.Equal(t, world, w.At(wall))
	assert.Equal(t, wall, w.WallAt(world))
	assert.EqualValues(t, 60, w.Rate())

	body = "no time"
	require.Error(t, w.Follow(context.Background(), server.Client(), server.URL))
	assert.Equal(t, world, w.At(wall), "a failure leaves the clock as it was")
}
