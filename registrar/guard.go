package registrar

import (
	"context"

	"beacon/core/dnsname"
	"beacon/looking"
)

// guarded is a driver that changes nothing under a context that only looks.
type guarded struct{ Driver }

// Guarded returns a driver that refuses to change anything under a context that only looks.
func Guarded(d Driver) Driver { return guarded{d} }

func (g guarded) Save(ctx context.Context, name dnsname.Name, nameservers []dnsname.Name) (Registration, error) {
	if looking.Is(ctx) {
		return Registration{}, looking.ErrLooking
	}
	return g.Driver.Save(ctx, name, nameservers)
}

func (g guarded) Activate(ctx context.Context, name dnsname.Name) (Registration, error) {
	if looking.Is(ctx) {
		return Registration{}, looking.ErrLooking
	}
	return g.Driver.Activate(ctx, name)
}
