package logbook

import (
	"errors"

	"beacon/outcall"
	"beacon/store"
	"beacon/wire"
)

// Explain turns errors of the store and of outside requests into problems; others pass through.
func Explain(err error) error {
	var p *wire.Problem
	var call *outcall.Error
	switch {
	case err == nil || errors.As(err, &p):
		return err
	case errors.As(err, &call):
		remedy := ""
		switch call.Kind {
		case outcall.Unauthorised:
			remedy = ". Check the credential of this account"
		case outcall.Unavailable, outcall.Limited:
			remedy = ". Try again in a moment"
		}
		return wire.Problemf(wire.UpstreamFailed, "%s%s.", err, remedy)
	case store.IsAway(err):
		return away(err)
	case errors.Is(err, store.ErrNotFound):
		return wire.Problemf(wire.NotFound, "%s.", err)
	case errors.Is(err, store.ErrTaken):
		return wire.Problemf(wire.Blocked, "%s.", err)
	}
	return err
}

// away returns what a database that is away means for what was asked.
func away(err error) *wire.Problem {
	var a *store.Away
	return Away(errors.As(err, &a) && a.Unknown)
}

// Away returns what a database that is away means for what was asked; unknown says that a change may have been made.
func Away(unknown bool) *wire.Problem {
	if unknown {
		return wire.Problemf(wire.Unavailable, "The database broke off while the change was being stored: it may have been made. Look before you repeat it.")
	}
	return wire.Problemf(wire.Unavailable, "The database is away, or takes no writes. Nothing was changed. Try again in a moment; /readyz reports when it is back.")
}

// Passing reports whether a problem passes by itself: the service's own database was away.
func Passing(err error) bool {
	var p *wire.Problem
	return store.IsAway(err) || errors.As(err, &p) && p.Kind == wire.Unavailable
}
