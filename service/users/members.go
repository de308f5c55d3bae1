package users

import (
	"context"
	"fmt"
	"net/netip"
	"slices"

	"beacon/core/access"
	"beacon/core/wording"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// Personal returns a problem for callers that are no user who signed in: passwords and sessions are not for tokens.
func Personal(by access.Caller) error {
	if by.UserID == 0 || by.Token != "" {
		return wire.Problemf(wire.NotPermitted, "A token cannot do this: it is for the user who signed in. Nothing changed.")
	}
	return nil
}

// notUsers are names by which the logbook and acts know others than users.
var notUsers = []string{"service", "host", "token", "folder", "current"}

// checkGrants returns a problem where grants are wrong, or wider than those of the caller.
func checkGrants(by access.Caller, grants []access.Grant) error {
	if len(grants) == 0 {
		return wire.Problemf(wire.Invalid, "There is no grant. Nothing changed. Grant a role, such as viewer.")
	}
	for _, g := range grants {
		if err := g.Check(); err != nil {
			return wire.Problemf(wire.Invalid, "%s. Nothing changed.", wording.Sentence(err.Error()))
		}
	}
	lists := [][]access.Grant{by.Grants}
	if by.TokenOf {
		lists = append(lists, by.Within)
	}
	for _, have := range lists {
		if g, more, wider := access.Wider(grants, have); wider {
			return wire.Problemf(wire.NotPermitted, "The grant %q allows %s, which your own grants do not allow as far (%s). Nothing changed. Grant less, or ask an owner.", g, more, access.Text(have))
		}
	}
	return nil
}

// AddUser makes another user and returns the password, which is shown once. Without grants it is a viewer.
func (u *Users) AddUser(ctx context.Context, by access.Caller, n wire.NewUser) (password string, err error) {
	if err := wire.Permit(by, access.Users, access.Everything); err != nil {
		return "", err
	}
	if slices.Contains(notUsers, n.Name) {
		return "", wire.Problemf(wire.Invalid, "%q cannot be the name of a user: the logbook calls the service itself so, or a machine. Nothing changed.", n.Name)
	}
	if !personName.MatchString(n.Name) {
		return "", wire.Problemf(wire.Invalid, "%q is not a user name. Use lower-case letters, digits, dots and hyphens, such as petra.", n.Name)
	}
	if len(n.Grants) == 0 {
		n.Grants = access.Full(access.Viewer)
	}
	if err := checkGrants(by, n.Grants); err != nil {
		return "", err
	}
	if password, err = newPassword(); err != nil {
		return "", err
	}
	var hash store.PasswordHash
	if err := u.hashing.do(ctx, netip.Addr{}, func() { hash = store.HashPassword(password) }); err != nil {
		return "", err
	}
	return password, u.logbook.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.AddUser(n.Name, hash, n.Grants); err != nil {
			return err
		}
		return logbook.Log(tx, by.Name, "user.added", n.Name, "granted: "+access.Text(n.Grants))
	})
}

// Users returns all users, by name.
func (u *Users) Users(ctx context.Context, by access.Caller) (list []wire.UserView, err error) {
	if err := wire.Permit(by, access.Users, access.Everything); err != nil {
		return nil, err
	}
	err = u.logbook.Look(ctx, func(tx *store.Tx) error {
		rows, err := tx.Users()
		for _, r := range rows {
			list = append(list, wire.UserView{Name: r.Name, Grants: r.Grants, CreatedAt: r.CreatedAt, SignedInAt: r.SignedInAt, Tokens: r.Tokens})
		}
		return err
	})
	return list, err
}

// lockedUser returns a user that the caller may change, and all others, and keeps changes of users by others away.
func lockedUser(tx *store.Tx, by access.Caller, name string) (user store.User, others []store.User, err error) {
	if err := tx.LockUsers(); err != nil {
		return user, nil, err
	}
	all, err := tx.Users()
	if err != nil {
		return user, nil, err
	}
	at := slices.IndexFunc(all, func(u store.User) bool { return u.Name == name })
	if at < 0 {
		return user, nil, wire.Problemf(wire.NotFound, "There is no user %s. All users: beacon user list.", name)
	}
	user = all[at]
	if g, more, wider := access.Wider(user.Grants, by.Grants); wider {
		return user, nil, wire.Problemf(wire.NotPermitted, "%s has the grant %q, which allows %s; your own grants do not allow that as far. Nothing changed. Ask an owner.", name, g, more)
	}
	return user, slices.Delete(all, at, at+1), nil
}

// manages reports whether one of some users may manage users.
func manages(list []store.User) bool {
	return slices.ContainsFunc(list, func(u store.User) bool {
		return access.May(access.Caller{Grants: u.Grants}, access.Users, access.Everything).Allowed
	})
}

// SetGrants changes what a user may do. One user at least may manage users afterwards.
func (u *Users) SetGrants(ctx context.Context, by access.Caller, name string, grants []access.Grant) error {
	if err := wire.Permit(by, access.Users, access.Everything); err != nil {
		return err
	}
	if err := checkGrants(by, grants); err != nil {
		return err
	}
	return u.logbook.Tx(ctx, func(tx *store.Tx) error {
		user, others, err := lockedUser(tx, by, name)
		if err != nil {
			return err
		}
		before := access.Text(user.Grants)
		if user.Grants = grants; !manages(append(others, user)) {
			return wire.Problemf(wire.Blocked, "No user could manage users any more. Nothing changed. Make another user an owner first: beacon user grant NAME owner.")
		}
		if err := tx.SetGrants(name, grants); err != nil {
			return err
		}
		return logbook.Log(tx, by.Name, "user.granted", name, fmt.Sprintf("%s; before: %s", access.Text(grants), before))
	})
}

// Remove removes a user. Its sessions and tokens end; what it made stays. One user at least may manage users afterwards.
func (u *Users) Remove(ctx context.Context, by access.Caller, name string) error {
	if err := wire.Permit(by, access.Users, access.Everything); err != nil {
		return err
	}
	return u.logbook.Tx(ctx, func(tx *store.Tx) error {
		user, others, err := lockedUser(tx, by, name)
		if err != nil {
			return err
		}
		if !manages(others) {
			return wire.Problemf(wire.Blocked, "%s is the last user that can manage users. Nothing changed. Make another one an owner first: beacon user add NAME --grant owner.", name)
		}
		detail := ""
		tokens, err := tx.Tokens(user.ID)
		if err != nil {
			return err
		}
		for i, t := range tokens {
			if detail += t.Name; i < len(tokens)-1 {
				detail += ", "
			}
		}
		if detail != "" {
			detail = "its tokens end: " + detail
		}
		if err := tx.RemoveUser(name); err != nil {
			return err
		}
		return logbook.Log(tx, by.Name, "user.removed", name, detail)
	})
}
