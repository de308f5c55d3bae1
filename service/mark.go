package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// The mark is a file beside the key, outside the database: the number of the newest event that this instance has seen. A database whose newest
// event is older was put back to an earlier state.
func (s Settings) markFile() string { return s.KeyFile + ".mark" }

// writesFile is beside it: the journal of what this instance wrote.
func (s Settings) writesFile() string { return s.KeyFile + ".writes" }

// readMark returns the number in the mark; 0 where there is none.
func readMark(file string) (uint64, error) {
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, fmt.Errorf("the mark of the database cannot be read: %w", err)
	}
	n, err := strconv.ParseUint(strings.TrimSpace(string(text)), 10, 64)
	if err != nil {
		return 0, fmt.Errorf("the mark of the database in %s is no number; remove the file if the database is the right one", file)
	}
	return n, nil
}

// writeMark replaces the mark wholly or not at all.
func writeMark(file string, n uint64) error {
	f, err := os.CreateTemp(filepath.Dir(file), ".mark-")
	if err != nil {
		return err
	}
	_, err = fmt.Fprintln(f, n)
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	if err == nil {
		err = os.Rename(f.Name(), file)
	}
	if err != nil {
		_ = os.Remove(f.Name())
	}
	return err
}

// compareMark holds the service where its database is older than the mark.
func (s *Service) compareMark(ctx context.Context) error {
	mark, err := readMark(s.settings.markFile())
	if err != nil {
		return err
	}
	last, err := s.store.LastNumber(ctx)
	if err != nil || last >= mark {
		return err
	}
	return s.holdBack(ctx, last, mark)
}

// holdBack begins a hold because the database went back.
func (s *Service) holdBack(ctx context.Context, last, mark uint64) error {
	if err := s.Acts.HoldBack(ctx, fmt.Sprintf("The database went back: its newest event is %d, and %d was seen before. What is outside is newer.", last, mark)); err != nil {
		return err
	}
	return writeMark(s.settings.markFile(), last)
}

// moveMark keeps the mark up with the events, or holds the service where the database went back while it ran. mark is what the file says.
func (s *Service) moveMark(ctx context.Context, mark uint64) uint64 {
	asking, cancel := context.WithTimeout(ctx, beatTime)
	defer cancel()
	last, err := s.store.LastNumber(asking)
	switch {
	case err != nil || last == mark || last == 0:
		return mark
	case last < mark:
		if err := s.holdBack(ctx, last, mark); err != nil {
			s.log.Error("the service could not be held", "error", err)
			return mark
		}
	default:
		if err := writeMark(s.settings.markFile(), last); err != nil {
			s.log.Error("the mark of the database could not be written", "error", err)
			return mark
		}
	}
	return last
}
