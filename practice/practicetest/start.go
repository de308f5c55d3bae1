// Package practicetest starts practice worlds for tests, each on addresses of its own.
package practicetest

import (
	"math/rand/v2"
	"testing"

	"beacon/practice"
)

// Start brings up a world whose clock runs rate times as fast as the wall's, and ends it with the test.
func Start(t testing.TB, rate float64) *practice.World {
	t.Helper()
	var err error
	for range 20 { // somebody else may stand on the addresses: try others
		var w *practice.World
		w, err = practice.Start(practice.Options{Net: 60 + rand.IntN(190), DNSPort: 20000 + rand.IntN(10000),
			HTTPPort: 10000 + rand.IntN(10000), Rate: rate})
		if err == nil {
			t.Cleanup(w.Close)
			return w
		}
	}
	t.Fatalf("no practice world could be started: %v", err)
	return nil
}
