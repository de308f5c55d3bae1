package service_test

import (
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"runtime/debug"
	"runtime/metrics"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/service"
	"beacon/service/apply"
	"beacon/store"
)

// manyFiles writes zones of records into files of a folder, and returns how many records.
func manyFiles(t *testing.T, folder string, files, zones, records int) int {
	for f := range files {
		var b strings.Builder
		b.WriteString("zones:\n")
		for z := range zones {
			fmt.Fprintf(&b, "  z%d-%d.example:\n    records: |\n", f, z)
			for r := range records {
				fmt.Fprintf(&b, "      h%d A 192.0.2.%d\n", r, 1+r%250)
			}
		}
		require.NoError(t, os.WriteFile(filepath.Join(folder, fmt.Sprintf("f%03d.beacon.yaml", f)), []byte(b.String()), 0o600))
	}
	return files * zones * records
}

// peak returns a function that ends the measuring of how much live memory is used at most, in bytes.
func peak() func() uint64 {
	sample := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}}
	stop, out := make(chan struct{}), make(chan uint64)
	go func() {
		var most uint64
		for {
			metrics.Read(sample)
			most = max(most, sample[0].Value.Uint64())
			select {
			case <-stop:
				out <- most
				return
			case <-time.After(10 * time.Millisecond):
			}
		}
	}()
	return func() uint64 { close(stop); return <-out }
}

// A followed folder is read in pieces: what is held at once is bounded by a file, not by the folder.
func TestFollowedFolderIsHeldInPieces(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.stop()
	settings := h.settings
	settings.Watch = apply.WatchSettings{Folder: t.TempDir(), Every: time.Hour}
	files, zones, records := 12, 10, 500
	if os.Getenv("BEACON_SOAK") != "" {
		files, zones, records = 100, 100, 100
	}
	total := manyFiles(t, settings.Watch.Folder, files, zones, records)
	svc, err := service.Open(ctx, settings, drivers(t), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer svc.Close()
	defer debug.SetGCPercent(debug.SetGCPercent(20))
	begun, stop := time.Now(), peak()
	require.ErrorIs(t, svc.Apply.RunWatch(ctx, store.Job{}), store.ErrLeaseLost, "nobody holds this work")
	most := stop()
	t.Logf("%d records in %d files: %s, %d MB at most", total, files, time.Since(begun).Round(time.Millisecond), most>>20)
	last, err := svc.Zones.Revisions(ctx, access.Service, dnsname.MustParse(fmt.Sprintf("z%d-%d.example", files-1, zones-1)))
	require.NoError(t, err)
	assert.Len(t, last, 1)
}
