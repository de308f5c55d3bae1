package users

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"errors"
	"net/netip"
	"regexp"
	"strings"
	"time"

	"beacon/core/access"
	"beacon/looking"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// Users are the users of one service. It is safe for concurrent use.
type Users struct {
	logbook  *logbook.Book
	guesses  guesses
	hashing  *hashing
	watch    watch
	refusals refusals
	limits   limits
}

// New returns the users that a logbook's database holds.
func New(book *logbook.Book) *Users {
	u := &Users{logbook: book, hashing: newHashing()}
	u.limits.token.allowance, u.limits.key.allowance, u.limits.unknown.allowance = ofToken, ofToken, ofUnknown
	return u
}

// sessionLife is how long a sign-in lasts, real time.
const sessionLife = 14 * 24 * time.Hour

func newPassword() (string, error) {
	raw := make([]byte, 15)
	_, err := rand.Read(raw)
	return strings.ToLower(base32.StdEncoding.EncodeToString(raw)), err
}

var personName = regexp.MustCompile(`^[a-z][a-z0-9.-]{0,63}$`)

// longestPassword is how long a password may be, in octets; names are as long as personName says.
const longestPassword = 1024

// SignIn verifies a password and returns a token. Tries of one name from one network, and of one network, are limited; other users do not wait for them. A
// password is compared outside of any transaction.
func (u *Users) SignIn(ctx context.Context, name, password string, from netip.Addr) (token string, expires time.Time, err error) {
	wrong := wire.Problemf(wire.NotSignedIn, "Name or password is wrong.")
	if !personName.MatchString(name) || len(password) > longestPassword {
		name, password = "?", "" // no user has them; it takes as long as any wrong password
	}
	right, id, err := u.compare(ctx, name, password, from)
	if err != nil {
		return "", expires, err
	}
	if !right {
		return "", expires, errors.Join(u.logbook.Tx(ctx, func(tx *store.Tx) error {
			return logbook.Log(tx, "service", "user.sign-in-failed", name, "from "+from.String())
		}), wrong)
	}
	return token, expires, u.logbook.Tx(ctx, func(tx *store.Tx) error {
		if token, expires, err = tx.AddSession(id, "sign-in", sessionLife); err != nil {
			return err
		}
		return logbook.Log(tx, name, "user.signed-in", name, "from "+from.String())
	})
}

// SignOut makes a token invalid.
func (u *Users) SignOut(ctx context.Context, by access.Caller, token string) error {
	if err := Personal(by); err != nil {
		return err
	}
	return u.logbook.Tx(ctx, func(tx *store.Tx) error { return tx.DropToken(token) })
}

// Caller finds who comes with a token from an address, and notes that the token is used for an action. Reports are limited: those of one token, and those with tokens
// that nobody has from one network.
func (u *Users) Caller(ctx context.Context, token string, from netip.Addr, action access.Action) (c access.Caller, err error) {
	unknown := wire.Problemf(wire.NotSignedIn, "The token is not valid, or no longer. Sign in again: beacon sign-in. Programs need a token: beacon token add.")
	var row store.TokenRow
	err = u.logbook.Tx(looking.Off(ctx), func(tx *store.Tx) error {
		if !access.Known(token) {
			return nil
		}
		if row, err = tx.TokenOf(token); store.IsMissing(err) {
			row = store.TokenRow{}
			return nil
		}
		if err != nil || !row.From(from) {
			return err
		}
		return tx.TokenUsed(row, from, action)
	})
	switch {
	case err == nil && row.ID == 0:
		u.refused(ctx, "service", "token.unknown", "?", from, "")
		if action == access.Report {
			if wait := u.limits.unknown.take(networkOf(from), u.logbook.Now()); wait > 0 {
				return c, tooMany(wait)
			}
		}
		return c, unknown
	case err != nil:
		return c, err
	case !row.From(from):
		u.refused(ctx, row.Caller().Name, "token.refused", row.Caller().Token, from, "the token does not allow this network")
		return c, wire.Problemf(wire.NotPermitted, "The token %s does not allow the network address %s. Nothing changed. Its networks: beacon token list.", row.Caller().Token, from)
	}
	if action == access.Report && row.Kind() == access.HostToken {
		if wait := u.limits.token.take(row.ID, u.logbook.Now()); wait > 0 {
			u.refused(ctx, row.Caller().Name, "access.refused", row.Caller().Name, from, "too many reports")
			return c, tooMany(wait)
		}
	}
	return row.Caller(), nil
}
