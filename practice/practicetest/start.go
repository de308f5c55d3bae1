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
	return StartWith(t, practice.Options{Rate: rate})
}

// StartWith does the same with more options; addresses and ports are found here, but for a DNS port that is given.
func StartWith(t testing.TB, opt practice.Options) *practice.World {
	t.Helper()
	var err error
	port := opt.DNSPort
	for range 20 { // somebody else may stand on the addresses: try others
		var w *practice.World
		opt.Net, opt.DNSPort, opt.HTTPPort = 60+rand.IntN(190), 20000+rand.IntN(10000), 10000+rand.IntN(10000)
		if port != 0 {
			opt.DNSPort = port
		}
		w, err = practice.Start(opt)
		if err == nil {
			t.Cleanup(w.Close)
			return w
		}
	}
	t.Fatalf("no practice world could be started: %v", err)
	return nil
}
