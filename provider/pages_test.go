package provider_test

import (
	"context"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/provider"
)

// looping is a provider whose second page leads to itself, or to ever new pages.
type looping struct {
	provider.Driver
	next func(provider.Cursor) provider.Cursor
}

func (l looping) Zones(ctx context.Context, cursor provider.Cursor) (provider.ZonePage, error) {
	return provider.ZonePage{Next: l.next(cursor)}, ctx.Err()
}

func (l looping) Read(ctx context.Context, _ provider.ZoneRef, from provider.ReadFrom) (provider.Page, error) {
	return provider.Page{Records: []record.Record{}, Next: l.next(from.Cursor)}, ctx.Err()
}

// A list whose pages lead back to an earlier one, or do not end, is an error and not read for ever.
func TestListsEnd(t *testing.T) {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	same := looping{next: func(provider.Cursor) provider.Cursor { return "2" }}
	n := 0
	endless := looping{next: func(provider.Cursor) provider.Cursor { n++; return provider.Cursor(strconv.Itoa(n)) }}
	for _, d := range []looping{same, endless} {
		_, _, err := provider.FindZone(ctx, d, dnsname.MustParse("a.example"))
		assert.ErrorContains(t, err, "pages")
		_, err = provider.ReadAll(ctx, d, provider.ZoneRef{}, provider.State{})
		assert.ErrorContains(t, err, "pages")
	}
}
