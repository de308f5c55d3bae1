package users

import (
	"context"
	"fmt"
	"net/netip"
	"regexp"
	"strings"
	"time"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/looking"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

var tokenName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,63}$`)

// longestOverlap is how long the text of a token may stay valid after it was renewed.
const longestOverlap = 30 * 24 * time.Hour

// AddToken makes a token for a script or a machine, with grants that are no wider than the caller's.
func (u *Users) AddToken(ctx context.Context, by access.Caller, n wire.NewToken) (made wire.TokenMade, err error) {
	if by.Token != "" {
		err = wire.Permit(by, access.Users, access.Everything)
	}
	if err == nil {
		err = checkGrants(by, n.Grants)
	}
	if err != nil {
		return made, err
	}
	now := u.logbook.Now()
	switch {
	case by.UserID == 0:
		return made, wire.Problemf(wire.NotPermitted, "A user makes tokens. Nothing changed.")
	case !tokenName.MatchString(n.Name):
		return made, wire.Problemf(wire.Invalid, "%q is not the name of a token. Use lower-case letters, digits and hyphens, such as backup-job. Nothing changed.", n.Name)
	case n.Expires != nil && !n.Expires.After(now):
		return made, wire.Problemf(wire.Invalid, "expires is %s, which is past. Nothing changed.", n.Expires.UTC().Format(time.RFC3339))
	case len(n.Networks) > 20:
		return made, wire.Problemf(wire.Invalid, "A token may come from at most 20 networks; these are %d. Nothing changed.", len(n.Networks))
	}
	for _, p := range n.Networks {
		if !p.IsValid() || p != p.Masked() || p.Addr().Is4In6() {
			return made, wire.Problemf(wire.Invalid, "%s is not a network. Write its first address and its length, such as 192.0.2.0/24 or 2001:db8::/48. Nothing changed.", p)
		}
	}
	made = wire.TokenMade{Name: n.Name, Expires: n.Expires}
	return made, u.logbook.Tx(ctx, func(tx *store.Tx) error {
		if err := noLonger(tx, by, n.Expires); err != nil {
			return err
		}
		if made.Token, err = tx.AddToken(store.NewToken{UserID: by.UserID, Name: n.Name, Grants: n.Grants, Networks: n.Networks, Expires: n.Expires}); err != nil {
			return err
		}
		detail := "granted: " + access.Text(n.Grants)
		if len(n.Networks) > 0 {
			detail += fmt.Sprintf("; from %v", n.Networks)
		}
		if n.Expires != nil {
			detail += "; until " + n.Expires.UTC().Format(time.RFC3339)
		}
		return logbook.Log(tx, by.Name, "token.added", n.Name, detail)
	})
}

// Tokens returns machine tokens, and those of dynamic hosts: all where the caller may manage users, else its own. A token that asks sees itself.
func (u *Users) Tokens(ctx context.Context, by access.Caller) (list []wire.TokenView, err error) {
	all := access.May(by, access.Users, access.Everything).Allowed
	err = u.logbook.Look(ctx, func(tx *store.Tx) error {
		maker := by.UserID
		if all {
			maker = 0
		}
		rows, err := tx.Tokens(maker)
		for _, r := range rows {
			if all || by.Token == "" && by.UserID != 0 || r.Name == by.Token {
				list = append(list, viewToken(r, u.logbook.Now()))
			}
		}
		return err
	})
	return list, err
}

func viewToken(r store.TokenRow, now time.Time) wire.TokenView {
	v := wire.TokenView{Name: r.Name, Kind: r.Kind(), Maker: r.User, Begins: r.Begins, Grants: r.Grants, Networks: r.Networks, CreatedAt: r.CreatedAt,
		Expires: r.ExpiresAt, PreviousUntil: r.PreviousUntil, FirstUsedAt: r.FirstUsedAt, FirstUsedFrom: r.FirstUsedFrom,
		LastUsedAt: r.LastUsedAt, LastUsedFrom: r.LastUsedFrom, Used: r.Used}
	if r.Kind() == access.HostToken {
		v.Name = store.HostTokenName(r.Host, r.Location, r.Uplink)
	}
	if v.PreviousUntil != nil && !v.PreviousUntil.After(now) {
		v.PreviousUntil = nil
	}
	usage := access.Usage{Made: r.CreatedAt, Networks: len(r.Networks), Used: r.Used}
	if r.LastUsedAt != nil {
		usage.LastUsed = *r.LastUsedAt
	}
	if r.ExpiresAt != nil {
		usage.Expires = *r.ExpiresAt
	}
	v.Doubts = access.Doubts(r.Grants, usage, now)
	return v
}

// theToken finds a token by its name, or by that of its host or of its uplink, as LOCATION/UPLINK, and looks whether the caller may have it in its hands.
func theToken(tx *store.Tx, by access.Caller, name string) (r store.TokenRow, err error) {
	if location, uplink, is := strings.Cut(name, "/"); is {
		r, err = tx.UplinkToken(location, uplink)
	} else if tokenName.MatchString(name) {
		r, err = tx.MachineToken(name)
	} else if host, wrong := dnsname.Parse(name); wrong == nil {
		r, err = tx.HostToken(host)
	} else {
		err = store.ErrNotFound
	}
	missing := wire.Problemf(wire.NotFound, "There is no token %s, or it is not yours. All that you may see: beacon token list.", name)
	switch {
	case store.IsMissing(err):
		return r, missing
	case err != nil:
		return r, err
	case r.Kind() == access.HostToken:
		hosts, maker, err := tx.UplinkOf(r)
		if err != nil {
			return r, err
		}
		may := len(hosts) > 0
		for _, h := range hosts {
			for _, t := range []record.Type{record.A, record.AAAA} {
				may = may && wire.Permit(by, access.Edit, access.Set(h.Zone, record.Key{Name: h.Name, Type: t})) == nil
			}
		}
		own := by.Token == "" && by.Name == maker && len(hosts) == 0 // while no host follows it
		if may || r.Location != "" && (own || access.May(by, access.Users, access.Everything).Allowed) {
			return r, nil
		}
		return r, missing
	case access.May(by, access.Users, access.Everything).Allowed, by.Token == "" && by.UserID == r.UserID, by.Token == r.Name:
		return r, nil
	}
	return r, missing
}

// noLonger returns a problem where a token that ends asks for one that ends later, itself included.
func noLonger(tx *store.Tx, by access.Caller, expires *time.Time) error {
	if by.Token == "" {
		return nil
	}
	own, err := tx.MachineToken(by.Token)
	if err != nil {
		return err
	}
	if end := own.ExpiresAt; end != nil && (expires == nil || expires.After(*end)) {
		return wire.Problemf(wire.NotPermitted, "The token %s ends at %s: it can make or renew none that ends later. Nothing changed. A user can.", by.Token, end.UTC().Format(time.RFC3339))
	}
	return nil
}

// RenewToken makes a new text for a token. The old one stays valid for the overlap, until the machines that use it have the new one.
func (u *Users) RenewToken(ctx context.Context, by access.Caller, name string, n wire.TokenRenewal) (made wire.TokenMade, err error) {
	overlap := time.Duration(n.Overlap) * time.Second
	now := u.logbook.Now()
	switch {
	case n.Overlap < 0 || int64(n.Overlap) > int64(longestOverlap/time.Second):
		return made, wire.Problemf(wire.Invalid, "overlap is %d s; it is from 0 to %d (30 days). Nothing changed.", n.Overlap, int(longestOverlap.Seconds()))
	case n.Expires != nil && !n.Expires.After(now):
		return made, wire.Problemf(wire.Invalid, "expires is %s, which is past. Nothing changed.", n.Expires.UTC().Format(time.RFC3339))
	}
	return made, u.logbook.Tx(ctx, func(tx *store.Tx) error {
		r, err := theToken(tx, by, name)
		if err != nil {
			return err
		}
		if r.Kind() == access.MachineToken && by.Token != r.Name { // who renews it has it
			if err := checkGrants(by, r.Grants); err != nil {
				return err
			}
		}
		if n.Expires == nil {
			n.Expires = r.ExpiresAt
		}
		if err := noLonger(tx, by, n.Expires); err != nil {
			return err
		}
		until := now.Add(overlap)
		made = wire.TokenMade{Name: name, Expires: n.Expires}
		if overlap > 0 {
			made.Until = &until
		}
		if made.Token, err = tx.RenewToken(r, until, n.Expires); err != nil {
			return err
		}
		return logbook.Log(tx, by.Name, "token.renewed", name, fmt.Sprintf("the text until now is valid for %s", overlap))
	})
}

// RevokeToken ends a machine token immediately.
func (u *Users) RevokeToken(ctx context.Context, by access.Caller, name string) error {
	return u.logbook.Tx(ctx, func(tx *store.Tx) error {
		r, err := theToken(tx, by, name)
		if err != nil {
			return err
		}
		if r.Kind() == access.HostToken {
			if err := tx.RevokeToken(r.ID); err != nil {
				return err
			}
			return logbook.Log(tx, by.Name, "token.revoked", name, "nothing reports with it; another one: beacon token renew "+name)
		}
		if err := tx.RemoveToken(r.ID); err != nil {
			return err
		}
		return logbook.Log(tx, by.Name, "token.revoked", name, "made by "+r.User)
	})
}

// Refused notes in the logbook that something was refused to a caller, with the network address: a line a minute for each caller and reason at most.
func (u *Users) Refused(ctx context.Context, by access.Caller, from netip.Addr, what string) {
	u.refused(ctx, by.Name, "access.refused", by.Name, from, what)
}

func (u *Users) refused(ctx context.Context, actor, action, subject string, from netip.Addr, what string) {
	if !u.refusals.first(action+" "+subject+" "+networkOf(from).String()+" "+what, u.logbook.Now()) {
		return
	}
	detail := "from " + from.String()
	if what != "" {
		detail += ": " + what
	}
	u.logbook.Note(looking.Off(ctx), actor, action, subject, detail)
}
