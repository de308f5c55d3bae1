package handover

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"beacon/core/access"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/handover"
	"beacon/provider"
	"beacon/service/accounts"
	"beacon/service/check"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// Begin begins the move of a domain: the zone is placed at the new account, and the rest is done in the background, as far as users allow it.
func (s *Handover) Begin(ctx context.Context, by access.Caller, r wire.HandoverRequest) (out wire.Handover, err error) {
	for _, action := range []access.Action{access.Delegate, access.Sync, access.Place} {
		if err := wire.Permit(by, action, access.Zone(r.Domain)); err != nil {
			return out, err
		}
	}
	return s.begin(ctx, by, r, 0)
}

// begin is Begin; back is the handover that this one goes back on, 0 for none.
func (s *Handover) begin(ctx context.Context, by access.Caller, r wire.HandoverRequest, back uint64) (out wire.Handover, err error) {
	name := r.Domain.Unicode()
	grace, err := span("grace", r.Grace, usualGrace)
	if err != nil {
		return out, err
	}
	if (r.To == "") == (len(r.Nameservers) == 0) {
		return out, wire.Problemf(wire.Invalid, "Name the account that %s moves to (--to ACCOUNT), or a set of nameservers that is not managed here (--nameservers). Nothing was changed.", name)
	}
	if r.Gap && (r.To != "" || strings.TrimSpace(r.Reason) == "") {
		return out, wire.Problemf(wire.Invalid, "A new side that accepts %s only once it is delegated there leaves a time in which nobody gets an answer. That is for nameservers that are not managed here (--nameservers), and needs a reason (--reason). Nothing was changed.", name)
	}
	if err := allowable(r.Allow); err != nil {
		return out, err
	}
	if r.AtOnce < 0 || r.AtOnce > 0 && r.Batch == "" || len(r.Batch) > 100 {
		return out, wire.Problemf(wire.Invalid, "A batch has a name of at most 100 characters (--batch NAME), and a number of domains that may be under way at a time (--at-once). Nothing was changed.")
	}
	if _, err := s.settings.Calendar(r.Window, r.Timezone); err != nil {
		return out, err
	}
	if err := s.movable(ctx, r.Domain); err != nil {
		return out, err
	}
	course := handover.Course{Domain: r.Domain, KeepOld: r.KeepOld, Sign: r.Sign, Grace: grace, Window: r.Window, Timezone: r.Timezone, Gap: r.Gap, Lower: r.Lower, Urgent: back != 0}
	if course.Old, err = s.activeSet(ctx, by, r); err != nil {
		return out, err
	}
	if len(r.Nameservers) > 0 {
		looked, err := s.delegations.Look(ctx, wire.DelegateRequest{Domain: r.Domain, Nameservers: r.Nameservers}, nil)
		if err != nil {
			return out, logbook.Explain(err)
		}
		course.New = looked.Target
	}
	switch {
	case r.From == noAccount:
		r.From = ""
	case r.From == "" && back == 0:
		if r.From, err = s.oldAccount(ctx, r, course.Old); err != nil {
			return out, err
		}
	}
	if err := s.sides(ctx, r); err != nil {
		return out, err
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		row, err := s.keep(by, tx, r, course, back)
		if err != nil {
			return err
		}
		if r.DryRun {
			p, err := s.read(tx, row)
			if err == nil {
				out, err = s.view(tx, p)
			}
			if err == nil {
				err = errPreview
			}
			return err
		}
		return s.due(tx, row)
	})
	switch {
	case errors.Is(err, errPreview):
		out.ID = 0
		return out, s.foresee(ctx, &out, course)
	case err != nil:
		return out, err
	}
	return s.Show(ctx, by, r.Domain)
}

// errPreview takes back what a preview wrote.
var errPreview = errors.New("a preview")

// foresee adds the timetable to a preview, where the new nameservers are known.
func (s *Handover) foresee(ctx context.Context, v *wire.Handover, course handover.Course) error {
	course.New, course.OldHere = v.New, v.From != ""
	v.Doing = ""
	p := plan{course: course, from: v.From, to: v.To}
	if len(course.New) == 0 { // then when cannot be foreseen, and what can
		for _, do := range []handover.Do{handover.DoSync, handover.DoDelegate, handover.DoRetire} {
			if do != handover.DoRetire || course.OldHere && !course.KeepOld {
				v.Steps = append(v.Steps, wire.HandoverStep{Text: p.doText(do), Do: do, State: wire.StepPending, Needs: do != handover.DoSync})
			}
		}
		return nil
	}
	looked, err := s.delegations.Look(ctx, wire.DelegateRequest{Domain: v.Domain, Nameservers: asTyped(course.New)}, nil)
	if err != nil {
		return logbook.Explain(err)
	}
	evident, err := s.evident(ctx, looked, course)
	if err != nil {
		return err
	}
	calendar, err := s.calendarOf(course)
	if err != nil {
		return err
	}
	evident.OldPlaced = course.OldHere
	if v.To != "" {
		evident.Behind = []string{v.To}
	}
	if v.Gap = ""; course.Gap {
		v.Gap = handover.GapText(course, evident)
	}
	if v.Hanging, err = s.hanging(ctx, looked, course); err != nil {
		return err
	}
	p.last = decided{Place: looked.Place, ByHand: looked.ByHand, Stations: handover.Forecast(course, evident, followPublish, calendar)}
	v.Steps, v.Ends, v.Registrar = p.steps(history{}), p.ends(), looked.Place
	return nil
}

// allowable returns a problem where users need not allow one of some acts.
func allowable(list []handover.Do) error {
	for _, do := range list {
		if !slices.Contains(handover.Consent(), do) {
			return wire.Problemf(wire.Invalid, "%q needs nobody to allow it. What can be allowed: %s.", do, doList(handover.Consent()))
		}
	}
	return nil
}

func doList(list []handover.Do) string {
	texts := make([]string, len(list))
	for i, do := range list {
		texts[i] = string(do)
	}
	return strings.Join(texts, ", ")
}

// movable returns a problem where a domain has no records to move, or moves already.
func (s *Handover) movable(ctx context.Context, name dnsname.Name) error {
	return s.logbook.Look(ctx, func(tx *store.Tx) error {
		z, err := zones.ByName(tx, name)
		if err != nil {
			return err
		}
		if z.RevisionID == nil {
			return wire.Problemf(wire.Blocked, "Zone %s has no desired records yet. Import them first: beacon zone import %s FILE. Nothing was changed.", name.Unicode(), name.Unicode())
		}
		return s.Reserved(tx, z)
	})
}

// activeSet returns the set that all parents serve now; none where they serve none. Where the handover begins, what is seen is kept: waits are computed from it.
func (s *Handover) activeSet(ctx context.Context, by access.Caller, r wire.HandoverRequest) (set []dnsname.Name, err error) {
	if !r.DryRun {
		if _, err := s.checks.Check(ctx, access.For(by.Name), r.Domain); err != nil {
			return nil, err
		}
	}
	var z store.Zone
	var d store.Domain
	err = s.logbook.Look(ctx, func(tx *store.Tx) (err error) {
		if z, err = zones.ByName(tx, r.Domain); err == nil {
			d, err = check.DomainOrNew(tx, z.ID)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	past, err := d.PastSweeps()
	if err == nil && r.DryRun {
		_, past, err = s.checks.Look(ctx, z, d, nil, nil)
	}
	if err == nil && len(past.Current.Set) == 0 && past.Absent == nil {
		err = wire.Problemf(wire.UpstreamFailed, "Not all nameservers of the zone above %s answer, so the nameservers that it leaves are not known. Nothing was changed. Try again in a minute.", r.Domain.Unicode())
	}
	return past.Current.Set, err
}

// noAccount is written where the old zone stays as it is, although a connected account has it.
const noAccount = "-"

// oldAccount returns the connected account that has the zone with the nameservers that are left; empty for none. An account that cannot be asked now is none.
func (s *Handover) oldAccount(ctx context.Context, r wire.HandoverRequest, old []dnsname.Name) (string, error) {
	var list []store.Account
	if err := s.logbook.Look(ctx, func(tx *store.Tx) (err error) { list, err = accounts.Providers(tx); return err }); err != nil || len(old) == 0 {
		return "", err
	}
	for _, a := range list {
		driver, err := s.accounts.Provider(a)
		if err != nil || a.Name == r.To {
			continue
		}
		if zone, there, err := provider.FindZone(ctx, driver, r.Domain); err == nil && there && shares(zone.Nameservers, old) {
			return a.Name, nil
		}
	}
	return "", nil
}

// driverOf returns the driver of a provider account.
func (s *Handover) driverOf(ctx context.Context, account string) (driver provider.PacedDriver, err error) {
	var a store.Account
	if err = s.logbook.Look(ctx, func(tx *store.Tx) (err error) { a, err = s.accounts.Named(tx, account); return err }); err == nil {
		driver, err = s.accounts.Provider(a)
	}
	return driver, err
}

// sides returns a problem where an account does not exist, or the zone is not there that is to be left.
func (s *Handover) sides(ctx context.Context, r wire.HandoverRequest) error {
	for _, account := range []string{r.To, r.From} {
		if account == "" {
			continue
		}
		driver, err := s.driverOf(ctx, account)
		if err == nil && account == r.To {
			err = s.fits(ctx, driver, r.Domain, account)
		}
		if err != nil {
			return err
		}
		if account != r.From {
			continue
		}
		_, there, err := provider.FindZone(ctx, driver, r.Domain)
		if err != nil {
			return logbook.Explain(err)
		}
		if !there {
			return wire.Problemf(wire.NotFound, "Account %s has no zone %s, so it cannot be left there. Nothing was changed.", account, r.Domain.Unicode())
		}
	}
	return nil
}

// keep stores a handover, and places the zone at both accounts.
func (s *Handover) keep(by access.Caller, tx *store.Tx, r wire.HandoverRequest, course handover.Course, back uint64) (row store.Handover, err error) {
	z, err := zones.Lock(tx, r.Domain)
	if err != nil {
		return row, err
	}
	if err := s.Reserved(tx, z); err != nil {
		return row, err
	}
	row = store.Handover{ZoneID: z.ID, State: store.HandoverOpen, BegunBy: by.Name, BegunAt: s.world.Now(), Phase: string(handover.Preparing), Batch: r.Batch, AtOnce: r.AtOnce}
	if z.RegistrarID != nil {
		row.Lane = *z.RegistrarID
	}
	if row.NewAccount, err = s.place(tx, z, r.To); err != nil {
		return row, err
	}
	if row.OldAccount, err = s.place(tx, z, r.From); err != nil {
		return row, err
	}
	placements, err := zones.Placements(tx, z.ID)
	if err != nil {
		return row, err
	}
	for _, p := range placements {
		switch {
		case row.NewAccount != nil && p.AccountID == *row.NewAccount:
			course.New = dnsname.SortSet(p.Names())
			if told := p.ToldSet(); len(told) > 0 && !slices.Equal(told, course.New) { // of a handover before this one
				if err := zones.Tell(tx, p.ID, course.New); err != nil {
					return row, err
				}
			}
		case row.OldAccount == nil && shares(p.Names(), course.Old):
			row.OldAccount = &p.AccountID
		}
	}
	if len(course.New) > 0 && delegation.SameSet(course.New, course.Old) {
		return row, s.elsewhere(r, fmt.Sprintf("The nameservers of %s are active already: %s. Nothing was changed.", r.Domain.Unicode(), dnsname.ShortList(course.New)))
	}
	if row.OldAccount != nil && row.NewAccount != nil && *row.OldAccount == *row.NewAccount {
		return row, s.elsewhere(r, fmt.Sprintf("%s is at %s already, and moves to it from another account only. Nothing was changed.", r.Domain.Unicode(), r.To))
	}
	course.OldHere = row.OldAccount != nil
	setCourse(&row, course)
	if err := tx.AddHandover(&row); err != nil {
		return row, err
	}
	for _, do := range r.Allow {
		if err := s.mark(tx, row, store.HandoverMark{Kind: markAllowed, About: string(do), SaidBy: by.Name, Detail: r.Reason}); err != nil {
			return row, err
		}
	}
	detail := fmt.Sprintf("handover %d", row.ID)
	if r.To != "" {
		detail += " to " + r.To
	} else {
		detail += " to " + dnsname.ShortList(course.New)
	}
	if back != 0 {
		detail += fmt.Sprintf(", back on handover %d", back)
	}
	if r.Reason != "" {
		detail += ": " + r.Reason
	}
	return row, logbook.Log(tx, by.Name, "handover.begun", r.Domain.String(), detail)
}

// elsewhere returns a problem, with the way to a second zone at the same account where its provider makes one.
func (s *Handover) elsewhere(r wire.HandoverRequest, text string) error {
	if other := s.accounts.Further(r.To); other != "" && r.To != "" {
		text += fmt.Sprintf(" A second zone there, with nameservers of its own: beacon handover begin %s --to %s.", r.Domain.Unicode(), other)
	}
	return &wire.Problem{Kind: wire.Blocked, Message: text}
}

// place makes sure that a zone is placed at an account, and returns the account; nil for none.
func (s *Handover) place(tx *store.Tx, z store.Zone, account string) (*uint64, error) {
	if account == "" {
		return nil, nil
	}
	a, err := s.accounts.Ensured(tx, account)
	if err != nil {
		return nil, err
	}
	_, err = zones.Place(tx, z.ID, a.ID)
	return &a.ID, err
}

// shares reports whether two sets have a nameserver in common.
func shares(a, b []dnsname.Name) bool {
	return slices.ContainsFunc(a, func(n dnsname.Name) bool { return slices.Contains(b, n) })
}

// setCourse keeps a course with its digest.
func setCourse(row *store.Handover, c handover.Course) {
	text, err := json.Marshal(c)
	if err != nil {
		panic(err) // our own type
	}
	sum := sha256.Sum256(text)
	row.Course, row.Digest = string(text), hex.EncodeToString(sum[:])
}

// mark appends a mark of what a user said, or of an act.
func (s *Handover) mark(tx *store.Tx, row store.Handover, m store.HandoverMark) error {
	m.HandoverID, m.At = row.ID, s.world.Now()
	return tx.AddMark(&m)
}
