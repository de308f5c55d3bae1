// Package storetest gives tests a database of their own: one private MariaDB server for a test binary, a new database
// in it for each test.
package storetest

import (
	"context"
	"fmt"
	"os"
	"sync"
	"syscall"
	"testing"

	"beacon/clock"
	"beacon/reach"
	"beacon/store"
	"beacon/store/mariadbd"
)

var (
	once    sync.Once
	server  *mariadbd.Server
	started error
	dir     string
	mu      sync.Mutex
	count   int
)

// Main runs the tests of a package and ends the server that they used. Call it from TestMain.
func Main(m *testing.M) {
	code := m.Run()
	if server != nil {
		server.Stop()
	}
	if dir != "" {
		_ = os.RemoveAll(dir)
	}
	os.Exit(code)
}

// Settings returns the settings of a new, empty database.
func Settings(t testing.TB) store.Settings {
	t.Helper()
	once.Do(func() {
		if dir, started = os.MkdirTemp("", "beacon-db"); started == nil {
			server, started = mariadbd.Start(context.Background(), mariadbd.Options{Dir: dir, Fast: true,
				Attr: &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}})
		}
	})
	if started != nil {
		t.Fatalf("no database for the tests: %v", started)
	}
	mu.Lock()
	count++
	name := fmt.Sprintf("test_%d", count)
	mu.Unlock()
	if err := server.Provide(context.Background(), name, name, "practice"); err != nil {
		t.Fatal(err)
	}
	return store.Settings{Socket: server.Socket, User: name, Password: "practice", Database: name}
}

// Open returns an open store with empty tables.
func Open(t testing.TB) *store.Store {
	t.Helper()
	s, err := store.Open(context.Background(), Settings(t), reach.Loopback(), clock.Wall{}.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}
