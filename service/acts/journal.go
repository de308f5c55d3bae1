package acts

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"sync"

	"beacon/core/change"
	"beacon/core/record"
)

// Journal is a file outside the database with what this instance wrote to providers last. After the database went back, it shows which of
// the sets that are newer outside this service wrote itself. It holds digests, no data. It is safe for concurrent use.
type Journal struct {
	path string

	mu     sync.Mutex
	file   *os.File
	size   int64
	wrote  map[journalKey]string // the digest of each set that was written last; nil until it is asked for
	bounds int64
}

type journalKey struct {
	placement uint64
	name, typ string
}

// mostJournal is the size of the file, in octets, at which an older one is replaced by it.
const mostJournal = 16 << 20

// NewJournal returns the journal in a file, which need not exist yet. The one before it is beside it, as PATH.old.
func NewJournal(path string) *Journal { return &Journal{path: path, bounds: mostJournal} }

// Wrote notes steps that were done at a placement.
func (j *Journal) Wrote(placement uint64, done change.List) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	var b strings.Builder
	for _, step := range done {
		k := journalKey{placement, step.Key().Name.String(), step.Key().Type.String()}
		d := digestOf(step.After)
		_, _ = fmt.Fprintf(&b, "%d %s %s %s\n", k.placement, k.name, k.typ, d)
		if j.wrote != nil {
			j.wrote[k] = d
		}
	}
	if err := j.open(); err != nil {
		return err
	}
	n, err := j.file.WriteString(b.String())
	j.size += int64(n)
	return err
}

// open opens the file, and begins a new one where it is full.
func (j *Journal) open() error {
	if j.file != nil && j.size < j.bounds {
		return nil
	}
	if j.file != nil {
		_ = j.file.Close()
		j.file = nil
		if err := os.Rename(j.path, j.path+".old"); err != nil {
			return err
		}
	}
	f, err := os.OpenFile(j.path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	info, err := f.Stat()
	if err != nil {
		_ = f.Close()
		return err
	}
	j.file, j.size = f, info.Size()
	return nil
}

// Ours returns which of the sets that a provider has are as this instance wrote them last, or are gone because it removed them.
func (j *Journal) Ours(placement uint64, live []record.Set, gone []record.Key) ([]record.Key, error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.wrote == nil {
		if err := j.read(); err != nil {
			j.wrote = nil
			return nil, err
		}
	}
	var ours []record.Key
	ask := func(k record.Key, digest string) {
		if j.wrote[journalKey{placement, k.Name.String(), k.Type.String()}] == digest {
			ours = append(ours, k)
		}
	}
	for _, s := range live {
		ask(s.Key(), digestOf(s))
	}
	for _, k := range gone {
		ask(k, digestOf(record.Set{}))
	}
	return ours, nil
}

// read reads what was written before.
func (j *Journal) read() error {
	j.wrote = map[journalKey]string{}
	for _, path := range []string{j.path + ".old", j.path} {
		f, err := os.Open(path)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		lines := bufio.NewScanner(f)
		for lines.Scan() {
			var k journalKey
			var digest string
			if n, _ := fmt.Sscan(lines.Text(), &k.placement, &k.name, &k.typ, &digest); n == 4 { // a line that was cut off by a crash is passed over
				j.wrote[k] = digest
			}
		}
		if err := errors.Join(lines.Err(), f.Close()); err != nil {
			return err
		}
	}
	return nil
}

// Close closes the file.
func (j *Journal) Close() error {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.file == nil {
		return nil
	}
	err := j.file.Close()
	j.file = nil
	return err
}

// digestOf returns a digest of a set's data, whatever their order and TTL; "-" for no set.
func digestOf(s record.Set) string {
	if s.IsZero() {
		return "-"
	}
	data := slices.Clone(s.Data)
	slices.Sort(data)
	h := sha256.New()
	for _, d := range data {
		_, _ = fmt.Fprintf(h, "%q", d)
	}
	return hex.EncodeToString(h.Sum(nil)[:12])
}
