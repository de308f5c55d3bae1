package registrar

import (
	"context"

	"beacon/core/dnsname"
	"beacon/looking"
	"beacon/outcall"
)

// paced is a driver whose requests wait for their turn.
type paced struct {
	Driver
	pace outcall.Pace
}

// Paced returns a driver that keeps to a pace. It tries reads again where that is safe, makes changes once, and refuses a change under a
// context that only looks, and one that the registrar cannot take.
func Paced(d Driver, pace outcall.Pace) Driver { return paced{d, pace} }

func (p paced) Domains(ctx context.Context, cursor Cursor) (page Page, err error) {
	err = outcall.InTurn(ctx, p.pace, outcall.MostReads, func() (err error) { page, err = p.Driver.Domains(ctx, cursor); return err })
	return page, err
}

func (p paced) Look(ctx context.Context, name dnsname.Name) (r Registration, err error) {
	err = outcall.InTurn(ctx, p.pace, outcall.MostReads, func() (err error) { r, err = p.Driver.Look(ctx, name); return err })
	return r, err
}

func (p paced) Poll(ctx context.Context, name dnsname.Name, r Receipt) (out Receipt, err error) {
	err = outcall.InTurn(ctx, p.pace, outcall.MostReads, func() (err error) { out, err = p.Driver.Poll(ctx, name, r); return err })
	return out, err
}

func (p paced) Apply(ctx context.Context, name dnsname.Name, c Change) (r Receipt, err error) {
	if looking.Is(ctx) {
		return r, looking.ErrLooking
	}
	if err := p.Caps().Unfit(c); err != nil {
		return r, &outcall.Error{Kind: outcall.Refused, Outcome: outcall.NotSent, Asked: string(c.Do) + " " + dnsname.Short(name), Said: err.Error()}
	}
	err = outcall.InTurn(ctx, p.pace, 1, func() (err error) {
		if err := outcall.TooLate(ctx); err != nil {
			return err
		}
		r, err = p.Driver.Apply(ctx, name, c)
		return err
	})
	return r, err
}
