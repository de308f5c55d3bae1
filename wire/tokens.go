package wire

import (
	"net/netip"
	"time"

	"beacon/core/access"
)

// NewToken is a token for a script or a machine that is to be made.
type NewToken struct {
	Name     string         `json:"name" required:"true"`
	Grants   []access.Grant `json:"grants" required:"true"` // no wider than those of its maker
	Networks []netip.Prefix `json:"networks,omitempty"`     // that it may come from; none for all
	Expires  *time.Time     `json:"expires,omitempty"`      // none for never
}

// TokenMade is a new token, or one that was renewed. Its text is shown this once.
type TokenMade struct {
	Name    string     `json:"name"`
	Token   string     `json:"token"`
	Expires *time.Time `json:"expires"`
	Until   *time.Time `json:"until"` // how long the text from before the renewal is valid
}

// TokenRenewal gives a token another text.
type TokenRenewal struct {
	Overlap int        `json:"overlap"`           // seconds for which the text until now stays valid; 0 for not at all
	Expires *time.Time `json:"expires,omitempty"` // a new end; none keeps the one that it has
}

// TokenView is a token as it is shown, without its text.
type TokenView struct {
	Name          string           `json:"name"`   // of the token; of a dynamic host: the name of the host
	Kind          access.TokenKind `json:"kind"`   // "token" of a machine, "host" of a dynamic host
	Maker         string           `json:"maker"`  // the user that made it; it ends with that user
	Begins        string           `json:"begins"` // the first characters of its text
	Grants        []access.Grant   `json:"grants"`
	Networks      []netip.Prefix   `json:"networks"`
	CreatedAt     time.Time        `json:"created_at"`
	Expires       *time.Time       `json:"expires"`
	PreviousUntil *time.Time       `json:"previous_until"` // the text from before the renewal is valid until then
	FirstUsedAt   *time.Time       `json:"first_used_at"`
	FirstUsedFrom string           `json:"first_used_from"` // network address
	LastUsedAt    *time.Time       `json:"last_used_at"`    // to the minute
	LastUsedFrom  string           `json:"last_used_from"`
	Used          []access.Action  `json:"used"`   // actions that it was used for
	Doubts        []string         `json:"doubts"` // that it is not used, or may more than it does
}
