package wire

import (
	"time"

	"beacon/core/access"
)

type Me struct {
	Name   string         `json:"name"`
	Rights []access.Right `json:"rights"`
}

type NewUser struct {
	Name string `json:"name" required:"true"`
}

type UserAdded struct {
	Name     string `json:"name"`
	Password string `json:"password"`
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
