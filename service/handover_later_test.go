package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/handover"
	"beacon/core/record"
	"beacon/wire"
)

// The old side says something else about a name, and cannot be written: what it says is accepted, and what was desired is proposed once nobody asks there any more.
func TestRecordsAreProposedAfterAHandover(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.register()
	www, post := dnsname.MustParse("www."+zone.String()), dnsname.MustParse("post."+zone.String())
	h.byHand("plover", record.NewSet(www, record.A, 300, "192.0.2.41"), record.NewSet(post, record.A, 300, "192.0.2.42"))
	require.NoError(t, h.Accounts.RemoveAccount(ctx, access.Service, wire.RoleProvider, "plover-old"))
	mine := record.NewSet(www, record.A, 300, "192.0.2.99")
	_, err := h.Zones.ImportZone(ctx, access.Service, wire.Import{Zone: zone, File: "new.zone", Text: "www 300 A 192.0.2.99\npost 300 A 192.0.2.42\n", Partial: true})
	require.NoError(t, err)
	h.gathered(wire.GatheringRequest{})
	_, err = h.Gather.Accept(ctx, access.Service, wire.GatheringAcceptance{Domain: zone, Afterwards: true, DryRun: true})
	assert.ErrorContains(t, err, "No handover of saltmarsh-ferries.example is open")

	_, err = h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "heron-main"})
	require.NoError(t, err)
	v := h.moving(false, func(v wire.Handover) bool { return len(v.Compared.Differences) > 0 })
	assert.Equal(t, www, v.Compared.Differences[0].Key.Name)
	for range 2 { // once more, what is proposed stays
		_, err = h.Gather.Accept(ctx, access.Service, wire.GatheringAcceptance{Domain: zone, Afterwards: true})
		require.NoError(t, err)
	}
	v = h.moving(true, asks(handover.AskAllow, handover.DoDelegate))
	assert.Equal(t, []record.Set{mine}, v.Later)
	assert.Empty(t, v.Compared.Differences)
	d, err := h.Zones.Draft(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Empty(t, d.Edits, "both sides say the same as long as both are asked")

	h.allows(handover.DoDelegate)
	v = h.moving(true, doneWith)
	assert.Empty(t, v.Later)
	d, err = h.Zones.Draft(ctx, access.Service, zone)
	require.NoError(t, err)
	require.Len(t, d.Edits, 1)
	assert.Equal(t, mine, d.Edits[0].After)
	assert.Equal(t, access.Service.Name, d.Edits[0].Author)
	_, err = h.Zones.AcceptDraft(ctx, access.Service, zone, d.Tag, "")
	require.NoError(t, err, "and it can be accepted")
}
