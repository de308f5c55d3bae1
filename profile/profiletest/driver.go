// Package profiletest gives tests drivers of the practice providers, made from their profiles as the service makes them.
package profiletest

import (
	"sync"
	"testing"
	"time"

	"beacon/demo/profiles"
	"beacon/outcall"
	"beacon/profile"
	"beacon/profile/jq"
	"beacon/profile/jq/jqtest"
)

// Keys are the credentials of the practice providers, by kind.
var Keys = map[string]string{"heron": "heron-practice-key", "plover": "plover-practice-key", "curlew": "desk:curlew-practice-key"}

var (
	once sync.Once
	all  map[string]*profile.Profile
	pool *jq.Pool
)

// Driver makes a driver for one of the practice providers. Its workers live as long as the tests of a package.
func Driver(t testing.TB, kind string, client outcall.Client) *profile.Driver {
	t.Helper()
	once.Do(func() {
		var err error
		if all, _, err = profile.LoadAll(profiles.Files); err != nil {
			t.Fatal(err)
		}
		pool = jq.NewPool(jqtest.Command(t), 5*time.Second)
	})
	if all[kind] == nil {
		t.Fatalf("there is no practice profile %q", kind)
	}
	if client.Secret == "" {
		client.Secret = Keys[kind]
	}
	return profile.New(all[kind], profile.NewRuntime(pool), client)
}
