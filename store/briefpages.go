package store

import (
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"beacon/core/delegation"
)

// What brief looks come to is kept by the page, for a row for each domain would cost a good part of the look.
const briefPage = 1000 // ids of domains

// briefChecksOn reads pages.
func (t *Tx) briefChecksOn(where string, of any) (map[uint64][]BriefCheck, error) {
	var rows []struct {
		Page  uint64
		Looks string
	}
	if err := t.db.Raw("SELECT page, looks FROM brief_pages WHERE "+where, of).Scan(&rows).Error; err != nil {
		return nil, err
	}
	pages := map[uint64][]BriefCheck{}
	for _, r := range rows {
		looks, err := parsePage(r.Looks)
		if err != nil {
			return nil, fmt.Errorf("page %d of brief looks: %w", r.Page, err)
		}
		pages[r.Page] = looks
	}
	return pages, nil
}

// onPage puts looks in the place of those before at the same domains.
func onPage(before, now []BriefCheck) []BriefCheck {
	of := make(map[uint64]BriefCheck, max(len(before), len(now)))
	for _, list := range [][]BriefCheck{before, now} {
		for _, g := range list {
			of[g.DomainID] = g
		}
	}
	all := make([]BriefCheck, 0, len(of))
	for _, id := range slices.Sorted(maps.Keys(of)) {
		all = append(all, of[id])
	}
	return all
}

func unsettledOf(looks []BriefCheck) (n int) {
	for _, g := range looks {
		if g.Verdict != delegation.Settled {
			n++
		}
	}
	return n
}

// pageText writes a line for each look: the domain's id, what was seen in hexadecimal digits, the verdict, and the
// gravest finding where there is any.
func pageText(looks []BriefCheck) string {
	text := make([]byte, 0, 80*len(looks))
	for _, g := range looks {
		text = strconv.AppendUint(text, g.DomainID, 10)
		text = append(text, ' ')
		text = hex.AppendEncode(text, g.Seen[:])
		text = append(text, ' ')
		text = append(text, g.Verdict...)
		if g.Gravest != "" {
			text = append(text, ' ')
			text = append(text, g.Gravest...)
		}
		text = append(text, '\n')
	}
	return string(text)
}

func parsePage(text string) (looks []BriefCheck, err error) {
	looks = make([]BriefCheck, 0, strings.Count(text, "\n"))
	for line := range strings.Lines(text) {
		id, rest, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		seen, rest, _ := strings.Cut(rest, " ")
		verdict, gravest, _ := strings.Cut(rest, " ")
		g := BriefCheck{Gravest: gravest}
		_ = g.Verdict.UnmarshalText([]byte(verdict)) // takes any text
		if g.DomainID, err = strconv.ParseUint(id, 10, 64); err != nil || len(seen) != 2*len(g.Seen) || verdict == "" {
			return nil, fmt.Errorf("%q is damaged", line)
		}
		if _, err := hex.Decode(g.Seen[:], []byte(seen)); err != nil {
			return nil, fmt.Errorf("%q is damaged", line)
		}
		looks = append(looks, g)
	}
	return looks, nil
}
