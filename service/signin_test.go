package service_test

import (
	"fmt"
	"net/netip"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/service/users"
	"beacon/wire"
)

var here = netip.MustParseAddr("127.0.0.1")

// Guesses from one network, at one name and at many, are told to wait, and cost one comparison a few seconds. A right password from another network gets
// in meanwhile, and what failed is in the logbook with the address.
func TestGuessing(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	const name, password = "admin", "seagulls over the quay"
	require.NoError(t, h.Users.FirstUser(ctx, password))
	there := netip.MustParseAddr("198.51.100.7")
	var wrong, limited atomic.Int64
	var group sync.WaitGroup
	for i := range 200 {
		group.Go(func() {
			guess := name
			if i%2 == 0 {
				guess = "somebody-" + string(rune('a'+i%26))
			}
			_, _, err := h.Users.SignIn(ctx, guess, "guess", netip.AddrFrom4([4]byte{192, 0, 2, byte(i)}))
			switch asProblem(t, err).Kind {
			case wire.NotSignedIn:
				wrong.Add(1)
			case wire.Limited:
				limited.Add(1)
				assert.Positive(t, asProblem(t, err).After)
			}
		})
	}
	began := time.Now()
	token, _, err := h.Users.SignIn(ctx, name, password, there)
	require.NoError(t, err, "somebody else is not kept out")
	assert.Less(t, time.Since(began), 5*time.Second)
	group.Wait()
	assert.EqualValues(t, 200, wrong.Load()+limited.Load())
	assert.Less(t, wrong.Load(), int64(30), "so many of them were compared")
	caller, err := h.Users.Caller(ctx, token, netip.Addr{}, access.See)
	require.NoError(t, err)
	assert.Equal(t, name, caller.Name)

	failed := 0
	entries, err := h.Logbook.Entries(ctx, access.Service, "", false, 0, 1000)
	require.NoError(t, err)
	for _, e := range entries {
		if e.Action == "user.sign-in-failed" {
			assert.Contains(t, e.Detail, "from 192.0.2.")
			failed++
		}
	}
	assert.EqualValues(t, wrong.Load(), failed)
	_, _, err = h.Users.SignIn(ctx, name, password, netip.MustParseAddr("192.0.2.1"))
	assert.Equal(t, wire.Limited, asProblem(t, err).Kind, "from their network the right one is not tried either: that would tell it")
}

// A user who has lost the password gets a new one on the machine of the service, and its sessions end.
func TestRecoverUser(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	const name, password = "admin", "seagulls over the quay"
	require.NoError(t, h.Users.FirstUser(ctx, password))
	token, _, err := h.Users.SignIn(ctx, name, password, here)
	require.NoError(t, err)
	at := users.Recovery{Database: h.settings.Database, Reach: h.settings.AllowedNetworks}
	fresh, err := users.Recover(ctx, at, name)
	require.NoError(t, err)
	_, err = h.Users.Caller(ctx, token, netip.Addr{}, access.See)
	assert.Equal(t, wire.NotSignedIn, asProblem(t, err).Kind)
	_, _, err = h.Users.SignIn(ctx, name, password, here)
	assert.Equal(t, wire.NotSignedIn, asProblem(t, err).Kind)
	_, _, err = h.Users.SignIn(ctx, name, fresh, here)
	assert.NoError(t, err)
	_, err = users.Recover(ctx, at, "nobody")
	assert.ErrorContains(t, err, "nobody")
}

// Passwords are hashed few at a time, those of new users and changed ones too: users that are added in a crowd wait, or are refused for now.
func TestPasswordsAreHashedFewAtATime(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	var made, limited atomic.Int64
	var group sync.WaitGroup
	for i := range 60 {
		group.Go(func() {
			switch _, err := h.Users.AddUser(ctx, access.Service, wire.NewUser{Name: fmt.Sprintf("crew-%d", i)}); {
			case err == nil:
				made.Add(1)
			case asProblem(t, err).Kind == wire.Limited:
				limited.Add(1)
			}
		})
	}
	group.Wait()
	assert.Positive(t, made.Load())
	assert.Positive(t, limited.Load(), "of 60 at once some wait too long")
	assert.EqualValues(t, 60, made.Load()+limited.Load())
	list, err := h.Users.Users(ctx, access.Service)
	require.NoError(t, err)
	assert.Len(t, list, int(made.Load()), "who was refused is not there")
}
