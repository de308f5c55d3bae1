package store

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"beacon/core/delegation"
)

func drawBriefChecks(t *rapid.T, label string) []BriefCheck {
	list := rapid.SliceOf(rapid.Custom(func(t *rapid.T) BriefCheck {
		g := BriefCheck{DomainID: rapid.Uint64().Draw(t, "id"), Verdict: rapid.SampledFrom([]delegation.Verdict{delegation.Settled, delegation.NeedsAction, delegation.Unknown}).Draw(t, "verdict"),
			Gravest: rapid.SampledFrom([]string{"", "lame", "soa-serial-skew"}).Draw(t, "gravest")}
		copy(g.Seen[:], rapid.SliceOfN(rapid.Byte(), 16, 16).Draw(t, "seen"))
		return g
	})).Draw(t, label)
	return onPage(nil, list)
}

// What a page holds is what was put on it, whatever was on it before; of each domain the last look.
func TestPagesHoldLooks(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		before, now := drawBriefChecks(t, "before"), drawBriefChecks(t, "now")
		all := onPage(before, now)
		back, err := parsePage(pageText(all))
		require.NoError(t, err)
		assert.Equal(t, all, back)
		assert.Subset(t, all, now)
		for _, g := range all {
			if !slices.Contains(now, g) {
				assert.Contains(t, before, g)
			}
		}
		assert.LessOrEqual(t, unsettledOf(now), unsettledOf(all))
	})
}

func FuzzPage(f *testing.F) {
	f.Add(pageText([]BriefCheck{{DomainID: 7, Verdict: delegation.NeedsAction, Gravest: "lame"}, {DomainID: 8, Verdict: delegation.Settled}}))
	for _, damaged := range []string{"7", "x 00 wrong", "7 0102 wrong", "7 zz0102030405060708090a0b0c0d0e0f wrong", "7 000102030405060708090a0b0c0d0e0f", "\n"} {
		_, err := parsePage(damaged)
		assert.ErrorContains(f, err, "is damaged", damaged)
		f.Add(damaged)
	}
	f.Fuzz(func(t *testing.T, text string) {
		looks, err := parsePage(text)
		if err != nil {
			return
		}
		again, err := parsePage(pageText(looks))
		require.NoError(t, err)
		require.Equal(t, looks, again)
	})
}
