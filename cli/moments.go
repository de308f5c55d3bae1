package cli

import (
	"fmt"
	"slices"
	"strings"

	"beacon/core/delegation"
	"beacon/wire"
)

// showMoments says by when what changed must have settled, and why; sets for which the same is true are named together.
func (a *app) showMoments(list []delegation.Moment, now wire.ClockNow) {
	for i, m := range list {
		same := func(o delegation.Moment) bool {
			return o.What == m.What && o.By.Equal(m.By) && o.Why == m.Why && o.Except == m.Except
		}
		if slices.ContainsFunc(list[:i], same) {
			continue
		}
		var subjects []string
		for _, o := range list[i:] {
			if same(o) {
				subjects = append(subjects, o.Subject)
			}
		}
		when := "settles by " + moment(m.By, now.World)
		if m.By.Before(now.World) {
			when = "settled at " + moment(m.By, now.World)
		}
		text := fmt.Sprintf("The %s of %s %s: %s.", m.What, subjectsText(subjects), when, m.Why)
		if m.Except != "" && m.What == "address" { // of delegations, a finding says it
			text += " No time binds some: " + m.Except + "."
		}
		a.printf("\n%s\n", strings.Join(wrap(text, width-2), "\n  "))
	}
}

// subjectsText lists names and record sets, the types of one name together: "pier.example A, AAAA; www.pier.example A".
func subjectsText(subjects []string) string {
	var names []string
	types := map[string][]string{}
	for _, text := range subjects {
		name, typ, _ := strings.Cut(text, " ")
		name = strings.TrimSuffix(name, ".")
		if types[name] == nil {
			names = append(names, name)
		}
		types[name] = append(types[name], typ)
	}
	for i, name := range names {
		names[i] = strings.TrimSpace(name + " " + strings.Join(types[name], ", "))
	}
	return strings.Join(names, "; ")
}

// heldRows returns which old answers a resolver still gives though it goes to the new nameservers, those that end alike together.
func heldRows(v delegation.View, now wire.ClockNow) (rows [][]string) {
	if v.Sees == "old" {
		return nil
	}
	var order []string
	held := map[string][]string{}
	states := map[string]string{}
	for _, s := range v.Sets {
		if s.Sees != "old" && s.Sees != "mixed" {
			continue
		}
		tail := ": the old answer"
		if s.Sees == "mixed" {
			tail = ": now the old answer, now the new one"
		}
		if s.Until != nil {
			tail += "; expires by " + moment(*s.Until, now.World)
		}
		if held[tail] == nil {
			order = append(order, tail)
		}
		held[tail], states[tail] = append(held[tail], s.Key.String()), s.Sees
	}
	for _, tail := range order {
		rows = append(rows, []string{"", "", states[tail], subjectsText(held[tail]) + tail})
	}
	return rows
}
