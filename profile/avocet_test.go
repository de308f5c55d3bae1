package profile_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/outcall"
	"beacon/profile"
	"beacon/profile/jq/jqtest"
	"beacon/provider"
	"beacon/provider/conform"
	"beacon/provider/conform/conformtest"
)

// authority signs certificates of a test.
type authority struct {
	key  *ecdsa.PrivateKey
	cert *x509.Certificate
	pem  string
}

func newAuthority(t *testing.T) *authority {
	t.Helper()
	a := &authority{}
	a.cert, a.key, a.pem = a.issue(t, &x509.Certificate{Subject: pkix.Name{CommonName: "test authority"}, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign})
	return a
}

func (a *authority) issue(t *testing.T, template *x509.Certificate) (*x509.Certificate, *ecdsa.PrivateKey, string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template.SerialNumber, template.NotBefore, template.NotAfter = big.NewInt(time.Now().UnixNano()), time.Now().Add(-time.Hour), time.Now().Add(time.Hour)
	parent, signer := a.cert, a.key
	if parent == nil {
		parent, signer = template, key
	}
	der, err := x509.CreateCertificate(rand.Reader, template, parent, &key.PublicKey, signer)
	require.NoError(t, err)
	cert, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return cert, key, string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
}

// avocet wants a certificate that its authority signed.
func avocet(t *testing.T, b *bank, a *authority, spare *atomic.Int64) *httptest.Server {
	made := map[string]time.Time{}
	answered := map[string]bool{}
	handler := b.serve(t, func(rw http.ResponseWriter, r *http.Request) {
		refuse := func(status int, note string) { sayJSON(rw, status, map[string]string{"note": note}) }
		rw.Header().Set("X-Remaining", "5")
		if spare != nil && spare.Load() > 0 {
			rw.Header().Set("X-Remaining", "0")
			rw.Header().Set("X-Reset", "2")
		}
		if len(r.TLS.PeerCertificates) == 0 || r.TLS.PeerCertificates[0].Subject.CommonName != "harbour-desk" || r.Header.Get("X-Customer") != "customer-4711" {
			refuse(403, "no such customer")
			return
		}
		path := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
		key := r.Header.Get("Idempotency-Key")
		if r.Method == "PUT" && len(key) != 32 {
			refuse(400, "each change needs a key")
			return
		}
		if len(path) == 1 {
			sayJSON(rw, 200, b.sorted())
			return
		}
		z := b.zones[path[1]]
		switch {
		case len(path) == 2 && r.Method == "PUT" && answered[key]:
			sayJSON(rw, 200, z)
		case len(path) == 2 && r.Method == "PUT":
			z, ok := b.add(path[1])
			if !ok {
				refuse(409, "it is there")
				return
			}
			made[path[1]], answered[key] = time.Now().Add(200*time.Millisecond), true
			sayJSON(rw, 201, z)
		case z == nil || time.Now().Before(made[path[1]]):
			refuse(404, "no such zone")
		case len(path) == 2:
			delete(b.zones, path[1])
			sayJSON(rw, 200, nil)
		case r.Method == "GET":
			list := []map[string]any{}
			for _, s := range sortedSets(z.Sets) {
				for _, d := range s.Data {
					list = append(list, map[string]any{"n": s.Host, "t": s.Type, "ttl": s.TTL, "v": strings.TrimSuffix(d, "."+z.Name+".")}) // names in the zone are shown without it
				}
			}
			sayJSON(rw, 200, map[string]any{"records": list})
		default:
			avocetList(z, r, refuse)
		}
	})
	server := httptest.NewUnstartedServer(handler)
	server.Config.ErrorLog = log.New(io.Discard, "", 0)
	_, key, text := a.issue(t, &x509.Certificate{Subject: pkix.Name{CommonName: "avocet"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}})
	der, _ := pem.Decode([]byte(text))
	pool := x509.NewCertPool()
	pool.AddCert(a.cert)
	server.TLS = &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der.Bytes}, PrivateKey: key}}, ClientAuth: tls.VerifyClientCertIfGiven, ClientCAs: pool}
	server.StartTLS()
	t.Cleanup(server.Close)
	return server
}

func avocetList(z *bankZone, r *http.Request, refuse func(int, string)) {
	var in struct {
		Records []struct {
			N, T, V string
			TTL     int
		}
	}
	_ = json.NewDecoder(r.Body).Decode(&in)
	sets := map[string]bankSet{}
	for _, one := range in.Records {
		s := sets[one.N+" "+one.T]
		s.Host, s.Type, s.TTL, s.Data = one.N, one.T, one.TTL, append(s.Data, one.V)
		if err := put(sets, s, false); err != nil || one.TTL < 60 || one.TTL > 86400 {
			refuse(422, "this is no record, or its TTL is out of bounds")
			return
		}
	}
	if err := alone(sets); err != nil {
		refuse(422, err.Error())
		return
	}
	z.Sets = sets
	z.adds++
	refuse(200, "done")
}

// avocetCredential is a certificate that an authority signed, with trust in the same or another one.
func avocetCredential(t *testing.T, by *authority, trust string) string {
	_, key, text := by.issue(t, &x509.Certificate{Subject: pkix.Name{CommonName: "harbour-desk"}, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}})
	return parts("customer", "customer-4711", "certificate", text, "key", pemOf(key), "authority", trust)
}

// An interface with client certificates and an authority of its own, and lists without a condition, passes the checks.
func TestClientCertificatesAndWholeLists(t *testing.T) {
	a, strange := newAuthority(t), newAuthority(t)
	var spare atomic.Int64
	b := newBank()
	server := avocet(t, b, a, &spare)
	credential := func(by *authority, trust string) string { return avocetCredential(t, by, trust) }
	p, runtime := example(t, "avocet"), profile.NewRuntime(jqtest.Pool(t))
	slowed := time.Duration(0)
	good := client(server.URL, credential(a, a.pem))
	good.Slow = func(d time.Duration) { slowed = d }
	d := profile.New(p, runtime, good)
	wrong := parts("customer", "customer-0000", "certificate", "x", "key", "y", "authority", a.pem)
	conformtest.Passes(t, conform.Subject{Driver: d, WrongKey: profile.New(p, runtime, client(server.URL, strings.Replace(credential(a, a.pem), "customer-4711", "customer-0000", 1))),
		Secret: "customer-0000", Zone: dnsname.MustParse("scratch.example")}, 33)
	ctx := context.Background()
	_, err := profile.New(p, runtime, client(server.URL, wrong)).Zones(ctx, "")
	assert.ErrorContains(t, err, "do not fit, or are not in PEM form")
	_, err = profile.New(p, runtime, client(server.URL, credential(a, strange.pem))).Zones(ctx, "")
	assert.Equal(t, outcall.NotSent, outcall.OutcomeOf(err), "the other side is of another authority: %v", err)
	_, err = profile.New(p, runtime, client(server.URL, credential(strange, a.pem))).Zones(ctx, "")
	assert.Error(t, err, "a certificate of another authority")

	// What another client changed since the zone was read is not lost.
	zone, err := d.Create(ctx, dnsname.MustParse("lists.example"), provider.ZoneOptions{})
	require.NoError(t, err)
	provider.AwaitZone(ctx, d, zone.Ref)
	name := dnsname.MustParse("a.lists.example")
	old, err := provider.ReadAll(ctx, d, zone.Ref, provider.State{})
	require.NoError(t, err)
	b.Lock()
	b.zones["lists.example"].Sets["other A"] = bankSet{Host: "other", Type: "A", TTL: 300, Data: []string{"192.0.2.9"}}
	b.Unlock()
	batch := p.Caps.Pack(change.List{{After: record.NewSet(name, record.A, 300, "192.0.2.1")}}, old.Contents)[0]
	_, err = d.Apply(ctx, zone.Ref, batch)
	assert.Equal(t, outcall.Conflict, outcall.KindOf(err))
	assert.Equal(t, outcall.NotSent, outcall.OutcomeOf(err))

	// A target below the zone, shown without it, is that of the zone and stays so however often it is written.
	now, err := provider.ReadAll(ctx, d, zone.Ref, provider.State{})
	require.NoError(t, err)
	alias := record.NewSet(dnsname.MustParse("deep.down.lists.example"), record.CNAME, 300, record.Data(name.String()))
	for range 3 {
		batch = p.Caps.Pack(change.List{{Before: now.Contents.Get(alias.Key()), After: alias}}, now.Contents)[0]
		_, err = d.Apply(ctx, zone.Ref, batch)
		require.NoError(t, err)
		now, err = provider.ReadAll(ctx, d, zone.Ref, provider.State{})
		require.NoError(t, err)
		assert.Equal(t, []record.Data{record.Data(name.String())}, now.Contents.Get(alias.Key()).Data)
	}
	assert.Zero(t, slowed)
	spare.Store(1)
	_, err = d.Zones(ctx, "")
	require.NoError(t, err)
	assert.Equal(t, 2*time.Second, slowed, "no request remains")
}
