package handover

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"beacon/core/delegation"
	"beacon/core/dnsname"
)

func TestPassage(t *testing.T) {
	quay, reed := []dnsname.Name{dnsname.MustParse("quay-1.heron.test")}, []dnsname.Name{dnsname.MustParse("reed-1.plover.test")}
	for name, c := range map[string]struct {
		at   Progress
		hand string // the stage at hand
		say  string
	}{
		"nothing yet":            {Progress{}, "records", "definition"},
		"records":                {Progress{Records: true}, "placed", "Write"},
		"placed":                 {Progress{Records: true, Placed: true, Wanted: quay, Parent: reed, Active: reed, Saved: reed}, "delegated", "Change"},
		"saved, not active":      {Progress{Records: true, Placed: true, Wanted: quay, Parent: reed, Active: reed, Saved: quay}, "delegated", "make it active"},
		"active, not served yet": {Progress{Records: true, Placed: true, Wanted: quay, Parent: reed, Active: quay, Saved: quay}, "delegated", "parent does not serve"},
		"settling":               {Progress{Records: true, Placed: true, Wanted: quay, Parent: quay, Verdict: delegation.Settling}, "settled", "Wait"},
		"wrong":                  {Progress{Records: true, Placed: true, Wanted: quay, Parent: quay, Verdict: delegation.Wrong}, "settled", "waiting will not mend"},
		"settled":                {Progress{Records: true, Placed: true, Wanted: quay, Parent: quay, Verdict: delegation.Settled}, "", ""},
		"old and settled":        {Progress{Records: true, Placed: true, Wanted: quay, Parent: reed, Active: reed, Verdict: delegation.Settled}, "delegated", "Change"},
		"records changed later":  {Progress{Records: true, Wanted: quay, Parent: quay, Verdict: delegation.Settled}, "placed", "Write"},
	} {
		seen := ToCome // from the last stage backwards, states only go one way
		hand := Stage{}
		stages := Passage(c.at)
		for i := len(stages) - 1; i >= 0; i-- {
			s := stages[i]
			if s.State == AtHand {
				assert.Equal(t, ToCome, seen, "%s: one stage is at hand, and none before it is to come", name)
				hand = s
			}
			if seen != ToCome {
				assert.Equal(t, Behind, s.State, name)
			}
			if s.State != ToCome {
				seen = s.State
			}
		}
		assert.Equal(t, c.hand, hand.Code, name)
		assert.Contains(t, hand.Say, c.say, name)
	}
}
