package users

import (
	"context"
	"fmt"
	"net/netip"

	"beacon/core/access"
	"beacon/core/wording"
	"beacon/looking"
	"beacon/reach"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// shortestPassword is how many octets a password has at least that a user chooses.
const shortestPassword = 12

// ChangePassword sets another password of the caller and ends its other sessions. The current one has to be right, and tries of it are limited as those of
// a sign-in are.
func (u *Users) ChangePassword(ctx context.Context, caller access.Caller, token string, r wire.PasswordChange, from netip.Addr) error {
	if err := Personal(caller); err != nil {
		return err
	}
	if err := checkPassword(caller.Name, r.New); err != nil {
		return err
	}
	if r.New == r.Current {
		return wire.Problemf(wire.Invalid, "The new password is the current one. Nothing was changed.")
	}
	right, _, err := u.compare(ctx, caller.Name, r.Current, from)
	if err != nil {
		return err
	}
	if !right {
		return wire.Problemf(wire.Invalid, "The current password is wrong. Nothing was changed.")
	}
	var hash store.PasswordHash
	if err := u.hashing.do(ctx, from, func() { hash = store.HashPassword(r.New) }); err != nil {
		return err
	}
	return u.logbook.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.SetPassword(caller.Name, hash); err != nil {
			return err
		}
		ended, err := tx.EndSessions(caller.Name, token)
		if err != nil {
			return err
		}
		return logbook.Log(tx, caller.Name, "user.password-changed", caller.Name, "from "+from.String()+"; "+wording.Counted(ended, "other session")+" ended")
	})
}

// compare reports whether a password is right. Tries are limited; the comparison is made outside of any transaction.
func (u *Users) compare(ctx context.Context, name, password string, from netip.Addr) (right bool, id uint64, err error) {
	if wait := u.guesses.take(name, from, u.logbook.Now()); wait > 0 {
		seconds := int(wait.Seconds()) + 1
		return false, 0, &wire.Problem{Kind: wire.Limited, After: seconds,
			Message: fmt.Sprintf("Too many passwords were tried with this name, or from your network. Try again in %d s.", seconds)}
	}
	var user store.PasswordOf
	if err := u.logbook.Look(looking.Off(ctx), func(tx *store.Tx) (err error) { user, err = tx.PasswordOf(name); return err }); err != nil {
		return false, 0, err
	}
	if err := u.hashing.do(ctx, from, func() { right = user.Is(password) }); err != nil {
		return false, 0, err
	}
	if right {
		u.guesses.right(name, from, u.logbook.Now())
	}
	return right, user.ID, nil
}

// Sessions returns the sessions of the caller, newest first.
func (u *Users) Sessions(ctx context.Context, caller access.Caller, token string) (list []wire.Session, err error) {
	if err := Personal(caller); err != nil {
		return nil, err
	}
	err = u.logbook.Look(ctx, func(tx *store.Tx) error {
		list = []wire.Session{}
		rows, err := tx.Sessions(caller.UserID, token)
		for _, r := range rows {
			list = append(list, wire.Session{ID: r.ID, Label: r.Label, CreatedAt: r.CreatedAt, ExpiresAt: r.ExpiresAt, Current: r.Current})
		}
		return err
	})
	return list, err
}

// EndSession ends a session of the caller.
func (u *Users) EndSession(ctx context.Context, caller access.Caller, id uint64) error {
	if err := Personal(caller); err != nil {
		return err
	}
	return u.logbook.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.EndSession(caller.UserID, id); err != nil {
			return err
		}
		return logbook.Log(tx, caller.Name, "user.session-ended", caller.Name, fmt.Sprintf("session %d", id))
	})
}

// Recovery is where a user is recovered: on the machine of the service, by its settings.
type Recovery struct {
	Database store.Settings
	Reach    []string // networks that may be reached
}

// open opens the database.
func (r Recovery) open(ctx context.Context) (*store.Store, error) {
	door, err := reach.New(r.Reach)
	if err != nil {
		return nil, fmt.Errorf("the setting allowed_networks: %w", err)
	}
	return store.Open(ctx, r.Database, door.Local(), nil)
}

// Recover sets a new random password of a user, which is returned and kept nowhere, and ends its sessions.
func Recover(ctx context.Context, r Recovery, name string) (password string, err error) {
	db, err := r.open(ctx)
	if err != nil {
		return "", err
	}
	defer db.Close()
	if password, err = newPassword(); err != nil {
		return "", err
	}
	hash := store.HashPassword(password)
	return password, db.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.SetPassword(name, hash); err != nil {
			return err
		}
		ended, err := tx.EndSessions(name, "")
		if err != nil {
			return err
		}
		return logbook.Log(tx, "service", "user.recovered", name, "on the machine of the service; "+wording.Counted(ended, "session")+" ended")
	})
}
