package handover

import (
	"fmt"
	"slices"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/spelling"
	"beacon/core/wording"
)

// Entered is how far a nameserver list got that a person enters at a registrar, as the parents show it.
type Entered struct {
	Right   []dnsname.Name `json:"right"`   // desired nameservers that the parents serve
	Missing []dnsname.Name `json:"missing"` // desired nameservers that they do not serve
	Wrong   []Slip         `json:"wrong"`   // names with a typing error
	Extra   []dnsname.Name `json:"extra"`   // names that are not desired, without those with a typing error
	Say     string         `json:"say"`     // how far it got, in a sentence
	Do      string         `json:"do"`      // what comes next
}

// Slip is a name that was meant to be another.
type Slip struct {
	Name  dnsname.Name `json:"name"`  // as the parents serve it
	Meant dnsname.Name `json:"meant"` // a desired nameserver
}

// slipMost is by how many characters a name may differ from the one that was meant.
const slipMost = 2

// ByHand compares what the parents serve with the desired list. before are lists that were active before; begun reports whether the user said
// that the list is being entered.
func ByHand(desired, parents []dnsname.Name, before [][]dnsname.Name, begun bool) Entered {
	e := Entered{Right: []dnsname.Name{}, Missing: []dnsname.Name{}, Wrong: []Slip{}, Extra: []dnsname.Name{}}
	for _, n := range desired {
		if slices.Contains(parents, n) {
			e.Right = append(e.Right, n)
		} else {
			e.Missing = append(e.Missing, n)
		}
	}
	for _, n := range parents {
		if slices.Contains(desired, n) {
			continue
		}
		if meant, ok := meantBy(n, e.Missing); ok && !slices.ContainsFunc(before, func(set []dnsname.Name) bool { return slices.Contains(set, n) }) {
			e.Wrong = append(e.Wrong, Slip{n, meant})
		} else {
			e.Extra = append(e.Extra, n)
		}
	}
	for _, w := range e.Wrong {
		e.Missing = slices.DeleteFunc(e.Missing, func(n dnsname.Name) bool { return n == w.Meant })
	}
	e.Say, e.Do = e.words(len(desired), before, begun)
	return e
}

// meantBy returns the one of several names that is nearest, if it is near.
func meantBy(n dnsname.Name, among []dnsname.Name) (best dnsname.Name, ok bool) {
	least := slipMost + 1
	for _, o := range among {
		if d := spelling.Distance(n.String(), o.String(), slipMost); d < least {
			best, least, ok = o, d, true
		}
	}
	return best, ok
}

func (e Entered) words(desired int, before [][]dnsname.Name, begun bool) (say, do string) {
	untouched := len(e.Right) == 0 && len(e.Wrong) == 0
	isOld := func(n dnsname.Name) bool {
		return slices.ContainsFunc(before, func(set []dnsname.Name) bool { return slices.Contains(set, n) })
	}
	strange := slices.ContainsFunc(e.Extra, func(n dnsname.Name) bool { return !isOld(n) })
	switch {
	case len(e.Right) == desired && len(e.Extra) == 0 && len(e.Wrong) == 0:
		return fmt.Sprintf("The parent serves all %s.", wording.Counted(desired, "new nameserver")), "Nothing more to enter. The check shows when every cache has them."
	case untouched && len(e.Extra) == 0:
		return "The parent serves no nameservers yet.", "Enter the list at the registrar."
	case untouched && strange:
		return fmt.Sprintf("The parent serves another list: %s.", listed(e.Extra)), "See whether the list was entered at the right domain; another service may have changed it."
	case untouched && begun:
		return "The parent still serves the old list: the new one is not entered, or it is saved at the registrar and not active.",
			"See at the registrar whether the list has to be activated (“use”, “apply”, “set as default”)."
	case untouched:
		return "The parent serves the old list.", "Enter the list at the registrar."
	}
	var parts, steps []string
	for _, w := range e.Wrong {
		parts = append(parts, fmt.Sprintf("typing error: %s should be %s", dnsname.Short(w.Name), dnsname.Short(w.Meant)))
		steps = append(steps, "correct "+dnsname.Short(w.Name))
	}
	if len(e.Missing) > 0 {
		parts = append(parts, fmt.Sprintf("%d of %d entered, missing: %s", desired-len(e.Missing), desired, listed(e.Missing)))
		steps = append(steps, "add "+listed(e.Missing))
	}
	if len(e.Extra) > 0 {
		kind := "another service's"
		if !strange {
			kind = "from the old list"
		}
		parts = append(parts, fmt.Sprintf("still there, %s: %s", kind, listed(e.Extra)))
		steps = append(steps, "remove "+listed(e.Extra))
	}
	return wording.Sentence(strings.Join(parts, "; ")) + ".", "At the registrar: " + strings.Join(steps, "; ") + "."
}

func listed(names []dnsname.Name) string {
	texts := make([]string, len(names))
	for i, n := range names {
		texts[i] = dnsname.Short(n)
	}
	return strings.Join(texts, ", ")
}
