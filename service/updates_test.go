package service_test

import (
	"context"
	"encoding/hex"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/primary"
	"beacon/provider/update/nstest"
	"beacon/service"
	"beacon/wire"
)

// listening is a house that takes updates.
type listening struct {
	house
	at netip.AddrPort
}

func newListening(t *testing.T) listening {
	t.Helper()
	at := netip.AddrPortFrom(netip.MustParseAddr("127.0.0.1"), uint16(nstest.FreePort(t)))
	h := newHouseWith(t, func(s *service.Settings) {
		s.Primary.Listen, s.Primary.Name = at.String(), dnsname.MustParse("updates.pier.test")
	})
	h.define("heron-main", "@ A 192.0.2.1\nwww 300 A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	return listening{h, at}
}

// key makes a key for a host or an uplink.
func (l listening) key(of, algorithm string) wire.TSIGKeyAdded {
	l.t.Helper()
	k, err := l.Updates.AddKey(ctx, access.Service, wire.NewTSIGKey{For: of, Algorithm: algorithm, Name: "k" + fmt.Sprint(time.Now().UnixNano()) + ".pier"})
	require.NoError(l.t, err)
	return k
}

// nsupdate runs that client with what to type, and returns what it says.
func (l listening) nsupdate(k wire.TSIGKeyAdded, typed string) (said string, ok bool) {
	l.t.Helper()
	run, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	c := exec.CommandContext(run, "nsupdate", "-y", k.Algorithm+":"+k.Name+":"+k.Secret, "-t", "10")
	c.Stdin = strings.NewReader(fmt.Sprintf("server %s %d\n%s\nsend\n", l.at.Addr(), l.at.Port(), typed))
	out, err := c.CombinedOutput()
	return strings.TrimSpace(string(out)), err == nil
}

func (l listening) addressesOf(name dnsname.Name) string {
	l.t.Helper()
	v, err := l.Hosts.Host(ctx, access.Service, name)
	require.NoError(l.t, err)
	return strings.TrimSpace(v.V4 + " " + v.V6)
}

// The usual client updates a host with each algorithm, with a zone line and without one.
func TestNsupdate(t *testing.T) {
	t.Parallel()
	l := newListening(t)
	l.newHost()
	for i, algorithm := range []string{"hmac-sha1", "hmac-sha224", "hmac-sha256", "hmac-sha384", "hmac-sha512"} {
		k := l.key(cam.String(), algorithm)
		for j, zoneLine := range []string{"zone saltmarsh-ferries.example\n", ""} {
			address := fmt.Sprintf("198.51.100.%d", 10+2*i+j)
			said, ok := l.nsupdate(k, zoneLine+"update delete cam.saltmarsh-ferries.example A\nupdate add cam.saltmarsh-ferries.example 60 A "+address)
			require.True(t, ok, "%s %q: %s", algorithm, zoneLine, said)
			assert.Equal(t, address, l.addressesOf(cam), algorithm)
		}
	}
	v := l.arrived()
	assert.Equal(t, "198.51.100.19", addressOf(l.live("heron")), "the newest one is served")
	assert.Equal(t, dynaddr.Accepted, v.Last.Outcome)
	k := l.key(cam.String(), "")
	_, ok := l.nsupdate(k, "prereq nxdomain cam.saltmarsh-ferries.example\nupdate add cam.saltmarsh-ferries.example 60 A 198.51.100.99")
	assert.False(t, ok)
	said, ok := l.nsupdate(k, "prereq yxrrset cam.saltmarsh-ferries.example A 198.51.100.19\nupdate delete cam.saltmarsh-ferries.example\nupdate add cam.saltmarsh-ferries.example 60 AAAA 2001:db8::9")
	assert.True(t, ok, said)
	assert.Equal(t, "2001:db8::9", l.addressesOf(cam))
	for typed, want := range map[string]string{
		"update add www.saltmarsh-ferries.example 60 A 198.51.100.9":                                                                                   "REFUSED", // no host of the key
		"update add cam.saltmarsh-ferries.example 60 TXT x":                                                                                            "REFUSED",
		"update add cam.saltmarsh-ferries.example 60 A 10.0.0.1":                                                                                       "REFUSED", // not believed
		"zone saltmarsh-ferries.example\nupdate add cam.elsewhere.example 60 A 198.51.100.9":                                                           "NOTZONE",
		"zone elsewhere.example\nupdate add cam.elsewhere.example 60 A 198.51.100.9":                                                                   "NOTAUTH",
		"zone saltmarsh-ferries.example\nprereq yxdomain nobody.saltmarsh-ferries.example\nupdate add cam.saltmarsh-ferries.example 60 A 198.51.100.9": "NXDOMAIN",
	} {
		said, ok := l.nsupdate(k, typed)
		assert.False(t, ok, typed)
		assert.Contains(t, said, want, typed)
	}
	assert.Equal(t, "2001:db8::9", l.addressesOf(cam), "nothing of that was taken")
}

// Without a server and a zone in its input, the client asks its resolver for the SOA record of the name, and sends the update to the server that it names.
func TestNsupdateFindsTheServer(t *testing.T) {
	t.Parallel()
	if exec.Command("unshare", "-rm", "true").Run() != nil {
		t.Skip("this machine lets nobody have a view of files of their own")
	}
	l := newListening(t)
	l.newHost()
	k := l.key(cam.String(), "")
	packets, err := net.ListenPacket("udp", fmt.Sprintf("127.0.0.2:%d", l.at.Port()))
	require.NoError(t, err)
	resolver := &dns.Server{PacketConn: packets, Handler: dns.HandlerFunc(func(rw dns.ResponseWriter, q *dns.Msg) {
		m := new(dns.Msg).SetReply(q)
		m.RecursionAvailable = true
		m.Ns = []dns.RR{primary.StartOf(zone, dnsname.MustParse("updates.pier.test"), 7)}
		_ = rw.WriteMsg(m)
	})}
	go func() { _ = resolver.ActivateAndServe() }()
	t.Cleanup(func() { _ = resolver.Shutdown() })
	dir := t.TempDir()
	for name, text := range map[string]string{"resolv.conf": "nameserver 127.0.0.2\n", "hosts": "127.0.0.1 localhost updates.pier.test\n", "key": k.File,
		"update": "update delete cam.saltmarsh-ferries.example A\nupdate add cam.saltmarsh-ferries.example 60 A 198.51.100.40\nsend\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	run, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	script := fmt.Sprintf("mount --bind %[1]s/resolv.conf /etc/resolv.conf && mount --bind %[1]s/hosts /etc/hosts && exec nsupdate -p %[2]d -k %[1]s/key -t 10 %[1]s/update", dir, l.at.Port())
	out, err := exec.CommandContext(run, "unshare", "-rm", "sh", "-c", script).CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Equal(t, "198.51.100.40", l.addressesOf(cam))
}

// signedUpdate is an update of cam on the wire, signed at a moment.
func signedUpdate(t *testing.T, k wire.TSIGKeyAdded, address string, at time.Time, change func(*dns.Msg)) (packet []byte, mac string) {
	t.Helper()
	m := new(dns.Msg).SetUpdate(zone.String())
	rr, err := dns.NewRR(cam.String() + " 60 IN A " + address)
	require.NoError(t, err)
	m.Insert([]dns.RR{rr})
	if change != nil {
		change(m)
	}
	m.SetTsig(k.Name+".", k.Algorithm+".", 300, at.Unix())
	packet, mac, err = dns.TsigGenerate(m, k.Secret, "", false)
	require.NoError(t, err)
	return packet, mac
}

// exchange sends a packet and returns the answer, as it came and read.
func (l listening) exchange(packet []byte) (*dns.Msg, []byte) {
	l.t.Helper()
	conn, err := net.Dial("udp", l.at.String())
	require.NoError(l.t, err)
	defer conn.Close()
	require.NoError(l.t, conn.SetDeadline(time.Now().Add(10*time.Second)))
	_, err = conn.Write(packet)
	require.NoError(l.t, err)
	buf := make([]byte, 4096)
	n, err := conn.Read(buf)
	require.NoError(l.t, err)
	m := new(dns.Msg)
	require.NoError(l.t, m.Unpack(buf[:n]))
	return m, buf[:n]
}

// What is wrong about a signature is answered as RFC 8945 section 5.2 says, and nothing is taken.
func TestSignaturesOfUpdates(t *testing.T) {
	t.Parallel()
	l := newListening(t)
	l.newHost()
	k := l.key(cam.String(), "")
	other := l.key(cam.String(), "")
	now := time.Now()
	for name, c := range map[string]struct {
		packet func() []byte
		want   int
		signed bool
	}{
		"a key that nobody has": {func() []byte {
			p, _ := signedUpdate(t, wire.TSIGKeyAdded{Name: "nobody.pier", Algorithm: "hmac-sha256", Secret: k.Secret}, "198.51.100.8", now, nil)
			return p
		}, dns.RcodeBadKey, false},
		"another algorithm": {func() []byte {
			p, _ := signedUpdate(t, wire.TSIGKeyAdded{Name: k.Name, Algorithm: "hmac-sha1", Secret: k.Secret}, "198.51.100.8", now, nil)
			return p
		}, dns.RcodeBadKey, false},
		"another secret": {func() []byte {
			p, _ := signedUpdate(t, wire.TSIGKeyAdded{Name: k.Name, Algorithm: k.Algorithm, Secret: other.Secret}, "198.51.100.8", now, nil)
			return p
		}, dns.RcodeBadSig, false},
		"too late":  {func() []byte { p, _ := signedUpdate(t, k, "198.51.100.8", now.Add(-time.Hour), nil); return p }, dns.RcodeBadTime, true},
		"too early": {func() []byte { p, _ := signedUpdate(t, k, "198.51.100.8", now.Add(time.Hour), nil); return p }, dns.RcodeBadTime, true},
	} {
		t.Run(name, func(t *testing.T) {
			packet := c.packet()
			m, raw := l.exchange(packet)
			assert.Equal(t, dns.RcodeNotAuth, m.Rcode)
			sig := m.IsTsig()
			require.NotNil(t, sig)
			assert.EqualValues(t, c.want, sig.Error)
			assert.Equal(t, c.signed, sig.MACSize > 0)
			if c.want == dns.RcodeBadTime {
				ours, err := hex.DecodeString(sig.OtherData)
				require.NoError(t, err)
				assert.Len(t, ours, 6)
				q := new(dns.Msg)
				require.NoError(t, q.Unpack(packet))
				assert.NotErrorIs(t, dns.TsigVerify(raw, k.Secret, q.IsTsig().MAC, false), dns.ErrSig)
			}
		})
	}
	m := new(dns.Msg).SetUpdate(zone.String())
	packet, err := m.Pack()
	require.NoError(t, err)
	answer, _ := l.exchange(packet)
	assert.Equal(t, dns.RcodeRefused, answer.Rcode, "without a signature")
	assert.Empty(t, l.addressesOf(cam))

	require.NoError(t, l.Updates.RemoveKey(ctx, access.Service, k.Name))
	packet, _ = signedUpdate(t, k, "198.51.100.8", now, nil)
	answer, _ = l.exchange(packet)
	assert.Equal(t, dns.RcodeNotAuth, answer.Rcode, "a key that was removed")
}

// A packet that comes again gets the answer that it got, and changes nothing; two updates of one second both count.
func TestUpdatesThatComeAgain(t *testing.T) {
	t.Parallel()
	l := newListening(t)
	l.newHost()
	k := l.key(cam.String(), "")
	now := time.Now()
	first, _ := signedUpdate(t, k, "198.51.100.8", now, nil)
	second, _ := signedUpdate(t, k, "198.51.100.9", now, nil)
	for _, c := range []struct {
		packet []byte
		want   string
	}{{first, "198.51.100.8"}, {second, "198.51.100.9"}, {first, "198.51.100.9"}, {first, "198.51.100.9"}, {second, "198.51.100.9"}} {
		m, _ := l.exchange(c.packet)
		assert.Equal(t, dns.RcodeSuccess, m.Rcode)
		assert.Equal(t, c.want, l.addressesOf(cam))
	}
	held, _ := signedUpdate(t, k, "198.51.100.10", now, func(m *dns.Msg) { m.NameNotUsed([]dns.RR{&dns.ANY{Hdr: dns.RR_Header{Name: cam.String()}}}) })
	m, _ := l.exchange(held)
	assert.Equal(t, dns.RcodeYXDomain, m.Rcode)
	gone := new(dns.Msg).SetUpdate(zone.String())
	gone.RemoveName([]dns.RR{&dns.ANY{Hdr: dns.RR_Header{Name: cam.String()}}})
	gone.SetTsig(k.Name+".", k.Algorithm+".", 300, now.Unix())
	packet, _, err := dns.TsigGenerate(gone, k.Secret, "", false)
	require.NoError(t, err)
	m, _ = l.exchange(packet)
	assert.Equal(t, dns.RcodeSuccess, m.Rcode)
	assert.Empty(t, l.addressesOf(cam))
	m, _ = l.exchange(held)
	assert.Equal(t, dns.RcodeYXDomain, m.Rcode, "as it was answered, though it would be taken now")
	assert.Empty(t, l.addressesOf(cam))
}

// A lease is granted within limits, and what is not renewed is removed when it ends.
func TestLeaseOfAnUpdate(t *testing.T) {
	t.Parallel()
	l := newListening(t)
	l.newHost()
	k := l.key(cam.String(), "")
	packet, _ := signedUpdate(t, k, "198.51.100.8", time.Now(), func(m *dns.Msg) {
		m.SetEdns0(1232, false)
		m.IsEdns0().Option = []dns.EDNS0{&dns.EDNS0_UL{Code: dns.EDNS0UL, Lease: 5}}
	})
	m, _ := l.exchange(packet)
	require.Equal(t, dns.RcodeSuccess, m.Rcode)
	require.NotNil(t, m.IsEdns0())
	require.Len(t, m.IsEdns0().Option, 1)
	assert.EqualValues(t, 60, m.IsEdns0().Option[0].(*dns.EDNS0_UL).Lease, "the shortest one: 60 s of the world's clock are one second here")
	require.Eventually(t, func() bool { return l.addressesOf(cam) == "" }, 2*time.Minute, 50*time.Millisecond)
	v, err := l.Hosts.Host(ctx, access.Service, cam)
	require.NoError(t, err)
	assert.Equal(t, dynaddr.IsSilent, v.Status)
}

// Updates of one key are limited, and those of another are not for that.
func TestTooManyUpdates(t *testing.T) {
	t.Parallel()
	l := newListening(t)
	l.newHost()
	k, other := l.key(cam.String(), ""), l.key(cam.String(), "")
	now := time.Now()
	refused := 0
	for i := range 110 {
		packet, _ := signedUpdate(t, k, fmt.Sprintf("198.51.100.%d", 1+i%2), now, nil)
		if m, _ := l.exchange(packet); m.Rcode == dns.RcodeRefused {
			refused++
		}
	}
	assert.Positive(t, refused)
	assert.LessOrEqual(t, refused, 50, "sixty at once, and one a second")
	packet, _ := signedUpdate(t, other, "198.51.100.9", now, nil)
	m, _ := l.exchange(packet)
	assert.Equal(t, dns.RcodeSuccess, m.Rcode)
}

// A second key of a host gets a name of its own, so that a client gets another one while the first still works; a name that is given twice is refused.
func TestNamesOfKeys(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1")
	h.newHost()
	for _, want := range []string{"cam.saltmarsh-ferries.example", "cam-2.saltmarsh-ferries.example", "cam-3.saltmarsh-ferries.example"} {
		k, err := h.Updates.AddKey(ctx, access.Service, wire.NewTSIGKey{For: cam.String()})
		require.NoError(t, err)
		assert.Equal(t, want, k.Name)
		assert.Contains(t, k.Note, "primary.listen", "no listener takes its updates")
	}
	_, err := h.Updates.AddKey(ctx, access.Service, wire.NewTSIGKey{For: cam.String(), Name: "cam-2.saltmarsh-ferries.example"})
	assert.Equal(t, wire.Blocked, asProblem(t, err).Kind)
	require.NoError(t, h.Updates.RemoveKey(ctx, access.Service, "cam-2.saltmarsh-ferries.example"))
	list, _, err := h.Updates.Keys(ctx, access.Service, "", 10)
	require.NoError(t, err)
	assert.Len(t, list, 2)
}
