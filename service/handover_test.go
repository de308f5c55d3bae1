package service_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/core/dnssec"
	"beacon/core/dynaddr"
	"beacon/core/handover"
	"beacon/core/record"
	"beacon/practice"
	"beacon/practice/practicetest"
	"beacon/service"
	"beacon/service/freezes"
	"beacon/service/notify"
	"beacon/tell"
	"beacon/wire"
)

// atPlover is a domain whose zone is placed and delegated at Plover, and synced there.
func atPlover(t *testing.T, records string) house {
	t.Helper()
	return newHouse(t).atPlover(records)
}

func (h house) atPlover(records string) house {
	h.t.Helper()
	t := h.t
	h.register()
	h.define("plover-old", records)
	done := h.sync(wire.SyncRequest{})
	require.Equal(t, wire.SyncDone, done.State, "%+v", done)
	return h
}

// moving waits until the handover of the zone is as it should be, and skips simulated time where nothing else is due.
func (h house) moving(skip bool, is func(wire.Handover) bool) (v wire.Handover) {
	h.t.Helper()
	ok := assert.Eventually(h.t, func() bool {
		step := func(until time.Time) {
			_, err := h.StepClock(ctx, access.Service, until)
			require.NoError(h.t, err)
		}
		if skip { // what is due is done first, so that no skip begins before it was looked at what came of that
			step(h.now())
		}
		var err error
		v, err = h.Handover.Show(ctx, access.Service, zone)
		require.NoError(h.t, err)
		if !is(v) && skip {
			step(h.now().Add(24 * time.Hour))
		}
		return is(v)
	}, 4*time.Minute, 50*time.Millisecond)
	require.True(h.t, ok, "%+v", v)
	return v
}

// allows says yes to what is asked, and requires that it is this.
func (h house) allows(do handover.Do) wire.Handover {
	h.t.Helper()
	v := h.moving(true, asks(handover.AskAllow, do))
	_, err := h.Handover.Next(ctx, access.Service, wire.HandoverWord{Domain: zone})
	require.NoError(h.t, err)
	return v
}

func (h house) now() time.Time { now, _ := h.WorldNow(); return now }

func asks(kind handover.AskKind, do handover.Do) func(wire.Handover) bool {
	return func(v wire.Handover) bool { return v.Asked != nil && v.Asked.Kind == kind && v.Asked.Do == do }
}

// hour is how long the old zone stays in most tests, seconds.
var hour = int64(3600)

func doneWith(v wire.Handover) bool { return v.State == wire.HandoverDone }

// A plain move: begun, the nameservers allowed, the removal of the old zone allowed. Everything between is done by itself.
func TestHandover(t *testing.T) {
	t.Parallel()
	h := atPlover(t, "@ 60 A 192.0.2.1\nwww 60 A 192.0.2.1\n@ 300 MX 10 mail.post.example.\n@ TXT \"this zone is new at Plover\"")
	before := h.active()
	begun, err := h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "heron-main", Grace: &hour, Reason: "a better network"})
	require.NoError(t, err)
	assert.Equal(t, "plover-old", begun.From)
	assert.Equal(t, before, begun.Old)
	_, err = h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "heron-main"})
	assert.ErrorContains(t, err, "beacon handover next saltmarsh-ferries.example", "one at a time")
	_, err = h.Delegations.Delegate(ctx, access.Service, wire.DelegateRequest{Domain: zone})
	assert.ErrorContains(t, err, "beacon handover next saltmarsh-ferries.example", "delegate leaves it to the handover")

	v := h.moving(false, asks(handover.AskAllow, handover.DoDelegate))
	for _, c := range []struct {
		r    wire.HandoverWord
		says string
	}{{wire.HandoverWord{Allow: []handover.Do{"sync"}}, "needs nobody to allow it"}, {wire.HandoverWord{Pass: []string{"ds-present"}}, "needs a reason"},
		{wire.HandoverWord{Pass: []string{"ds-present"}, Reason: "x"}, "No gate ds-present is closed"}, {wire.HandoverWord{Agree: "abc"}, "do not differ as the digest"}} {
		c.r.Domain = zone
		_, err := h.Handover.Next(ctx, access.Service, c.r)
		assert.ErrorContains(t, err, c.says)
	}
	assert.Equal(t, handover.Ready, v.Phase)
	assert.Empty(t, v.Compared.Differences)
	assert.Positive(t, v.Compared.Names)
	assert.True(t, v.Back.Cheap)
	assert.Equal(t, before, h.active(), "nothing was asked of the registrar")
	_, err = h.Handover.Next(ctx, access.Service, wire.HandoverWord{Domain: zone})
	require.NoError(t, err)
	h.moving(true, func(v wire.Handover) bool { return v.Phase == handover.Settling })
	_, err = h.Handover.Next(ctx, access.Service, wire.HandoverWord{Domain: zone})
	assert.ErrorContains(t, err, "asks for nothing")
	v = h.moving(true, asks(handover.AskAllow, handover.DoRetire))
	assert.Equal(t, v.New, h.active())
	assert.NotEqual(t, before, h.active())
	assert.Equal(t, 1, h.zonesNamed("plover"), "the old zone stays until it is allowed to go")
	_, err = h.Handover.Next(ctx, access.Service, wire.HandoverWord{Domain: zone})
	require.NoError(t, err)
	v = h.moving(true, doneWith)
	assert.Zero(t, h.zonesNamed("plover"))
	assert.Nil(t, v.Asked)
	assert.NotEmpty(t, v.Report)
	for _, step := range v.Steps {
		assert.Equal(t, wire.StepDone, step.State, "%+v", step)
	}
	_, err = h.Delegations.Preview(ctx, access.Service, wire.DelegateRequest{Domain: zone})
	assert.NoError(t, err, "it is over")
}

const ploverRecords = "@ 60 A 192.0.2.1\nwww 60 A 192.0.2.1\n@ 300 MX 10 mail.post.example.\n@ TXT \"this zone is new at Plover\""

// A signed domain moves to a provider that signs with other keys: the DS goes, its time passes, the nameservers change, and the new DS comes once no cache holds
// an unsigned answer. All that validates finds answers at each step.
func TestHandoverOfASignedDomain(t *testing.T) {
	t.Parallel()
	w := practicetest.StartWith(t, practice.Options{Rate: 60, Signed: true})
	h := newHouseIn(t, w, func(s *service.Settings, _ string) {
		s.DNS.TrustAnchors, s.Checks.Settling = filepath.Join(t.TempDir(), "anchors"), 5*time.Minute
		require.NoError(t, os.WriteFile(s.DNS.TrustAnchors, []byte(w.Anchor()), 0o600))
	}).atPlover(ploverRecords)
	h.control("/signing", map[string]any{"zone": zone.String(), "at": "plover"})
	act := h.finished(h.Delegations.ChangeDS(ctx, access.Service, wire.DSRequest{Domain: zone}))
	require.Equal(t, wire.ActDone, act.State, act.Message)
	report, err := h.Checks.Check(ctx, access.Service, zone)
	require.NoError(t, err)
	require.Equal(t, dnssec.Secure, report.DNSSEC)

	_, err = h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "heron-main", Sign: true, Grace: &hour})
	require.NoError(t, err)
	require.Eventually(t, func() bool { return h.zonesNamed("heron") == 1 }, 2*time.Minute, 20*time.Millisecond)
	h.control("/signing", map[string]any{"zone": zone.String(), "at": "heron"})
	before := h.active()
	v := h.allows(handover.DoRemoveDS)
	assert.Equal(t, handover.Insecure, v.Phase)
	v = h.moving(true, func(v wire.Handover) bool { return len(v.Wait) > 0 && !v.Wait[0].Until.IsZero() })
	assert.Equal(t, handover.Insecure, v.Phase, "the DS and the keys are held for as long as their TTLs")
	assert.GreaterOrEqual(t, v.Wait[0].Until.Sub(h.now()), 50*time.Minute, "the key set has a TTL of an hour")
	v = h.allows(handover.DoDelegate)
	assert.Equal(t, before, h.active(), "until it was allowed")
	h.allows(handover.DoRetire) // Plover's NS records cannot be changed: what keeps asking there has to be gone before a DS of other keys
	v = h.allows(handover.DoAddDS)
	assert.Zero(t, h.zonesNamed("plover"))
	h.moving(true, doneWith)
	report, err = h.Checks.Check(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Equal(t, dnssec.Secure, report.DNSSEC)
	assert.Zero(t, h.zonesNamed("plover"))
}

// Before the nameservers change, going back ends the handover; afterwards it is a handover of its own. A paused one begins nothing.
func TestHandoverBack(t *testing.T) {
	t.Parallel()
	h := atPlover(t, ploverRecords)
	old := h.active()
	begin := func() {
		_, err := h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "heron-main", Allow: []handover.Do{handover.DoDelegate}})
		require.NoError(t, err)
	}
	h.fault(`{"site":"4.1","status":503,"writes":true}`)
	begin()
	_, err := h.Handover.Pause(ctx, access.Service, wire.HandoverEnd{Domain: zone})
	require.NoError(t, err)
	_, err = h.Handover.Next(ctx, access.Service, wire.HandoverWord{Domain: zone})
	assert.ErrorContains(t, err, "beacon handover resume saltmarsh-ferries.example")
	h.fault(`{"site":"4.1"}`)
	v := h.moving(false, func(v wire.Handover) bool { return v.State == wire.HandoverPaused && v.Doing == "" })
	assert.Equal(t, old, h.active())
	assert.True(t, v.Back.Cheap)
	v, err = h.Handover.Back(ctx, access.Service, wire.HandoverEnd{Domain: zone, Reason: "a drill"})
	require.NoError(t, err)
	assert.Equal(t, wire.HandoverAbandoned, v.State)
	assert.False(t, v.Back.Possible)
	_, err = h.Handover.Back(ctx, access.Service, wire.HandoverEnd{Domain: zone})
	assert.ErrorContains(t, err, "nothing to go back on")

	begin()
	v = h.moving(true, func(v wire.Handover) bool { return v.Phase == handover.Settling })
	assert.False(t, v.Back.Cheap)
	assert.True(t, v.Back.Possible)
	first := v.ID
	v, err = h.Handover.Back(ctx, access.Service, wire.HandoverEnd{Domain: zone})
	require.NoError(t, err)
	assert.NotEqual(t, first, v.ID)
	assert.Equal(t, "plover-old", v.To)
	h.moving(true, doneWith)
	assert.Equal(t, old, h.active())
	assert.Equal(t, 1, h.zonesNamed("heron"), "the new side stays")
}

// Without a registrar account a user enters the list; the handover sees at the parent that it was.
func TestHandoverByHand(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.register()
	text := "zones:\n  saltmarsh-ferries.example:\n    providers: [plover-old]\n    records: |\n      " + indented(ploverRecords) + "\n"
	_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "test.beacon.yaml", Text: text}}})
	require.NoError(t, err)
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	_, err = h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "heron-main", KeepOld: true})
	require.NoError(t, err)
	v := h.moving(true, asks(handover.AskByHand, handover.DoDelegate))
	require.Len(t, v.Asked.Enter, 4)
	h.control("/domains", map[string]any{"domain": "saltmarsh-ferries.example", "hosts": v.Asked.Enter})
	v = h.moving(true, doneWith)
	assert.Empty(t, v.Registrar)
	assert.Equal(t, 1, h.zonesNamed("plover"))
}

// A domain that is registered and not delegated yet has a short handover: no old side, nothing to compare, nothing to remove.
func TestHandoverOfAFirstDelegation(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	require.NoError(t, h.world.Register(zone.String(), nil, 120))
	h.define("heron-main", "@ A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	_, err := h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "heron-main"})
	require.NoError(t, err)
	v := h.allows(handover.DoDelegate)
	assert.Empty(t, v.Old)
	assert.Empty(t, v.Compared.Differences)
	v = h.moving(true, doneWith)
	assert.Equal(t, v.New, h.active())
	assert.False(t, v.Back.Possible)
}

// What changes while a domain moves reaches both sides, and a side that is behind closes the gate.
func TestEditsDuringAHandover(t *testing.T) {
	t.Parallel()
	h := atPlover(t, ploverRecords)
	_, err := h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "heron-main", Grace: &hour})
	require.NoError(t, err)
	h.moving(true, asks(handover.AskAllow, handover.DoDelegate))
	h.define("plover-old, heron-main", ploverRecords+"\ncam 60 A 192.0.2.9")
	h.allows(handover.DoDelegate)
	v := h.moving(true, func(v wire.Handover) bool { return v.Phase == handover.Switching || v.Phase == handover.Settling })
	for _, side := range []string{"plover", "heron"} {
		assert.Len(t, h.live(side).Get(record.Key{Name: dnsname.MustParse("cam.saltmarsh-ferries.example"), Type: record.A}).Data, 1, "%s: %+v", side, v.Steps)
	}
	h.define("plover-old, heron-main", ploverRecords+"\ncam 60 A 192.0.2.10")
	h.moving(true, func(v wire.Handover) bool { return v.Phase == handover.Settling })
	h.define("plover-old, heron-main", ploverRecords+"\ncam 60 A 192.0.2.11")
	h.allows(handover.DoRetire)
	for _, side := range []string{"plover", "heron"} {
		assert.Equal(t, []record.Data{"192.0.2.11"}, h.live(side).Get(record.Key{Name: dnsname.MustParse("cam.saltmarsh-ferries.example"), Type: record.A}).Data, side)
	}
}

// A host reports while its zone moves, and other records are edited: after each sync both sides have the same, from the first day of the handover to the removal of the old zone.
func TestReportsDuringAHandover(t *testing.T) {
	t.Parallel()
	h := atPlover(t, ploverRecords)
	token := h.newHost()
	_, err := h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "heron-main", Grace: &hour})
	require.NoError(t, err)
	h.moving(true, asks(handover.AskAllow, handover.DoDelegate))
	phases := map[handover.Phase]int{}
	n := 12
	if os.Getenv("BEACON_SOAK") != "" {
		n = 120
	}
	for i := range n {
		address := fmt.Sprintf("198.51.100.%d", 10+i)
		require.Equal(t, dynaddr.Accepted, h.report(token, address, "").Outcome)
		h.arrived()
		for _, side := range []string{"plover", "heron"} {
			require.Equal(t, address, addressOf(h.live(side)), "%s after report %d", side, i)
		}
		v, err := h.Handover.Show(ctx, access.Service, zone)
		require.NoError(t, err)
		phases[v.Phase]++
		switch i {
		case n / 4:
			h.allows(handover.DoDelegate)
		case n / 2:
			h.moving(false, func(v wire.Handover) bool { return v.Phase == handover.Settling })
		case n / 6, n/2 - 1, n - 2: // an edit goes along
			h.define("plover-old, heron-main", ploverRecords+fmt.Sprintf("\nshed 60 A 192.0.2.%d", 100+i))
			require.Eventually(t, func() bool {
				shed := record.Key{Name: dnsname.MustParse("shed.saltmarsh-ferries.example"), Type: record.A}
				old, next := h.live("plover").Get(shed), h.live("heron").Get(shed)
				return len(old.Data) == 1 && old.SameData(next) && old.Data[0] == record.Data(fmt.Sprintf("192.0.2.%d", 100+i))
			}, 2*time.Minute, 50*time.Millisecond)
		}
	}
	assert.Positive(t, phases[handover.Ready])
	assert.Positive(t, phases[handover.Settling], "%v", phases)
	h.allows(handover.DoRetire)
	h.moving(true, func(v wire.Handover) bool { return v.State == wire.HandoverDone })
	require.Equal(t, dynaddr.Accepted, h.report(token, "198.51.100.200", "").Outcome)
	h.arrived()
	assert.Equal(t, "198.51.100.200", addressOf(h.live("heron")))
}

// A reported address that one side does not take is shown with the handover and with the host, and no more once it is there.
func TestReportThatOneSideRefuses(t *testing.T) {
	t.Parallel()
	h := atPlover(t, ploverRecords)
	token := h.newHost()
	_, err := h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "heron-main", Grace: &hour})
	require.NoError(t, err)
	h.moving(true, asks(handover.AskAllow, handover.DoDelegate))
	h.fault(`{"site": "4.1", "status": 422, "writes": true}`)
	require.Equal(t, dynaddr.Accepted, h.report(token, "198.51.100.10", "").Outcome)
	unwritten := func() []wire.UnwrittenHost {
		v, err := h.Handover.Show(ctx, access.Service, zone)
		require.NoError(t, err)
		return v.Unwritten
	}
	require.Eventually(t, func() bool { return len(unwritten()) == 1 && unwritten()[0].Problem != "" }, 2*time.Minute, 50*time.Millisecond)
	one := unwritten()[0]
	assert.Equal(t, []string{"cam.saltmarsh-ferries.example.", "heron-main", "198.51.100.10"}, []string{one.Host.String(), one.Account, one.Address})
	v, err := h.Hosts.Host(ctx, access.Service, cam)
	require.NoError(t, err)
	assert.True(t, slices.ContainsFunc(v.Last.Arrivals, func(a wire.ArrivalView) bool { return a.Account == "heron-main" && a.Problem == one.Problem }))
	h.fault(`{"site": "4.1"}`)
	require.Equal(t, dynaddr.Accepted, h.report(token, "198.51.100.11", "").Outcome)
	h.arrived()
	assert.Empty(t, unwritten())
	// Passing trouble is said too, while the sync is tried again.
	h.fault(`{"site": "4.1", "status": 503, "writes": true}`)
	require.Equal(t, dynaddr.Accepted, h.report(token, "198.51.100.12", "").Outcome)
	require.Eventually(t, func() bool { return len(unwritten()) == 1 && unwritten()[0].Problem != "" }, 2*time.Minute, 50*time.Millisecond)
	assert.Contains(t, unwritten()[0].Problem, "503")
}

// Where a handover waits for a user, all channels are told, once; and it is among what needs a person today.
func TestWordOfAHandover(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	var asked []string
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		var word tell.Word
		assert.NoError(t, json.NewDecoder(r.Body).Decode(&word))
		mu.Lock()
		defer mu.Unlock()
		asked = append(asked, word.Asked)
	}))
	defer server.Close()
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("lantern\n"), 0o600))
	h := newHouseWith(t, func(s *service.Settings) {
		s.Notifications = notify.Settings{Delay: 100 * time.Millisecond, Hooks: []notify.HookSettings{{Name: "night-watch", Address: server.URL, SecretFile: secret}}}
	}).atPlover(ploverRecords)
	_, err := h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "heron-main"})
	require.NoError(t, err)
	want := "allow: change the nameservers at gannet-main"
	told := func() (n int) {
		mu.Lock()
		defer mu.Unlock()
		for _, text := range asked {
			if text == want {
				n++
			}
		}
		return n
	}
	require.Eventually(t, func() bool { return told() == 1 }, 2*time.Minute, 20*time.Millisecond)
	today, err := h.Overview.Today(ctx, access.Service)
	require.NoError(t, err)
	require.NotEmpty(t, today.Attention)
	assert.Equal(t, "handover", today.Attention[0].Kind)
	assert.Equal(t, want, today.Attention[0].Message)
	first := h.moving(false, asks(handover.AskAllow, handover.DoDelegate)).DecidedAt
	h.moving(false, func(v wire.Handover) bool { return v.DecidedAt.After(first.Add(time.Minute)) })
	assert.Equal(t, 1, told(), "once")
}

// With a window the nameservers change only in it, and a freeze comes before it; the forecast says so, and going back waits for neither.
func TestHandoverInAWindow(t *testing.T) {
	t.Parallel()
	h := newHouseWith(t, func(s *service.Settings) {
		today := time.Now().UTC()
		s.Checks.Settling = 30 * time.Minute
		s.Handovers = freezes.Settings{Freezes: []freezes.Freeze{{From: today.Format(time.DateOnly), To: today.AddDate(0, 0, 1).Format(time.DateOnly), Reason: "stocktaking"}}}
	}).atPlover(ploverRecords)
	old := h.active()
	_, err := h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "heron-main", Window: "Tuesday"})
	assert.ErrorContains(t, err, "Tue 02:00-04:00")
	v, err := h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "heron-main", Window: "02:00-04:00", KeepOld: true, Allow: []handover.Do{handover.DoDelegate}})
	require.NoError(t, err)
	assert.Equal(t, "02:00-04:00", v.Window)
	v = h.moving(false, func(v wire.Handover) bool {
		return len(v.Wait) == 1 && strings.HasPrefix(v.Wait[0].For, "its window opens")
	})
	assert.Equal(t, handover.Ready, v.Phase)
	opens := v.Wait[0].Until.UTC()
	assert.Equal(t, "02:00", opens.Format("15:04"))
	assert.Greater(t, opens.Sub(h.now()), 24*time.Hour, "the freeze ends before that")
	assert.Equal(t, old, h.active())
	v = h.moving(true, func(v wire.Handover) bool { return v.Phase == handover.Settling })
	for _, step := range v.Steps {
		if step.Do == handover.DoDelegate {
			assert.False(t, step.At.Before(opens), "%s", step.At)
		}
	}
	_, err = h.Handover.Back(ctx, access.Service, wire.HandoverEnd{Domain: zone})
	require.NoError(t, err)
	began := h.now()
	v = h.moving(true, doneWith)
	assert.Equal(t, old, h.active())
	for _, step := range v.Steps {
		if step.Do == handover.DoDelegate {
			assert.Less(t, step.At.Sub(began), 12*time.Hour, "it did not wait for the window")
		}
	}
}

// An act that a user cancels is not begun again before the user says so; one that fails is, and it is said.
func TestHandoverInTrouble(t *testing.T) {
	t.Parallel()
	h := atPlover(t, ploverRecords)
	h.fault(`{"site":"3.1","status":503,"writes":true}`)
	_, err := h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "heron-main", KeepOld: true, Allow: []handover.Do{handover.DoDelegate}})
	require.NoError(t, err)
	v := h.moving(false, func(v wire.Handover) bool {
		return strings.Contains(v.Doing, "act ") && strings.HasPrefix(v.Doing, "Change the nameservers")
	})
	acts, err := h.Acts.List(ctx, access.Service, zone.String(), 0, 10)
	require.NoError(t, err)
	var id uint64
	for _, a := range acts {
		if a.Kind == wire.ActDelegate && !a.State.Ended() {
			id = a.ID
		}
	}
	require.NotZero(t, id, "%+v", v)
	_, err = h.Acts.Cancel(ctx, access.Service, id, "a drill")
	require.NoError(t, err)
	v = h.moving(true, func(v wire.Handover) bool { return v.Trouble != "" && v.Doing == "" })
	assert.Contains(t, v.Trouble, "It was cancelled")
	page, err := h.Handover.List(ctx, access.Service, false, "", 10)
	require.NoError(t, err)
	require.Len(t, page.Items, 1)
	assert.Equal(t, "the last step did not come about", page.Items[0].Asked)
	count := func() (n int) {
		v, err := h.Handover.Show(ctx, access.Service, zone)
		require.NoError(t, err)
		for _, e := range v.Report {
			if strings.HasPrefix(e.Text, "Begun: Change") {
				n++
			}
		}
		return n
	}
	decided := v.DecidedAt
	h.moving(true, func(v wire.Handover) bool { return v.DecidedAt.After(decided.Add(2 * time.Minute)) })
	assert.Equal(t, 1, count(), "it is not begun again by itself")
	h.fault(`{"site":"3.1"}`)
	_, err = h.Handover.Next(ctx, access.Service, wire.HandoverWord{Domain: zone})
	require.NoError(t, err)
	h.moving(true, doneWith)
	assert.Equal(t, 2, count())
}

// Of a batch one domain is under way at a time, and none begins while one is in trouble.
func TestBatchOfHandovers(t *testing.T) {
	t.Parallel()
	h := newHouseWith(t, func(s *service.Settings) { s.Checks.Settling = 2 * time.Minute })
	m := &moves{house: h}
	var names []dnsname.Name
	for _, label := range []string{"ebb", "flow"} {
		name := dnsname.MustParse(label + ".example")
		names = append(names, name)
		m.apply("zones:\n  " + name.String() + ":\n    providers: [heron-main]\n    registrar: gannet-main\n    ttl: 60\n    records: |\n      @ A 192.0.2.1\n")
		m.syncOf(name)
		require.NoError(t, h.world.Register(name.String(), m.assigned(name), 120))
	}
	_, err := h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: names[0], To: "curlew-ops", AtOnce: 1})
	assert.ErrorContains(t, err, "--batch NAME")
	h.fault(`{"site":"3.1","status":422,"writes":true}`) // the registrar refuses what is asked of it
	for _, name := range names {
		_, err := h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: name, To: "curlew-ops", KeepOld: true, Batch: "spring", AtOnce: 1, Allow: []handover.Do{handover.DoDelegate}})
		require.NoError(t, err)
	}
	both := func() (list []wire.Handover) {
		for _, name := range names {
			v, err := h.Handover.Show(ctx, access.Service, name)
			require.NoError(t, err)
			list = append(list, v)
		}
		return list
	}
	queued := func(v wire.Handover, why string) bool {
		return len(v.Wait) == 1 && strings.Contains(v.Wait[0].For, why)
	}
	require.Eventually(t, func() bool {
		l := both()
		return l[0].Trouble != "" && queued(l[1], "ebb.example, of the same batch, is out of trouble") || l[1].Trouble != "" && queued(l[0], "flow.example, of the same batch, is out of trouble")
	}, 2*time.Minute, 50*time.Millisecond, "%+v", both())
	h.fault(`{"site":"3.1"}`)
	for i, v := range both() {
		if v.Trouble != "" {
			_, err := h.Handover.Next(ctx, access.Service, wire.HandoverWord{Domain: names[i]})
			require.NoError(t, err)
		}
	}
	seen := false
	for deadline := time.Now().Add(60 * time.Second); ; {
		l := both()
		under := 0
		for _, v := range l {
			if v.Phase == handover.Switching || v.Phase == handover.Settling {
				under++
			}
			seen = seen || queued(v, "another of the batch spring is done")
		}
		require.LessOrEqual(t, under, 1, "one at a time")
		if l[0].State == wire.HandoverDone && l[1].State == wire.HandoverDone {
			break
		}
		require.True(t, time.Now().Before(deadline), "%+v", l)
		_, err := h.StepClock(ctx, access.Service, h.now().Add(time.Hour))
		require.NoError(t, err)
	}
	assert.True(t, seen, "the other one waited for it")
}

// What the new provider cannot keep stops a handover before it begins; what else hangs on the old side is said in the preview.
func TestHandoverSaysWhatHangsOnTheOldSide(t *testing.T) {
	t.Parallel()
	h := atPlover(t, "@ 60 A 192.0.2.1\nwww 60 A 192.0.2.1\n@ 300 MX 10 mx1.plover.test.\n@ TXT \"this zone is new at Plover\"\nns1 A 192.0.2.53\n_acme-challenge TXT \"x\"")
	pier := "zones:\n  pier.example:\n    providers: [heron-main]\n    nameservers: [ns1.saltmarsh-ferries.example, ns2.harbour.test]\n    records: |\n      @ A 192.0.2.1\n"
	_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "pier.beacon.yaml", Text: pier}}})
	require.NoError(t, err)
	v, err := h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "heron-main", DryRun: true})
	require.NoError(t, err)
	require.NotEmpty(t, v.Steps)
	begun, err := h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "heron-main"})
	require.NoError(t, err)
	require.Equal(t, wire.HandoverOpen, begun.State)
	v = h.moving(false, asks(handover.AskAllow, handover.DoDelegate))
	var codes []string
	for _, f := range v.Hanging {
		codes = append(codes, f.Code)
	}
	assert.Equal(t, []string{handover.HangsServices, handover.HangsOthers, handover.HangsChallenge}, codes)
	_, err = h.Handover.Abandon(ctx, access.Service, wire.HandoverEnd{Domain: zone})
	require.NoError(t, err)

	forecast, err := h.Handover.Forecast(ctx, access.Service, wire.ForecastRequest{Domain: zone, To: "heron-main"})
	require.NoError(t, err)
	assert.Equal(t, v.New, forecast.New)
	_, err = h.Handover.Forecast(ctx, access.Service, wire.ForecastRequest{Domain: zone, To: "curlew-ops"})
	assert.ErrorContains(t, err, "curlew-ops does not have saltmarsh-ferries.example yet")
	_, err = h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "heron-main", Gap: true, Reason: "so says the host"})
	assert.ErrorContains(t, err, "(--nameservers)")

	long := strings.Repeat("a", 200)
	h.define("heron-main", "@ A 192.0.2.1\nkey TXT \""+long+"\" \""+long+"\"")
	_, err = h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "plover-old"}) // one text of 255 octets at most
	var p *wire.Problem
	require.ErrorAs(t, err, &p)
	assert.Equal(t, wire.Blocked, p.Kind)
	assert.Equal(t, "text-unsupported", p.Findings[0].Code)
}
