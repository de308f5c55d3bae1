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
