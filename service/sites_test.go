package service_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/arrival"
	"beacon/core/record"
	"beacon/service"
	"beacon/visit"
	"beacon/wire"
)

// siteHouse is a house that looks at the practice world's web hosts.
func siteHouse(t *testing.T) house {
	return newHouseOn(t, func(s *service.Settings, control string) {
		res, err := http.Get(control + "/notary")
		require.NoError(t, err)
		defer res.Body.Close()
		paper, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		s.Websites.CAFile = filepath.Join(t.TempDir(), "notary.pem")
		require.NoError(t, os.WriteFile(s.Websites.CAFile, paper, 0o600))
		s.Websites.Issuers = []arrival.Issuer{{Identity: "ca.example", Organization: "Lantern Notary"}}
		s.AllowedNetworks = append(s.AllowedNetworks, "::1/128")
	})
}

// control posts to the practice world's control address, and gives what it says where it refuses.
func (h house) control(path string, body map[string]any) string {
	h.t.Helper()
	text, err := json.Marshal(body)
	require.NoError(h.t, err)
	res, err := http.Post(h.world.URL("control")+path, "application/json", strings.NewReader(string(text)))
	require.NoError(h.t, err)
	defer res.Body.Close()
	answer, err := io.ReadAll(res.Body)
	require.NoError(h.t, err)
	if res.StatusCode == http.StatusNoContent {
		return ""
	}
	return string(answer)
}

// The practice world's notary asks everybody by itself and shares no code with the judgement: where it issues, the
// judgement had said “ready”, and where it refuses, the judgement had said what stands in the way.
func TestReadyMeansThatACertificateIsIssued(t *testing.T) {
	t.Parallel()
	h := siteHouse(t)
	h.register()
	h.control("/sites", map[string]any{"host": "avocet", "name": zone.String()})
	agree := func(situation string, http, dns bool) {
		t.Helper()
		report, err := h.Checks.Check(ctx, access.Service, zone)
		require.NoError(t, err)
		require.NotNil(t, report.Arrival, situation)
		site := report.Arrival.Sites[0]
		refusal := h.control("/certificates", map[string]any{"host": "avocet", "name": zone.String(), "over": "http"})
		assert.Equal(t, http, site.OverHTTP.Ready, "%s: %v", situation, site.OverHTTP)
		assert.Equal(t, http, refusal == "", "%s: the notary says %s", situation, refusal)
		assert.Equal(t, dns, site.OverDNS.Ready, "%s: %v", situation, site.OverDNS)
	}
	records := "@ A 192.0.2.41\n@ AAAA 2001:db8:41::1\nwww CNAME @"
	write := func(lines string) {
		t.Helper()
		h.define("heron-main", lines)
		require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Allow: []string{"names-would-stop"}}).State)
	}
	agree("at the old provider", false, false)
	write(records)
	agree("written, and not delegated yet", false, false)
	act := h.delegate(wire.DelegateRequest{Override: []string{"sides-differ"}, Reason: "a new host"})
	require.Equal(t, wire.ActDone, act.State, act)
	agree("delegated", true, true)

	h.byHand("heron", set(t, "@", record.AAAA, "2001:db8:40::1"))
	agree("AAAA leads to the old host", false, true)
	write(records + "\n@ TXT again")
	h.byHand("heron", set(t, "@", record.AAAA, "2001:db8:41::1"))
	agree("AAAA is right again", true, true)

	write(records + "\n@ CAA 0 issue \"other.example\"")
	agree("CAA permits somebody else", false, false)
	write(records + "\n@ CAA 0 issue \"ca.example\"")
	agree("CAA permits the notary", true, true)
	write(records + "\n@ CAA 0 issue \"ca.example\"\n@ CAA 128 isue \"ca.example\"")
	agree("an unknown critical property", false, false)
	write(records)

	view, err := h.Overview.Zone(ctx, access.Service, zone)
	require.NoError(t, err)
	var server int
	_, err = fmt.Sscanf(view.Placements[0].Nameservers[0].String(), "quay-%d.", &server)
	require.NoError(t, err)
	at := fmt.Sprintf("4.%d", server)
	h.fault(`{"site":"` + at + `","rcode":2}`)
	agree("one nameserver fails", false, false)
	h.fault(`{"site":"` + at + `"}`)
	h.fault(`{"site":"1.2","silent":true}`)
	agree("one parent is silent", false, true)
	h.fault(`{"site":"1.2"}`)
	h.fault(`{"site":"7.2","cut_before":true}`)
	agree("the host hangs up", false, true)

	// Over the DNS it goes without the host.
	res, err := http.Get(h.world.URL("control") + "/sites")
	require.NoError(t, err)
	defer res.Body.Close()
	var sites []struct{ Host, Asks string }
	require.NoError(t, json.NewDecoder(res.Body).Decode(&sites))
	require.Len(t, sites, 1)
	assert.NotEmpty(t, h.control("/certificates", map[string]any{"host": "avocet", "name": zone.String(), "over": "dns"}), "without the proof there is none")
	write(records + "\n_acme-challenge TXT \"" + sites[0].Asks + "\"")
	assert.Empty(t, h.control("/certificates", map[string]any{"host": "avocet", "name": zone.String(), "over": "dns"}))
	h.fault(`{"site":"7.2"}`)

	report, err := h.Checks.Check(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Equal(t, arrival.Settling, report.Arrival.Sites[0].State, "resolvers hold the old: %v", report.Arrival.Findings)
	assert.Empty(t, report.Arrival.Sites[0].Leads[0].HTTPS.Certificate.Distrust)
	assert.Equal(t, "https://saltmarsh-ferries.example/", report.Arrival.Sites[0].Ends)
}

func routes(t *testing.T, control string) (list []visit.Detour) {
	t.Helper()
	res, err := http.Get(control + "/routes")
	require.NoError(t, err)
	defer res.Body.Close()
	var ways []struct{ Address, HTTP, HTTPS string }
	require.NoError(t, json.NewDecoder(res.Body).Decode(&ways))
	for _, w := range ways {
		list = append(list, visit.Detour{Address: netip.MustParseAddr(w.Address), HTTP: netip.MustParseAddrPort(w.HTTP), HTTPS: netip.MustParseAddrPort(w.HTTPS)})
	}
	return list
}
