package handover

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"beacon/core/dnsname"
)

func set(names ...string) (list []dnsname.Name) {
	for _, n := range names {
		list = append(list, dnsname.MustParse(n+".test"))
	}
	return dnsname.SortSet(list)
}

// What goes wrong where people enter a list by hand, each said in one sentence.
func TestByHand(t *testing.T) {
	desired := set("quay-11.heron", "quay-13.heron", "quay-15.heron", "quay-17.heron")
	old := set("reed-11.plover", "reed-14.plover")
	for name, c := range map[string]struct {
		parents []dnsname.Name
		begun   bool
		say, do string
	}{
		"not begun":         {old, false, "The parent serves the old list.", "Enter the list at the registrar."},
		"saved only":        {old, true, "The parent still serves the old list: the new one is not entered, or it is saved at the registrar and not active.", "See at the registrar whether the list has to be activated (“use”, “apply”, “set as default”)."},
		"all":               {desired, true, "The parent serves all 4 new nameservers.", "Nothing more to enter. The check shows when every cache has them."},
		"one row forgotten": {set("quay-11.heron", "quay-13.heron", "quay-15.heron"), true, "3 of 4 entered, missing: quay-17.heron.test.", "At the registrar: add quay-17.heron.test."},
		"a wrong row":       {set("quay-11.heron", "quay-13.heron", "quay-15.heron", "quai-17.heron"), true, "Typing error: quai-17.heron.test should be quay-17.heron.test.", "At the registrar: correct quai-17.heron.test."},
		"an old row left":   {append(set("quay-11.heron", "quay-13.heron", "quay-15.heron", "quay-17.heron"), old[0]), true, "Still there, from the old list: reed-11.plover.test.", "At the registrar: remove reed-11.plover.test."},
		"another list":      {set("ns1.parking", "ns2.parking"), true, "The parent serves another list: ns1.parking.test, ns2.parking.test.", "See whether the list was entered at the right domain; another service may have changed it."},
		"one of another":    {set("quay-11.heron", "quay-13.heron", "quay-15.heron", "quay-98.heron"), true, "Typing error: quay-98.heron.test should be quay-17.heron.test.", "At the registrar: correct quay-98.heron.test."},
		"none at all":       {nil, true, "The parent serves no nameservers yet.", "Enter the list at the registrar."},
	} {
		t.Run(name, func(t *testing.T) {
			e := ByHand(desired, c.parents, [][]dnsname.Name{old}, c.begun)
			assert.Equal(t, c.say, e.Say)
			assert.Equal(t, c.do, e.Do)
		})
	}
}

// Each desired name is right, missing, or meant by a wrong one; each served name is right, wrong or extra; and only the desired list is complete.
func TestByHandLosesNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		draw := func(label string) []dnsname.Name {
			return dnsname.SortSet(set(rapid.SliceOfNDistinct(rapid.Map(rapid.IntRange(1, 12), func(n int) string { return fmt.Sprintf("ns%d.pier", n*n) }), 0, 6, rapid.ID[string]).Draw(t, label)...))
		}
		desired, parents, old := draw("desired"), draw("parents"), draw("old")
		e := ByHand(desired, parents, [][]dnsname.Name{old}, rapid.Bool().Draw(t, "begun"))
		meant := map[dnsname.Name]bool{}
		for _, w := range e.Wrong {
			meant[w.Meant] = true
		}
		assert.Equal(t, len(desired), len(e.Right)+len(e.Missing)+len(meant))
		assert.Equal(t, len(parents), len(e.Right)+len(e.Wrong)+len(e.Extra))
		complete := len(desired) > 0 && fmt.Sprint(desired) == fmt.Sprint(parents)
		if len(desired) > 0 {
			assert.Equal(t, complete, strings.HasPrefix(e.Say, "The parent serves all"))
		}
		assert.NotEmpty(t, e.Do)
	})
}
