package users

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"beacon/core/access"
	"beacon/core/wording"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// firstName is the name of the first user.
const firstName = "admin"

// firstLife is how long the link of a first start is valid.
const firstLife = 24 * time.Hour

// checkPassword returns what is wrong with a password that a user chose, or nil.
func checkPassword(name, password string) error {
	switch {
	case len(password) < shortestPassword:
		return wire.Problemf(wire.Invalid, "The new password has %s; %d are the least. Nothing was changed.", wording.Counted(len(password), "character"), shortestPassword)
	case len(password) > longestPassword:
		return wire.Problemf(wire.Invalid, "The new password has more than %d characters. Nothing was changed.", longestPassword)
	case strings.Contains(strings.ToLower(password), strings.ToLower(name)):
		return wire.Problemf(wire.Invalid, "The new password has the name of the user in it. Nothing was changed.")
	}
	return nil
}

// FirstCode returns a code with which the first user chooses a password, once; it is empty where there are users already. Each start without users
// makes another one.
func (u *Users) FirstCode(ctx context.Context) (code string, err error) {
	return code, u.logbook.Tx(ctx, func(tx *store.Tx) error {
		n, err := tx.CountUsers()
		if err == nil && n == 0 {
			code, err = tx.AddFirstCode(firstLife)
		}
		return err
	})
}

// TakeFirstCode makes the first user, an owner, with a password that was chosen. The code is worth nothing afterwards.
func (u *Users) TakeFirstCode(ctx context.Context, f wire.FirstUser, from netip.Addr) (made wire.UserMade, err error) {
	if wait := u.guesses.take("first user", from, u.logbook.Now()); wait > 0 {
		seconds := int(wait.Seconds()) + 1
		return made, &wire.Problem{Kind: wire.Limited, After: seconds, Message: fmt.Sprintf("Too many links were tried from your network. Try again in %d s.", seconds)}
	}
	wrong := wire.Problemf(wire.NotSignedIn, "The link is not valid, or no longer: it works for 24 hours. Restart the service for another one.")
	valid := false
	err = u.logbook.Look(ctx, func(tx *store.Tx) error {
		n, err := tx.CountUsers()
		if n > 0 {
			wrong = wire.Problemf(wire.NotSignedIn, "The link works once, and there are users already. Sign in: beacon sign-in. A lost password: beacon recover-user admin, on the machine of the service.")
		}
		if err == nil {
			valid, err = tx.FirstCodeValid(f.Code)
		}
		return err
	})
	switch {
	case err != nil:
		return made, err
	case !valid:
		u.refused(ctx, "service", "user.sign-in-failed", firstName, from, "by a link of the first start that is not valid")
		return made, wrong
	}
	if err := checkPassword(firstName, f.Password); err != nil {
		return made, err
	}
	var hash store.PasswordHash
	if err := u.hashing.do(ctx, from, func() { hash = store.HashPassword(f.Password) }); err != nil {
		return made, err
	}
	return wire.UserMade{Name: firstName}, u.logbook.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.LockUsers(); err != nil {
			return err
		}
		valid, err := tx.FirstCodeValid(f.Code)
		if err == nil && !valid {
			return wrong
		}
		if err != nil {
			return err
		}
		return addFirst(tx, hash, "by the link of the first start, from "+from.String())
	})
}

// addFirst adds the first user. All codes end.
func addFirst(tx *store.Tx, hash store.PasswordHash, how string) error {
	n, err := tx.CountUsers()
	if err != nil {
		return err
	}
	if n > 0 {
		return wire.Problemf(wire.Blocked, "There are users already. Nothing was changed. A lost password: beacon recover-user NAME, on the machine of the service.")
	}
	if err := tx.AddUser(firstName, hash, access.Full(access.Owner)); err != nil {
		return err
	}
	if err := tx.DropFirstCodes(); err != nil {
		return err
	}
	return logbook.Log(tx, "service", "user.added", firstName, "the first user, "+how)
}

// AddFirst makes the first user with a password, in the database that the service's own settings name.
func AddFirst(ctx context.Context, r Recovery, password string) error {
	if err := checkPassword(firstName, password); err != nil {
		return err
	}
	db, err := r.open(ctx)
	if err != nil {
		return err
	}
	defer db.Close()
	hash := store.HashPassword(password)
	return db.Tx(ctx, func(tx *store.Tx) error { return addFirst(tx, hash, "on the machine of the service") })
}

// FirstUser makes the first user with a password.
func (u *Users) FirstUser(ctx context.Context, password string) error {
	hash := store.HashPassword(password)
	return u.logbook.Tx(ctx, func(tx *store.Tx) error { return addFirst(tx, hash, "by the program") })
}
