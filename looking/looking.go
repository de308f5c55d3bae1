// Package looking marks a context under which nothing may be changed: a preview, a dry run, a page. The database then refuses to write,
// and drivers refuse to send what changes something outside. "Last used" of accounts and tokens is recorded all the same.
package looking

import (
	"context"
	"errors"
)

// ErrLooking means that something was about to be changed under a context that only looks: a fault of ours.
var ErrLooking = errors.New("nothing can be changed here: this only looks")

type key struct{}

// On returns a context under which nothing may be changed.
func On(ctx context.Context) context.Context { return context.WithValue(ctx, key{}, true) }

// Off returns a context under which a change may be recorded that looking itself makes, such as when an account was last used.
func Off(ctx context.Context) context.Context { return context.WithValue(ctx, key{}, false) }

// Is reports whether nothing may be changed under a context.
func Is(ctx context.Context) bool {
	on, _ := ctx.Value(key{}).(bool)
	return on
}
