// Package access decides who may do what. It knows rights, not people: whoever asks comes with the rights that a
// sign-in or a token gave.
package access

import (
	"fmt"
	"slices"
)

// Right is something that one may be allowed to do.
type Right string

// The rights, each including nothing of the others.
const (
	Read   Right = "read"   // see zones, domains, checks
	Write  Right = "write"  // change what zones contain, sync and delegate
	Manage Right = "manage" // accounts, people, tokens
)

// All returns every right, as the first user has them.
func All() []Right { return []Right{Read, Write, Manage} }

// Caller is whoever asks.
type Caller struct {
	UserID uint64
	Name   string // of the user or token, for the logbook
	Rights []Right
}

// May reports whether the caller has the right; the zero Caller has none.
func (c Caller) May(r Right) bool { return slices.Contains(c.Rights, r) }

// Parse reads rights as people write them.
func Parse(texts []string) ([]Right, error) {
	var rights []Right
	for _, text := range texts {
		if !slices.Contains(All(), Right(text)) {
			return nil, fmt.Errorf("%q is no right; the rights are read, write and manage", text)
		}
		rights = append(rights, Right(text))
	}
	return rights, nil
}
