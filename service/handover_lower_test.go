package service_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/core/handover"
	"beacon/core/record"
	"beacon/wire"
)

// TTLs are lowered before a move, at both sides, and are what they were at its end; the wait for what caches hold is a comfort gate, which is passed without a reason.
func TestHandoverLowersTTLs(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("curlew-ops", "@ 60 A 192.0.2.1\nwww 60 A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	z, err := h.Overview.Zone(ctx, access.Service, zone)
	require.NoError(t, err)
	var hosts []string
	for _, n := range z.Placements[0].Nameservers {
		hosts = append(hosts, n.String())
	}
	require.NoError(t, h.world.Register(zone.String(), hosts, 600))
	_, err = h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "heron-main", Lower: true, Grace: &hour})
	require.NoError(t, err)
	v := h.moving(false, func(v wire.Handover) bool {
		return len(v.Closed) > 0 && v.Closed[0].Code == handover.ComfortNS
	})
	assert.Equal(t, finding.Notice, v.Closed[0].Severity)
	ns := h.live("curlew").Get(record.Key{Name: zone, Type: record.NS})
	assert.EqualValues(t, handover.LowNS, ns.TTL)
	assert.Len(t, ns.Data, len(hosts), "it names the same nameservers")
	negative := func() uint32 {
		w := h.look(t, v)
		for _, a := range evidence.ServersOf(w, v.New) {
			if a.Answer == evidence.Positive {
				return a.SOA.Negative
			}
		}
		return 0
	}
	assert.EqualValues(t, handover.LowNegative, negative())
	_, err = h.Handover.Next(ctx, access.Service, wire.HandoverWord{Domain: zone, Pass: []string{handover.GateNotReady}})
	assert.Error(t, err, "a safety gate needs a reason")
	_, err = h.Handover.Next(ctx, access.Service, wire.HandoverWord{Domain: zone, Pass: []string{handover.ComfortNS}})
	require.NoError(t, err)
	h.allows(handover.DoDelegate)
	h.allows(handover.DoRetire)
	v = h.moving(true, func(v wire.Handover) bool { return v.State == wire.HandoverDone })
	assert.Greater(t, negative(), uint32(handover.LowNegative), "it is what it was: %+v", v.Steps)
	var done []string
	for _, s := range v.Steps {
		if s.Do == handover.DoLower || s.Do == handover.DoRestore {
			done = append(done, fmt.Sprint(s.Do, " ", s.State))
		}
	}
	assert.Contains(t, done, "lower-ttls done")
	assert.Contains(t, done, "restore-ttls done")
}

// look asks about the zone from outside.
func (h house) look(t *testing.T, v wire.Handover) evidence.Sweep {
	var hosts []string
	for _, n := range v.New {
		hosts = append(hosts, n.String())
	}
	looked, err := h.Delegations.Look(ctx, wire.DelegateRequest{Domain: zone, Nameservers: hosts}, nil)
	require.NoError(t, err)
	return looked.Sweep
}
