package wire

import (
	"time"

	"beacon/core/access"
)

// Me is who asks, and what it may do.
type Me struct {
	Name       string          `json:"name"`       // of the user, or "token" and the name of the token
	Actions    []access.Action `json:"actions"`    // what it may do, somewhere
	Everywhere []access.Action `json:"everywhere"` // what it may do to the whole installation
	Grants     []access.Grant  `json:"grants"`     // of a token: those that it was made with; its maker may have less since then
}

// NewUser is a user that is to be added.
type NewUser struct {
	Name   string         `json:"name" required:"true"`
	Grants []access.Grant `json:"grants,omitempty"` // what it may do; role viewer everywhere where none is given
}

// UserView is a user as it is shown.
type UserView struct {
	Name       string         `json:"name"`
	Grants     []access.Grant `json:"grants"`
	CreatedAt  time.Time      `json:"created_at"`
	SignedInAt *time.Time     `json:"signed_in_at"` // when the newest session began that is still kept
	Tokens     int            `json:"tokens"`       // machine tokens that it made; they end with it
}

// GrantsChange is what a user may do from now on.
type GrantsChange struct {
	Grants []access.Grant `json:"grants" required:"true"`
}

type UserAdded struct {
	Name     string `json:"name"`
	Password string `json:"password"`
}

// FirstUser makes the first user by the link that the first start printed.
type FirstUser struct {
	Code     string `json:"code" required:"true"`     // behind the # of the link; it works once
	Password string `json:"password" required:"true"` // twelve characters at least
}

// UserMade is a user that was made.
type UserMade struct {
	Name string `json:"name"`
}

// SignIn is a name and password. A browser gets its token as a cookie instead of in the answer.
type SignIn struct {
	Name     string `json:"name" required:"true"`
	Password string `json:"password" required:"true"`
	Browser  bool   `json:"browser,omitempty"`
}

type SignedIn struct {
	Token   string    `json:"token"` // empty for a browser
	Expires time.Time `json:"expires"`
}

// PasswordChange gives the caller another password.
type PasswordChange struct {
	Current string `json:"current" required:"true"` // the password until now
	New     string `json:"new" required:"true"`     // twelve characters at least
}

// Session is a sign-in of the caller that is valid.
type Session struct {
	ID        uint64    `json:"id"`
	Label     string    `json:"label"` // what it was made for
	CreatedAt time.Time `json:"created_at"`
	ExpiresAt time.Time `json:"expires_at"` // when it ends by itself
	Current   bool      `json:"current"`    // it is the one that asks
}
