package update_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/outcall"
	"beacon/provider"
	"beacon/provider/conform"
	"beacon/provider/conform/conformtest"
	"beacon/provider/update"
	"beacon/provider/update/nstest"
	"beacon/reach"
)

var zone = dnsname.MustParse("scratch.example")

func driver(address, secret string) *update.Driver {
	return update.New(outcall.Client{Base: address, Account: "scratch", Secret: secret, Dial: reach.Loopback().DialContext})
}

const wrongSecret = "bm90IHRoZSByaWdodCBrZXkgYXQgYWxsLCBzb3JyeSE="

// servers are the real nameservers that the driver is tried on.
func servers(t *testing.T) map[string]*nstest.Server {
	return map[string]*nstest.Server{"named": nstest.Named(t, zone.String()), "knot": nstest.Knot(t, zone.String())}
}

func TestRealServersConform(t *testing.T) {
	for name, s := range servers(t) {
		t.Run(name, func(t *testing.T) {
			conformtest.Passes(t, conform.Subject{Driver: driver(s.Address(), nstest.Credential),
				WrongKey: driver(s.Address(), "hmac-sha256:"+nstest.KeyName+":"+wrongSecret), Secret: wrongSecret, Zone: zone}, 30)
		})
	}
}

// A server that signs its zone by itself is as good as any other.
func TestSigningServerConforms(t *testing.T) {
	s := nstest.KnotSigning(t, zone.String())
	conformtest.Passes(t, conform.Subject{Driver: driver(s.Address(), nstest.Credential),
		WrongKey: driver(s.Address(), "hmac-sha256:"+nstest.KeyName+":"+wrongSecret), Secret: wrongSecret, Zone: zone}, 30)
}

// A full batch of common sets is one message, and one of long texts as many as it takes; all of it is there afterwards.
func TestFullBatches(t *testing.T) {
	ctx := context.Background()
	for name, s := range servers(t) {
		t.Run(name, func(t *testing.T) {
			calls := map[string]int{}
			d := update.New(outcall.Client{Base: s.Address(), Secret: nstest.Credential, Dial: reach.Loopback().DialContext,
				Observe: func(_ context.Context, c outcall.Call) { calls[c.Method]++ }})
			ref := provider.ZoneRef{ID: zone.String(), Name: zone}
			caps, err := d.Describe(ctx, ref)
			require.NoError(t, err)
			for kind, set := range map[string]func(n dnsname.Name) record.Set{
				"short": func(n dnsname.Name) record.Set { return record.NewSet(n, record.A, 300, "192.0.2.1") },
				"long": func(n dnsname.Name) record.Set {
					return record.NewSet(n, record.TXT, 300, record.Data(record.Quoted(strings.Repeat("long text ", 40))))
				},
			} {
				var list change.List
				for i := range caps.BatchSize {
					n, err := zone.Child(fmt.Sprintf("%s%d", kind, i))
					require.NoError(t, err)
					list = append(list, change.Step{After: set(n)})
				}
				clear(calls)
				_, err := d.Apply(ctx, ref, change.Batch{Steps: list})
				require.NoError(t, err, kind)
				assert.Equal(t, 1, calls["readback"], kind)
				if kind == "short" {
					assert.Equal(t, 1, calls["UPDATE"])
				} else {
					assert.Greater(t, calls["UPDATE"], 2)
				}
			}
			whole, err := provider.ReadAll(ctx, d, ref, provider.State{})
			require.NoError(t, err)
			assert.Greater(t, whole.Contents.Len(), 2*caps.BatchSize-1)
		})
	}
}

// What a changed zone costs is the differences, and they are right: several rounds of them, one with everything gone.
func TestDifferencesAreRead(t *testing.T) {
	ctx := context.Background()
	for name, s := range servers(t) {
		t.Run(name, func(t *testing.T) {
			var methods []string
			d := update.New(outcall.Client{Base: s.Address(), Secret: nstest.Credential, Dial: reach.Loopback().DialContext,
				Observe: func(_ context.Context, c outcall.Call) { methods = append(methods, c.Method) }})
			ref := provider.ZoneRef{ID: zone.String(), Name: zone}
			known, err := provider.ReadAll(ctx, d, ref, provider.State{})
			require.NoError(t, err)
			host := func(label string, data ...record.Data) record.Set {
				n, err := zone.Child(label)
				require.NoError(t, err)
				return record.NewSet(n, record.A, 300, data...)
			}
			for _, list := range []change.List{
				{{After: host("a", "192.0.2.1", "192.0.2.2")}, {After: host("b", "192.0.2.3")}},
				{{Before: host("a", "192.0.2.1", "192.0.2.2"), After: host("a", "192.0.2.2")}},
				{{Before: host("a", "192.0.2.2")}, {Before: host("b", "192.0.2.3"), After: host("b", "192.0.2.4")}},
			} {
				_, err := d.Apply(ctx, ref, change.Batch{Steps: list})
				require.NoError(t, err)
				methods = nil
				known, err = provider.ReadAll(ctx, d, ref, known)
				require.NoError(t, err)
				assert.Contains(t, methods, "IXFR")
				assert.NotContains(t, methods, "AXFR")
				whole, err := provider.ReadAll(ctx, d, ref, provider.State{})
				require.NoError(t, err)
				own := func(k record.Key) bool { return k.Type != record.SOA }
				assert.Equal(t, whole.Contents.Filter(own).Records(), known.Contents.Filter(own).Records())
			}
			same, err := provider.ReadAll(ctx, d, ref, known)
			require.NoError(t, err)
			assert.True(t, same.Unchanged)
		})
	}
}

// What a server says NOERROR to and does not do is told, and nothing that somebody changed meanwhile is lost.
func TestIgnoredAndMeanwhile(t *testing.T) {
	ctx := context.Background()
	for name, s := range servers(t) {
		t.Run(name, func(t *testing.T) {
			d, ref := driver(s.Address(), nstest.Credential), provider.ZoneRef{ID: zone.String(), Name: zone}
			www, err := zone.Child("www")
			require.NoError(t, err)
			one, two := record.NewSet(www, record.A, 300, "192.0.2.1"), record.NewSet(www, record.A, 300, "192.0.2.2")
			_, err = d.Apply(ctx, ref, change.Batch{Steps: change.List{{After: one}}})
			require.NoError(t, err)
			_, err = d.Apply(ctx, ref, change.Batch{Steps: change.List{{Before: two, After: one}}})
			assert.Equal(t, outcall.Conflict, outcall.KindOf(err), "it is not as it was read")
			_, err = d.Apply(ctx, ref, change.Batch{Steps: change.List{{After: two}}})
			assert.Equal(t, outcall.Conflict, outcall.KindOf(err), "it was not to be there")
			apex := record.NewSet(zone, record.NS, 3600, "ns1.moor.test.", "ns2.moor.test.")
			_, err = d.Apply(ctx, ref, change.Batch{Steps: change.List{{Before: apex}}})
			assert.Equal(t, outcall.Refused, outcall.KindOf(err), "the apex nameservers cannot all go: %v", err)
		})
	}
}

func TestCredentials(t *testing.T) {
	s := nstest.Named(t, zone.String())
	ctx := context.Background()
	require.NoError(t, driver(s.Address(), nstest.Credential).Probe(ctx))
	for secret, words := range map[string]string{
		"hmac-sha256:" + nstest.KeyName + ":" + wrongSecret: "the secret of the key is not the server's",
		"hmac-sha256:other-key:" + nstest.Secret:            "the server does not know this key",
		"hmac-md5:x:" + nstest.Secret:                       "algorithms are",
		"plain":                                             "ALGORITHM:KEYNAME:SECRET",
		"hmac-sha256:x:no base64!":                          "not Base64",
		"hmac-sha256:x:c2hvcnQhIQ==":                        "7 octets; 16 are the least",
	} {
		err := driver(s.Address(), secret).Probe(ctx)
		require.Error(t, err, secret)
		assert.Contains(t, err.Error(), words)
		if parts := strings.Split(secret, ":"); len(parts) == 3 {
			assert.NotContains(t, err.Error(), parts[2])
		}
	}
	for _, address := range []string{"http://127.0.0.1", "dns://", "127.0.0.1:53", "dns://127.0.0.1/path"} {
		assert.ErrorContains(t, driver(address, nstest.Credential).Probe(ctx), "is no address of a nameserver", address)
	}
}
