// Package conform holds the run that every driver of a registrar must pass, on a domain that the account holds and
// whose nameservers may be changed.
package conform

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/outcall"
	"beacon/registrar"
)

// Subject is what the run is made on.
type Subject struct {
	Driver   registrar.Driver
	WrongKey registrar.Driver // the same interface with the credential "wrong-key"
	Domain   dnsname.Name
	Other    []dnsname.Name // a nameserver list, sorted, that is not active
}

// Run makes every check as a subtest, and puts the domain back as it was.
func Run(t *testing.T, s Subject) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	before, err := s.Driver.Domain(ctx, s.Domain)
	require.NoError(t, err)

	t.Run("a wrong credential is unauthorised, and the error keeps it to itself", func(t *testing.T) {
		_, err := s.WrongKey.Domain(ctx, s.Domain)
		assert.Equal(t, outcall.Unauthorised, outcall.KindOf(err))
		assert.NotContains(t, err.Error(), "wrong-key")
	})
	t.Run("a domain that is not there is not found", func(t *testing.T) {
		_, err := s.Driver.Domain(ctx, dnsname.MustParse("nobody-has-this.example"))
		assert.Equal(t, outcall.NotFound, outcall.KindOf(err))
	})
	t.Run("the domain is listed as it is", func(t *testing.T) {
		found := false
		for cursor := registrar.Cursor(""); ; {
			page, err := s.Driver.Domains(ctx, cursor)
			require.NoError(t, err)
			for _, r := range page.Registrations {
				if r.Name == s.Domain {
					found = true
					assert.Equal(t, before, r)
				}
			}
			if cursor = page.Next; cursor == "" {
				break
			}
		}
		assert.True(t, found)
	})
	t.Run("a saved list is active only when it has been activated, where that is the registrar's way", func(t *testing.T) {
		saved, err := s.Driver.Save(ctx, s.Domain, s.Other)
		require.NoError(t, err)
		assert.Equal(t, s.Other, saved.Saved)
		if s.Driver.Caps().NeedsActivation {
			assert.Equal(t, before.Active, saved.Active)
		} else {
			assert.Equal(t, s.Other, saved.Active)
		}
		active, err := s.Driver.Activate(ctx, s.Domain)
		require.NoError(t, err)
		assert.Equal(t, s.Other, active.Active)
	})
	t.Run("activating twice, and saving what is saved, changes nothing", func(t *testing.T) {
		again, err := s.Driver.Activate(ctx, s.Domain)
		require.NoError(t, err)
		assert.Equal(t, s.Other, again.Active)
		again, err = s.Driver.Save(ctx, s.Domain, s.Other)
		require.NoError(t, err)
		assert.Equal(t, s.Other, again.Active)
	})
	t.Run("a list that cannot be is refused, and nothing of it is done", func(t *testing.T) {
		_, err := s.Driver.Save(ctx, s.Domain, []dnsname.Name{s.Other[0], s.Other[0]})
		assert.Equal(t, outcall.Refused, outcall.KindOf(err))
		now, err := s.Driver.Domain(ctx, s.Domain)
		require.NoError(t, err)
		assert.Equal(t, s.Other, now.Saved)
	})
	_, err = s.Driver.Save(ctx, s.Domain, before.Active)
	require.NoError(t, err)
	_, err = s.Driver.Activate(ctx, s.Domain)
	require.NoError(t, err)
}
