package service_test

import (
	"fmt"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/core/record"
	"beacon/service"
	"beacon/service/hosts"
	"beacon/wire"
)

// skips has simulated time go on.
func (h house) skips(d time.Duration) {
	h.t.Helper()
	for until := h.now().Add(d); h.now().Before(until); {
		_, err := h.StepClock(ctx, access.Service, until)
		require.NoError(h.t, err)
	}
}

// located makes a location with a host cam, which has the address of its uplink, and gauge, which is below its prefix; it returns the tokens of the uplinks.
func (h house) located(policy dynaddr.Policy, uplinks ...string) map[string]string {
	h.t.Helper()
	added, err := h.Hosts.AddLocation(ctx, access.Service, wire.NewLocation{Name: "pier", Uplinks: uplinks, Policy: policy})
	require.NoError(h.t, err)
	tokens := map[string]string{}
	for _, one := range added.Tokens {
		tokens[one.Uplink] = one.Token
	}
	for _, n := range []wire.NewHost{{Name: cam, V4: true, Location: "pier"}, {Name: gauge, V6: true, Location: "pier", Below: &dynaddr.Place{Subnet: 3, Interface: dynaddr.Interface{5: 10, 7: 1}}}} {
		host, err := h.Hosts.AddHost(ctx, access.Service, n)
		require.NoError(h.t, err)
		assert.Empty(h.t, host.Token)
	}
	return tokens
}

var gauge = dnsname.MustParse("gauge.saltmarsh-ferries.example")

// says reports with a token what a query says, and returns the answer.
func (h house) says(token, query string) string {
	h.t.Helper()
	said, err := url.ParseQuery(query)
	require.NoError(h.t, err)
	d, err := h.reportWith(token, hosts.AddressReport{Said: said, Peer: netip.MustParseAddr("127.0.0.1")})
	require.NoError(h.t, err)
	return d.String()
}

// serves waits until the provider has addresses of a name, and no others.
func (h house) serves(name dnsname.Name, addresses string) {
	h.t.Helper()
	var has string
	assert.Eventually(h.t, func() bool {
		var list []string
		for _, r := range h.live("heron").At(name) {
			if r.Type == record.A || r.Type == record.AAAA {
				list = append(list, string(r.Data))
			}
		}
		has = strings.Join(list, " ")
		return has == addresses
	}, 2*time.Minute, 20*time.Millisecond)
	require.Equal(h.t, addresses, has, "%s", name)
}

func (h house) status(name dnsname.Name) dynaddr.Status {
	h.t.Helper()
	v, err := h.Hosts.Host(ctx, access.Service, name)
	require.NoError(h.t, err)
	return v.Status
}

// A location moves its hosts to the next uplink where the first one stops reporting, and back; where nothing reports, what the policy says becomes of them.
func TestLocation(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	hour, day, remove := uint32(3600), uint32(86400), dynaddr.RemoveSilent
	tokens := h.located(dynaddr.Policy{Failover: &hour, Silence: &day, OnSilence: &remove}, "fibre", "lte")
	assert.Equal(t, dynaddr.NeverReported, h.status(cam))

	assert.Equal(t, "accepted 198.51.100.7", h.says(tokens["fibre"], "v4=198.51.100.7&prefix=2001:db8:40::/56"), "one report moves all of it")
	assert.Equal(t, "unchanged 198.51.100.7", h.says(tokens["lte"], "v4=198.51.100.70&v6=2001:db8:7::1"))
	h.serves(cam, "198.51.100.7")
	h.serves(gauge, "2001:db8:40:3::a:1")
	assert.Equal(t, dynaddr.IsReporting, h.status(cam))

	h.skips(50 * time.Minute)
	h.says(tokens["lte"], "v4=198.51.100.70&v6=2001:db8:7::1")
	h.skips(20 * time.Minute) // fibre is silent
	h.serves(cam, "198.51.100.70")
	h.serves(gauge, "2001:db8:40:3::a:1") // there is no subnet 3 below one address of lte
	assert.Equal(t, "accepted 198.51.100.7", h.says(tokens["fibre"], "v4=198.51.100.7"))
	h.serves(cam, "198.51.100.7")
	h.serves(gauge, "2001:db8:40:3::a:1")

	h.skips(25 * time.Hour)
	h.serves(cam, "")
	h.serves(gauge, "")
	assert.Equal(t, dynaddr.IsSilent, h.status(cam))
	assert.Equal(t, "accepted 198.51.100.70", h.says(tokens["lte"], "v4=198.51.100.70"))
	h.serves(cam, "198.51.100.70")

	// What the location is changed to counts immediately.
	_, err := h.Hosts.ChangeLocation(ctx, access.Service, wire.LocationSettings{Name: "pier", Uplinks: []string{"lte", "fibre"}})
	require.NoError(t, err)
	h.says(tokens["fibre"], "v4=198.51.100.8")
	h.serves(cam, "198.51.100.70")
	require.NoError(t, h.Hosts.RemoveUplink(ctx, access.Service, "pier", "lte"))
	h.serves(cam, "198.51.100.8")
	_, err = h.reportWith(tokens["lte"], hosts.AddressReport{Said: url.Values{"v4": {"198.51.100.9"}}})
	assert.Equal(t, wire.NotSignedIn, asProblem(t, err).Kind)
	assert.Equal(t, wire.Blocked, asProblem(t, h.Hosts.RemoveUplink(ctx, access.Service, "pier", "fibre")).Kind)
	assert.Equal(t, wire.Blocked, asProblem(t, h.Hosts.RemoveLocation(ctx, access.Service, "pier")).Kind)
	for _, name := range []dnsname.Name{cam, gauge} {
		require.NoError(t, h.Hosts.RemoveHost(ctx, access.Service, name))
	}
	require.NoError(t, h.Hosts.RemoveLocation(ctx, access.Service, "pier"))
}

// Where a policy wants a second source, an address counts once two tokens name it.
func TestSecondSource(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1")
	source := dynaddr.TokenSource
	tokens := h.located(dynaddr.Policy{SecondSource: &source}, "main")
	grant, err := access.ParseGrant("report zones=saltmarsh-ferries.example names=cam")
	require.NoError(t, err)
	password, err := h.Users.AddUser(ctx, access.Service, wire.NewUser{Name: "petra", Grants: access.Full(access.Owner)})
	require.NoError(t, err)
	session, _, err := h.Users.SignIn(ctx, "petra", password, netip.MustParseAddr("127.0.0.1"))
	require.NoError(t, err)
	petra, err := h.Users.Caller(ctx, session, netip.MustParseAddr("127.0.0.1"), access.See)
	require.NoError(t, err)
	made, err := h.Users.AddToken(ctx, petra, wire.NewToken{Name: "second", Grants: []access.Grant{grant}})
	require.NoError(t, err)
	second := made.Token
	assert.Contains(t, h.says(tokens["main"], "v4=198.51.100.7"), "held: another source has to name the same address")
	assert.Contains(t, h.says(tokens["main"], "v4=198.51.100.7"), "held", "the same source again is none")
	assert.Equal(t, dynaddr.IsHeld, h.status(cam))
	assert.Equal(t, "accepted 198.51.100.7", h.says(second, "host=cam.saltmarsh-ferries.example&v4=198.51.100.7"))
	assert.Contains(t, h.says(tokens["main"], "v4=198.51.100.8"), "held 198.51.100.7")
}

// A change that is held is taken at its end without another report, with the newest address; and an address behind a translator is none.
func TestHeldAddress(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	hold, most := uint32(7200), uint32(86400)
	tokens := h.located(dynaddr.Policy{HoldDown: &hold, MaxHoldDown: &most}, "main")
	for _, address := range []string{"198.51.100.7", "198.51.100.8"} {
		assert.Equal(t, "accepted "+address, h.says(tokens["main"], "v4="+address))
	}
	for _, address := range []string{"198.51.100.9", "198.51.100.10"} {
		assert.Equal(t, "held 198.51.100.8: the address changes too often; the newest one is taken later", h.says(tokens["main"], "v4="+address))
	}
	h.serves(cam, "198.51.100.8")
	assert.Equal(t, dynaddr.IsFlapping, h.status(cam))
	v, err := h.Hosts.Host(ctx, access.Service, cam)
	require.NoError(t, err)
	assert.Equal(t, "198.51.100.10", v.Waiting)
	h.skips(time.Hour)
	h.serves(cam, "198.51.100.8")
	h.skips(2 * time.Hour)
	h.serves(cam, "198.51.100.10")
	v, err = h.Hosts.Host(ctx, access.Service, cam)
	require.NoError(t, err)
	assert.Equal(t, "the change was held until now", v.Last.Reason)

	_, err = h.Hosts.ChangeHost(ctx, access.Service, wire.HostSettings{Name: cam, V4: true, TTL: 30, Policy: steady})
	require.NoError(t, err)
	assert.Contains(t, h.says(tokens["main"], "v4=100.64.0.9"), "unreachable: 100.64.0.9 is behind the provider's address translation")
	h.serves(cam, "")
	assert.Equal(t, dynaddr.IsUnreachable, h.status(cam))
	assert.Contains(t, h.says(tokens["main"], "v4=10.0.0.9"), "refused: 10.0.0.9 is private")
	assert.Equal(t, "accepted 198.51.100.11", h.says(tokens["main"], "v4=198.51.100.11"))
	h.serves(cam, "198.51.100.11")
	assert.EqualValues(t, 30, h.live("heron").Get(record.Key{Name: cam, Type: record.A}).TTL)
}

// Uplinks of one location report at the same time, at two instances: what each was answered is true, the host follows the best one in the end, and no accepted report is lost.
func TestOneLocationAtTwoInstances(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	names := []string{"a", "b", "c", "d"}
	tokens := h.located(dynaddr.Policy{HoldDown: new(uint32), Failover: new(uint32(1 << 24))}, names...)
	both := []*service.Service{h.Service, instance(t, h.settings)}
	const each = 15
	var accepted atomic.Int64
	var group sync.WaitGroup
	for i, name := range names {
		group.Go(func() {
			for n := range each {
				address := fmt.Sprintf("198.51.100.%d", 1+i*each+n)
				at := both[(i+n)%2]
				caller, err := at.Users.Caller(ctx, tokens[name], netip.MustParseAddr("127.0.0.1"), access.Report)
				if !assert.NoError(t, err) {
					return
				}
				d, err := at.Hosts.Report(ctx, caller, hosts.AddressReport{Said: url.Values{"v4": {address}}})
				if !assert.NoError(t, err) {
					return
				}
				if d.Outcome == dynaddr.Accepted {
					accepted.Add(1)
				}
				if i == 0 {
					assert.Equal(t, dynaddr.Accepted, d.Outcome)
					assert.Equal(t, address, d.Now.V4.String(), "the best uplink is followed")
				}
			}
		})
	}
	group.Wait()
	last := fmt.Sprintf("198.51.100.%d", each)
	h.serves(cam, last)
	v, err := h.Hosts.Host(ctx, access.Service, cam)
	require.NoError(t, err)
	assert.Equal(t, last, v.V4)
	assert.Len(t, v.Reports, int(accepted.Load()), "each accepted report is kept")
	assert.Equal(t, last, v.Reports[0].V4)
	l, err := both[1].Hosts.Location(ctx, access.Service, "pier")
	require.NoError(t, err)
	for i, u := range l.Uplinks {
		assert.Equal(t, fmt.Sprintf("198.51.100.%d", (i+1)*each), u.V4, "what uplink %s reported last", u.Name)
	}
}
