package e2e

import (
	"fmt"
	"net"
	"slices"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// How long it takes from the edit of one record through the API until every nameserver of its provider answers it, and
// where the time goes.
func TestEditIsVisibleSoon(t *testing.T) {
	s := stage(t, options(t, 1, ""))
	a := signedIn(t, s)
	const records = 40
	definition := func(round int) string {
		text := "zones:\n  tides.example:\n    providers: [heron-main]\n    records: |\n"
		for i := range records {
			text += fmt.Sprintf("      gauge-%02d 300 A 198.51.100.%d\n", i, i)
		}
		return text + fmt.Sprintf("      edited 300 A 192.0.2.%d\n", round)
	}
	a.define(definition(0))
	a.synced(a.sync("tides.example"))
	var zone struct {
		Placements []struct{ Nameservers []string }
	}
	a.ask("GET", "/zones/tides.example", nil, &zone)
	var servers []string
	for _, name := range zone.Placements[0].Nameservers { // quay-11.heron.test is the provider's address 11
		var n int
		_, err := fmt.Sscanf(name, "quay-%d.", &n)
		require.NoError(t, err)
		servers = append(servers, net.JoinHostPort(fmt.Sprintf("127.%d.4.%d", s.Net, n), fmt.Sprint(s.DNSPort)))
	}
	require.Len(t, servers, 4)
	serves := func(server string, round int) bool {
		res, _, err := new(dns.Client).Exchange(new(dns.Msg).SetQuestion("edited.tides.example.", dns.TypeA), server)
		return err == nil && len(res.Answer) == 1 && res.Answer[0].(*dns.A).A.String() == fmt.Sprintf("192.0.2.%d", round)
	}
	var whole, accepted, sent, answered []time.Duration
	for round := 1; round <= 31; round++ {
		began := time.Now()
		a.define(definition(round))
		accepted = append(accepted, time.Since(began))
		id := a.sync("tides.example")
		for _, server := range servers {
			for !serves(server, round) {
				require.Less(t, time.Since(began), 20*time.Second)
				time.Sleep(2 * time.Millisecond)
			}
		}
		whole = append(whole, time.Since(began))
		a.synced(id)
		var requests struct {
			Items []struct {
				SentAt time.Time `json:"sent_at"`
				TookMS int64     `json:"took_ms"`
			}
		}
		a.ask("GET", fmt.Sprintf("/syncs/%d/requests", id), nil, &requests)
		require.Len(t, requests.Items, 1)
		sent = append(sent, requests.Items[0].SentAt.Sub(began))
		answered = append(answered, time.Duration(requests.Items[0].TookMS)*time.Millisecond)
	}
	median := func(list []time.Duration) time.Duration {
		slices.Sort(list)
		return list[len(list)/2].Round(time.Millisecond)
	}
	t.Logf("median of %d edits: accepted after %s, request sent after %s, answered %s later, at every nameserver after %s (slowest %s)",
		len(whole), median(accepted), median(sent), median(answered), median(whole), whole[len(whole)-1].Round(time.Millisecond))
	assert.NotEmpty(t, whole)
}
