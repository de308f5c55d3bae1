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
		return wire.Problemf(wire.Outside, "%s%s.", err, remedy)
	case errors.Is(err, store.ErrNotFound):
		return wire.Problemf(wire.Missing, "%s.", err)
	case errors.Is(err, store.ErrTaken):
		return wire.Problemf(wire.InTheWay, "%s.", err)
	}
	return err
}
