package mariadbd

import (
	"context"
	"path/filepath"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Servers that are made and started at the same time leave each other's files alone.
func TestMadeSideBySide(t *testing.T) {
	var group sync.WaitGroup
	for range 6 {
		dir := t.TempDir()
		group.Go(func() {
			s, err := Start(context.Background(), Options{Dir: filepath.Join(dir, "db"), Fast: true, Attr: &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}})
			if assert.NoError(t, err) {
				s.Stop()
			}
		})
	}
	group.Wait()
}
