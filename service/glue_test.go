package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/wire"
)

// The glue of a delegation is answered by a referral: nobody says of it that it is not served.
func TestGlueIsServedByReferral(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1\nsub NS ns1.sub\nsub NS ns2.elsewhere.example.\nns1.sub A 192.0.2.9\nns1.sub AAAA 2001:db8::9")
	v := h.sync(wire.SyncRequest{})
	require.Equal(t, wire.SyncDone, v.State)
	assert.NotContains(t, codes(v.Findings), "not-served-yet", v.Message)
}
