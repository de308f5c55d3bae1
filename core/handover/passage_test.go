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
		"wrong":                  {Progress{Records: true, Placed: true, Wanted: quay, Parent: quay, Verdict: delegation.NeedsAction}, "settled", "Waiting will not fix"},
		"settled":                {Progress{Records: true, Placed: true, Wanted: quay, Parent: quay, Verdict: delegation.Settled}, "", ""},
		"old and settled":        {Progress{Records: true, Placed: true, Wanted: quay, Parent: reed, Active: reed, Verdict: delegation.Settled}, "delegated", "Change"},
		"records changed later":  {Progress{Records: true, Wanted: quay, Parent: quay, Verdict: delegation.Settled}, "placed", "Write"},
	} {
		hand := Stage{}
		for _, stage := range Passage(c.at) {
			switch stage.State {
			case StageCurrent:
				assert.Zero(t, hand, "%s: one stage is at hand", name)
				hand = stage
			case StagePending:
				assert.NotZero(t, hand, "%s: what is to come comes after what is at hand", name)
			}
		}
		assert.Equal(t, c.hand, hand.Code, name)
		assert.Contains(t, hand.Say, c.say, name)
	}
}
