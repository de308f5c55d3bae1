package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/handover"
	"beacon/wire"
)

// A forecast changes nothing, and what it says of when a change has settled is what a check says once it is made.
func TestForecastOfAHandover(t *testing.T) {
	t.Parallel()
	h := registered(t, "@ A 192.0.2.1\nwww A 192.0.2.1")
	none := int64(0)
	forecast, err := h.Handover.Forecast(ctx, access.Service, wire.ForecastRequest{Domain: zone, Publish: &none})
	require.NoError(t, err)
	assert.Empty(t, forecast.Closed)
	var settles, switched time.Time
	var acts []handover.Do
	for _, s := range forecast.Steps {
		if s.Do != "" {
			acts = append(acts, s.Do)
		}
		if s.Phase == handover.Settling && !s.Until.IsZero() {
			switched, settles = s.At, s.Until
		}
	}
	assert.Equal(t, []handover.Do{handover.DoDelegate}, acts)
	require.False(t, settles.IsZero())
	assert.Contains(t, forecast.Next, "beacon delegate")
	now, err := h.Overview.Domain(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Empty(t, now.Wanted, "a forecast changes nothing")
	assert.NotContains(t, h.active(), forecast.New[0])
	act := h.delegate(wire.DelegateRequest{})
	require.Equal(t, wire.ActDone, act.State, act.Message)
	report, err := h.Checks.Check(ctx, access.Service, zone)
	require.NoError(t, err)
	require.NotEmpty(t, report.Moments)
	m := report.Moments[0]
	assert.Equal(t, m.By.Sub(m.Since), settles.Sub(switched))
	_, err = h.Handover.Forecast(ctx, access.Service, wire.ForecastRequest{Domain: zone})
	require.NoError(t, err, "what is left of a change that is settling is foreseen too")
}

// What a forecast cannot compute from is refused, with what to do.
func TestForecastOfNothing(t *testing.T) {
	t.Parallel()
	h := registered(t, "@ A 192.0.2.1")
	past := int64(-1)
	var active []string
	for _, n := range h.active() {
		active = append(active, n.String())
	}
	for name, c := range map[string]struct {
		r    wire.ForecastRequest
		says string
	}{
		"negative":       {wire.ForecastRequest{Domain: zone, Grace: &past}, "grace is -1"},
		"active already": {wire.ForecastRequest{Domain: zone, Nameservers: active}, "active already"},
		"unknown":        {wire.ForecastRequest{Domain: dnsname.MustParse("unknown.example")}, "unknown.example"},
	} {
		_, err := h.Handover.Forecast(ctx, access.Service, c.r)
		assert.ErrorContains(t, err, c.says, name)
	}
	ready, err := h.Handover.Forecast(ctx, access.Service, wire.ForecastRequest{Domain: zone, Nameservers: []string{"sand-11.curlew.test", "sand-13.curlew.test"}})
	if assert.NoError(t, err) && assert.NotEmpty(t, ready.Closed, "%+v", ready) {
		assert.True(t, ready.Ends.IsZero())
	}
}
