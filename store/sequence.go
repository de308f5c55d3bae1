package store

import (
	"context"
	"fmt"
	"strings"

	"gorm.io/gorm"
)

// mostNumbered is how many lines are numbered in one transaction.
const mostNumbered = 500

// NumberEntries returns numbers to lines of the logbook that are committed and have none yet, and tells how many. The
// order of ids is not the order of commits: a line with a smaller id may become visible after one with a larger.
// Numbers are given by one holder of a lease at a time, to what is visible, so that whoever has read up to a number
// misses nothing that comes later.
func (t *Tx) NumberEntries(job Job) (int, error) {
	if err := t.Hold(job); err != nil {
		return 0, err
	}
	var ids []uint64
	if err := t.db.Raw("SELECT id FROM logbook WHERE seq IS NULL ORDER BY id LIMIT ?", mostNumbered).Scan(&ids).Error; err != nil || len(ids) == 0 {
		return 0, err
	}
	last, err := t.LastNumber()
	if err != nil {
		return 0, err
	}
	var cases strings.Builder
	for i, id := range ids {
		fmt.Fprintf(&cases, " WHEN %d THEN %d", id, last+uint64(i)+1)
	}
	return len(ids), t.db.Exec("UPDATE logbook SET seq = CASE id"+cases.String()+" END WHERE id IN ?", ids).Error
}

// LastNumber returns the largest number of any line, 0 for none.
func (t *Tx) LastNumber() (last uint64, err error) { return lastNumber(t.db) }

// LastNumber returns the largest number of any line, 0 for none.
func (s *Store) LastNumber(ctx context.Context) (last uint64, err error) {
	last, err = lastNumber(s.db.WithContext(ctx))
	return last, s.note(judge(err, false))
}

func lastNumber(db *gorm.DB) (last uint64, err error) {
	err = db.Raw("SELECT COALESCE(MAX(seq), 0) FROM logbook").Scan(&last).Error
	return last, err
}

// Unnumbered reports whether there are lines without a number.
func (s *Store) Unnumbered(ctx context.Context) (open bool, err error) {
	err = s.db.WithContext(ctx).Raw("SELECT EXISTS (SELECT 1 FROM logbook WHERE seq IS NULL)").Scan(&open).Error
	return open, s.note(judge(err, false))
}

// EntriesAfter returns at most limit numbered lines after a number, in their order.
func (s *Store) EntriesAfter(ctx context.Context, seq uint64, limit int) (list []Entry, err error) {
	err = s.db.WithContext(ctx).Where("seq > ?", seq).Order("seq").Limit(limit).Find(&list).Error
	return list, s.note(judge(err, false))
}
