package handover

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/handover"
	"beacon/core/handover/compare"
	"beacon/service/hosts"
	"beacon/service/later"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// Show returns the newest handover of a domain, as it was decided last.
func (s *Handover) Show(ctx context.Context, by access.Caller, name dnsname.Name) (out wire.Handover, err error) {
	if err := wire.Permit(by, access.See, access.Zone(name)); err != nil {
		return out, err
	}
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		z, err := zones.ByName(tx, name)
		if err != nil {
			return err
		}
		row, err := tx.LastHandover(z.ID)
		if err != nil {
			return err
		}
		if row.ID == 0 {
			return wire.Problemf(wire.NotFound, "No handover of %s is known. Begin one: beacon handover begin %s --to ACCOUNT.", name.Unicode(), name.Unicode())
		}
		p, err := s.read(tx, row)
		if err != nil {
			return err
		}
		if out, err = s.view(tx, p); err != nil {
			return err
		}
		if out.Back, err = s.back(tx, p); err != nil {
			return err
		}
		out.Unwritten, err = hosts.Unwritten(tx, z.ID, s.logbook.Now())
		return err
	})
	return out, err
}

// List returns a page of handovers. Open ones come by the next moment at which something is due, ended ones the newest first.
func (s *Handover) List(ctx context.Context, by access.Caller, ended bool, cursor string, limit int) (page wire.Page[wire.HandoverSummary], err error) {
	after, err := readPlace(cursor)
	if err != nil {
		return page, err
	}
	scope := access.Where(by, access.See)
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		page = wire.Page[wire.HandoverSummary]{Items: []wire.HandoverSummary{}}
		tx.Narrow(scope)
		var rows []store.HandoverRow
		var err error
		if ended {
			rows, err = tx.EndedHandovers(after.ID, limit)
		} else {
			rows, err = tx.OpenHandovers(after, limit)
		}
		if err != nil {
			return err
		}
		for _, row := range rows {
			one, err := summary(row)
			if err != nil {
				return err
			}
			page.Items = append(page.Items, one)
		}
		if n := len(rows); n == limit {
			page.Next = placeText(rows[n-1].Handover)
		}
		return nil
	})
	return page, err
}

// placeText returns the place of a handover in a list as a cursor.
func placeText(row store.Handover) string {
	next := int64(0)
	if row.NextAt != nil {
		next = row.NextAt.UnixMicro()
	}
	return fmt.Sprintf("%d-%d", next, row.ID)
}

func readPlace(cursor string) (at store.HandoverPlace, err error) {
	at.Next = time.UnixMicro(0).UTC()
	if cursor == "" {
		return at, nil
	}
	next, id, _ := strings.Cut(cursor, "-")
	micros, err := strconv.ParseInt(next, 10, 64)
	if err == nil {
		at.ID, err = strconv.ParseUint(id, 10, 64)
	}
	if err != nil {
		return at, wire.Problemf(wire.Invalid, "%q is no cursor of this list.", cursor)
	}
	at.Next = time.UnixMicro(micros).UTC()
	return at, nil
}

func summary(row store.HandoverRow) (v wire.HandoverSummary, err error) {
	p := plan{Handover: row.Handover}
	if row.Decided != "" {
		err = json.Unmarshal([]byte(row.Decided), &p.last)
	}
	v = wire.HandoverSummary{ID: row.ID, Domain: dnsname.FromKey(row.NameKey), State: wire.HandoverState(row.State), Phase: handover.Phase(row.Phase), From: row.OldName, To: row.NewName, Batch: row.Batch}
	if row.State == store.HandoverOpen {
		v.Asked = row.Asks
	}
	for _, w := range p.last.Wait {
		if !row.Ended() && !w.Until.IsZero() && (v.NextAt.IsZero() || w.Until.Before(v.NextAt)) {
			v.NextAt = w.Until
		}
	}
	v.Ends = p.ends()
	return v, err
}

// ends is when a handover ended, or likely ends; zero where that is not known.
func (p plan) ends() time.Time {
	if p.EndedAt != nil {
		return *p.EndedAt
	}
	if list := p.last.Stations; ends(list) {
		return list[len(list)-1].At
	}
	return time.Time{}
}

func (s *Handover) view(tx *store.Tx, p plan) (v wire.Handover, err error) {
	v = wire.Handover{ID: p.ID, Domain: p.zone.Name(), State: wire.HandoverState(p.State), Phase: handover.Phase(p.Phase), Registrar: p.last.Place, From: p.from, To: p.to,
		Old: p.course.Old, New: p.course.New, Window: strings.TrimSpace(p.course.Window + " " + p.course.Timezone), Batch: p.Batch, Gap: p.last.Gap, Sign: p.course.Sign, KeepOld: p.course.KeepOld, BegunBy: p.BegunBy, BegunAt: p.BegunAt,
		Wait: []handover.Wait{}, Closed: []finding.Finding{}, Hanging: append([]finding.Finding{}, p.last.Hanging...), Steps: []wire.HandoverStep{}, Report: []wire.HandoverEvidence{}, Planned: p.planned(), Ends: p.ends(), Trouble: p.last.Trouble, Unwritten: []wire.UnwrittenHost{}}
	v.Compared = wire.HandoverComparison{Names: p.last.Compared, Differences: append([]compare.Difference{}, p.last.Differences...), Digest: p.last.Digest}
	v.Compared.Agreed = p.last.Digest != "" && slices.Contains(p.said(markAgreed), p.last.Digest)
	if p.EndedAt != nil {
		v.EndedAt = *p.EndedAt
	}
	if p.DecidedAt != nil {
		v.DecidedAt = *p.DecidedAt
	}
	if p.NextAt != nil && !p.Ended() {
		v.NextAt = *p.NextAt
	}
	h, err := begunBy(tx, p)
	if err != nil {
		return v, err
	}
	if !p.Ended() {
		v.Wait = append(v.Wait, p.last.Wait...)
		v.Closed = append(v.Closed, p.last.closedGates()...)
		v.Asked = p.asks()
		if p.Decided == "" {
			v.Doing = "The domain is being looked at"
		}
		for do, b := range h.last {
			if !b.ended {
				v.Doing = p.doing(do, b)
			}
		}
	}
	v.Steps = p.steps(h)
	if v.Later, err = later.Sets(tx, p.ZoneID); err != nil {
		return v, err
	}
	for _, m := range p.marks {
		v.Report = append(v.Report, p.evident(m))
	}
	return v, nil
}

// doing is an act that is under way, in words.
func (p plan) doing(do handover.Do, b begun) string {
	text := p.doText(do)
	if b.id != 0 {
		return fmt.Sprintf("%s (act %d)", text, b.id)
	}
	return text
}

// doText returns what an act of the handover is, in words.
func (p plan) doText(do handover.Do) string {
	holder := " at the registrar, by hand"
	if !p.last.ByHand && p.last.Place != "" {
		holder = " at " + p.last.Place
	}
	switch do {
	case handover.DoSync:
		if p.to == "" {
			return "Sync the zone"
		}
		return "Sync the zone to " + p.to
	case handover.DoRemoveDS:
		return "Remove the DS" + holder
	case handover.DoDelegate:
		return "Change the nameservers" + holder
	case handover.DoTellOld:
		return "Write the new NS records into the old zone at " + p.from
	case handover.DoLower:
		return "Lower TTLs while the domain moves"
	case handover.DoRestore:
		return "Restore the TTLs"
	case handover.DoAddDS:
		return "Publish the DS of the new zone" + holder
	case handover.DoRetire:
		if p.from == "" {
			return "Remove the old zone"
		}
		return "Remove the old zone from " + p.from
	}
	return string(do)
}

// begunText is what a mark is about, in words: a sync names its account.
func (p plan) begunText(m store.HandoverMark) string {
	if m.SyncID != nil && m.About == string(handover.DoSync) && m.Detail != "" {
		return "Sync the zone to " + m.Detail
	}
	return p.doText(handover.Do(m.About))
}

// asks is what is asked of a user, in words.
func (p plan) asks() *wire.HandoverAsked {
	if p.Ended() || p.last.Asked == nil {
		return nil
	}
	name := p.zone.Name().Unicode()
	a := wire.HandoverAsked{Asked: *p.last.Asked, Command: "beacon handover next " + name}
	switch a.Kind {
	case handover.AskAllow:
		a.Text = "Allow: " + p.doText(a.Do) + "."
		switch {
		case a.Do == handover.DoDelegate:
			a.Text = "Allow: " + p.doText(a.Do) + " to " + dnsname.ShortList(p.course.New) + "."
			if p.last.Gap != "" {
				a.Text += " " + p.last.Gap
			}
		case a.Do == handover.DoRetire && !p.last.OldTells:
			a.Text += " The zone there still names the old nameservers, which cannot be changed from here: a resolver that keeps asking there gets no answer for as long as its copy lasts. " +
				"Change its NS records by hand first, or keep the old zone (beacon handover abandon)."
		}
		a.Command += " --allow " + string(a.Do)
		if a.Do == handover.DoRetire && p.zone.ManagedBy != "" && !p.zone.Detached {
			a.Text += fmt.Sprintf(" The file %s may name %s under providers: take it out there, or the next apply places the zone there again.", p.zone.ManagedBy, p.from)
		}
	case handover.AskAgree:
		a.Text = fmt.Sprintf("The two sides answer differently (%d of %d names and types). Change the records, or agree to the differences.", len(p.last.Differences), p.last.Compared)
		if p.from == "" && len(p.course.Old) > 0 { // it may have been changed there since
			a.Text += fmt.Sprintf(" What the old nameservers serve now becomes desired with: beacon zone gather %s, then --accept; with --afterwards yours is proposed once no cache asks there.", name)
		}
		a.Command += " --agree " + p.last.Digest
	case handover.AskByHand:
		a.Text, a.Command = byHandText(a.Do), "beacon watch "+name
		if a.Do == handover.DoDelegate {
			for _, n := range p.course.New {
				a.Enter = append(a.Enter, dnsname.Short(n))
			}
		}
	default:
		a.Text, a.Command = "A gate is closed.", ""
		for _, f := range p.last.Closed {
			if f.Code == a.Gate {
				a.Text = strings.TrimSpace(f.Message + " " + f.Remedy)
			}
		}
	}
	return &a
}

// asksBriefly is what is asked of a user, for a list.
func (p plan) asksBriefly() string {
	a := p.asks()
	switch {
	case a == nil && p.last.Trouble != "" && !p.Ended():
		return "the last step did not come about"
	case a == nil:
		return ""
	case a.Kind == handover.AskAllow:
		return "allow: " + lower(p.doText(a.Do))
	case a.Kind == handover.AskAgree:
		return "agree to differences"
	case a.Kind == handover.AskByHand:
		return lower(strings.TrimSuffix(byHandText(a.Do), "."))
	}
	return "gate " + a.Gate
}

func lower(text string) string { return strings.ToLower(text[:1]) + text[1:] }

func byHandText(do handover.Do) string {
	switch do {
	case handover.DoRemoveDS:
		return "Remove the DS records at the registrar by hand."
	case handover.DoAddDS:
		return "Enter the DS records of the new zone at the registrar by hand: beacon ds show lists them."
	}
	return "Enter the new nameservers at the registrar by hand."
}

// planned is when each step was expected as of the beginning.
func (p plan) planned() []wire.HandoverPlanned {
	list := []wire.HandoverPlanned{}
	for _, st := range stationsOf(p.Planned) {
		for _, do := range st.Do {
			list = append(list, wire.HandoverPlanned{Do: do, At: st.At})
		}
	}
	return list
}

// steps returns what was done, what is current, and what is foreseen.
func (p plan) steps(h history) (list []wire.HandoverStep) {
	list = []wire.HandoverStep{}
	planned := p.planned()
	for _, m := range p.marks {
		switch {
		case m.Kind == markBegun && (m.ActID != nil || m.SyncID != nil):
			step := wire.HandoverStep{Text: p.begunText(m), Do: handover.Do(m.About), State: wire.StepDone, At: m.At}
			if m.ActID != nil {
				step.Act = *m.ActID
			}
			if i := slices.IndexFunc(planned, func(w wire.HandoverPlanned) bool { return w.Do == step.Do }); i >= 0 {
				step.Planned = planned[i].At
			}
			if n := len(list); n > 0 && list[n-1].Text == step.Text { // tried again
				list = list[:n-1]
			}
			list = append(list, step)
		case m.Kind == string(handover.MarkSwitched) && !m.Withdrawn:
			list = slices.DeleteFunc(list, func(s wire.HandoverStep) bool { return s.Text == everywhere })
			list = append(list, wire.HandoverStep{Text: everywhere, State: wire.StepDone, At: m.At})
		}
	}
	slices.SortStableFunc(list, func(x, y wire.HandoverStep) int { return x.At.Compare(y.At) })
	if p.Ended() {
		return append(list, wire.HandoverStep{Text: endText(p.State), State: wire.StepDone, At: p.ends()})
	}
	if n := len(list); n > 0 && h.busy {
		list[n-1].State = wire.StepCurrent
	}
	current := h.busy
	add := func(step wire.HandoverStep) {
		step.State = wire.StepPending
		if !current {
			step.State, current = wire.StepCurrent, true
		}
		list = append(list, step)
	}
	said := map[handover.Wait]bool{}
	for i, st := range p.last.Stations {
		for _, do := range st.Do {
			if i == 0 && h.busy {
				continue
			}
			add(wire.HandoverStep{Text: p.doText(do), Do: do, At: st.At, Needs: p.needs(do)})
		}
		for _, w := range st.Wait {
			if !said[w] && (len(st.Do) == 0 || !w.Until.IsZero()) {
				said[w] = true
				add(wire.HandoverStep{Text: "Wait until " + w.For, At: st.At, Until: w.Until})
			}
		}
		if st.Phase == handover.Done {
			add(wire.HandoverStep{Text: endText(store.HandoverDone), At: st.At})
		}
	}
	return list
}

// needs reports whether a user has to allow an act before it is begun; one that is entered by hand is the user's anyway.
func (p plan) needs(do handover.Do) bool {
	return slices.Contains(handover.Consent(), do) && !slices.Contains(p.allowed(), do) && (!p.last.ByHand || do == handover.DoRetire)
}

// everywhere is the step at which every parent serves the new set.
const everywhere = "Every parent server serves the new nameservers"

func endText(state string) string {
	if state == store.HandoverAbandoned {
		return "The handover was abandoned"
	}
	return "The handover is done"
}

// evident returns a mark in words.
func (p plan) evident(m store.HandoverMark) wire.HandoverEvidence {
	e := wire.HandoverEvidence{At: m.At, By: m.SaidBy}
	if m.ActID != nil {
		e.Act = *m.ActID
	}
	about := p.begunText(m)
	switch m.Kind {
	case string(handover.MarkSwitched):
		e.Text = everywhere
		if m.Until != nil {
			e.Text += ". No cache asks the old ones after " + m.Until.UTC().Format(time.DateTime)
		}
		if m.Withdrawn {
			e.Text = "A parent server serves the old nameservers again: the wait begins again once it does not"
		}
	case string(handover.MarkSigned):
		e.Text = "Every new nameserver serves the zone signed with the same keys"
		if m.Withdrawn {
			e.Text = "A new nameserver serves other keys, or none: the wait for the DS begins again"
		}
	case string(handover.MarkLeft):
		e.Text = "The old nameservers name the new ones, or answer for the zone no more"
		if m.Until != nil {
			e.Text += ". No cache keeps asking there after " + m.Until.UTC().Format(time.DateTime)
		}
		if m.Withdrawn {
			e.Text = "An old nameserver names itself again"
		}
	case markAllowed:
		e.Text = "Allowed: " + about
	case markAgreed:
		e.Text = "Agreed to the differences " + m.About
	case markPassed:
		e.Text = "Passed the gate " + m.About
	case markBegun:
		e.Text = "Begun: " + about
		if m.SyncID != nil {
			e.Text += fmt.Sprintf(" (sync %d)", *m.SyncID)
		}
		if m.ActID == nil && m.SyncID == nil {
			e.Text = "Not begun: " + about
		}
	case markGrounds:
		e.Text, e.Grounds = "The gates are open: "+about, strings.Split(m.Detail, "\n")
		return e
	case markRetry:
		e.Text = "Begun again: " + about
	case markPaused:
		e.Text = "Paused"
	case markResumed:
		e.Text = "Resumed"
	case markEnded:
		e.Text = endText(m.About)
	default:
		e.Text = m.Kind
	}
	if m.Detail != "" && m.SyncID == nil {
		e.Text += ": " + m.Detail
	}
	return e
}
