// Package jqtest builds the worker of package jq for tests. It is built without the race detector, whose shadow memory
// alone is more than a worker may have.
package jqtest

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"beacon/profile/jq"
)

// worker builds the program once a process, always at the same place, so that tests leave one behind and not one each. One that is running goes on.
var worker = sync.OnceValues(func() (string, error) {
	dir := filepath.Join(os.TempDir(), "beacon-tests")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	path := filepath.Join(dir, "jq-worker")
	made := fmt.Sprintf("%s.%d", path, os.Getpid())
	out, err := exec.Command("go", "build", "-o", made, "beacon/profile/jq/worker").CombinedOutput()
	if err != nil {
		os.Stderr.Write(out)
		return path, err
	}
	return path, os.Rename(made, path)
})

// Command returns what starts a worker.
func Command(t testing.TB) []string {
	t.Helper()
	path, err := worker()
	if err != nil {
		t.Fatal("the worker cannot be built:", err)
	}
	return []string{path}
}

// Pool makes a pool of workers that ends with the test.
func Pool(t testing.TB) *jq.Pool {
	t.Helper()
	p := jq.NewPool(Command(t), 2*time.Second)
	t.Cleanup(p.Close)
	return p
}
