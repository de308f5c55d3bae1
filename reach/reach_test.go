package reach

import (
	"context"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/special"
)

// Everything that is not this machine is refused before a packet leaves, whatever way one tries.
func TestLoopbackLetsNothingOut(t *testing.T) {
	door := Loopback()
	for _, out := range []string{"192.0.2.1", "198.51.100.7", "10.0.0.1", "169.254.169.254", "0.0.0.0", "2001:db8::1", "::", "fe80::1", "::ffff:192.0.2.1"} {
		addr := netip.MustParseAddr(out)
		assert.ErrorIs(t, door.Check(addr), ErrRefused, out)
		_, err := door.DialContext(context.Background(), "tcp", net.JoinHostPort(out, "80"))
		assert.ErrorIs(t, err, ErrRefused, out)
		_, err = door.HTTPClient(time.Second).Get("http://" + net.JoinHostPort(out, "80"))
		assert.ErrorIs(t, err, ErrRefused, out)
		socket, err := door.ListenPackets()
		require.NoError(t, err)
		assert.ErrorIs(t, socket.Send([]byte("x"), netip.AddrPortFrom(addr, 53)), ErrRefused, out)
		socket.Close()
	}
	for _, in := range []string{"127.0.0.1", "127.9.8.7", "::1", "::ffff:127.0.0.1"} {
		assert.NoError(t, door.Check(netip.MustParseAddr(in)), in)
	}
}

func TestDialReachesWhatIsAllowed(t *testing.T) {
	server := httptest.NewServer(http.NotFoundHandler())
	defer server.Close()
	conn, err := Loopback().DialContext(context.Background(), "tcp", strings.TrimPrefix(server.URL, "http://"))
	require.NoError(t, err)
	conn.Close()
	_, err = (&Door{}).DialContext(context.Background(), "tcp", strings.TrimPrefix(server.URL, "http://"))
	assert.ErrorIs(t, err, ErrRefused, "the zero door is shut")
}

func TestRedirectsAreNotFollowed(t *testing.T) {
	server := httptest.NewServer(http.RedirectHandler("http://192.0.2.1/", http.StatusFound))
	defer server.Close()
	res, err := Loopback().HTTPClient(time.Second).Get(server.URL)
	require.NoError(t, err)
	assert.Equal(t, http.StatusFound, res.StatusCode)
}

func TestNew(t *testing.T) {
	d, err := New([]string{"192.0.2.77/24"})
	require.NoError(t, err)
	assert.NoError(t, d.Check(netip.MustParseAddr("192.0.2.1")))
	_, err = New([]string{"everything"})
	assert.ErrorContains(t, err, "no network")
}

// Special-purpose addresses are reached only where a network was allowed that is about them, in whatever form they are written.
func TestSpecialAddresses(t *testing.T) {
	everything, err := New([]string{"0.0.0.0/0", "::/0"})
	require.NoError(t, err)
	for _, text := range append([]string{"fe80::1%lo"}, specials...) {
		addr := netip.MustParseAddr(text)
		err := everything.Check(addr)
		assert.ErrorIs(t, err, ErrSpecial, text)
		assert.ErrorIs(t, err, ErrRefused, text)
		assert.ErrorContains(t, err, "allowed_networks", text)
		plain := special.Plain(addr)
		named, newErr := New([]string{"0.0.0.0/0", "::/0", netip.PrefixFrom(plain, plain.BitLen()).String()})
		require.NoError(t, newErr)
		assert.NoError(t, named.Check(addr), "%s, named", text)
	}
	for _, text := range []string{"192.175.48.6", "2620:4f:8000::1", "64:ff9b::192.175.48.6", "192.0.0.9"} { // special, and reachable from everywhere
		assert.NoError(t, everything.Check(netip.MustParseAddr(text)), text)
	}
	named, err := New([]string{"0.0.0.0/0", "10.1.0.0/16"})
	require.NoError(t, err)
	assert.NoError(t, named.Check(netip.MustParseAddr("10.1.2.3")))
	assert.ErrorIs(t, named.Check(netip.MustParseAddr("10.2.2.3")), ErrSpecial)
	assert.NoError(t, everything.Local().Check(netip.MustParseAddr("10.1.2.3")), "what the person at this machine names")
	assert.ErrorIs(t, named.Local().Check(netip.MustParseAddr("2001:db8::1")), ErrRefused)
	halves, err := New([]string{"0.0.0.0/1", "128.0.0.0/1"})
	require.NoError(t, err)
	assert.ErrorIs(t, halves.Check(netip.MustParseAddr("10.2.2.3")), ErrSpecial, "both halves together are everything")
}

func TestLeads(t *testing.T) {
	door := Loopback()
	assert.True(t, door.Leads(netip.MustParseAddrPort("127.0.0.1:53")))
	assert.False(t, door.Leads(netip.MustParseAddrPort("192.0.2.1:53")), "what may not be reached is not tried")
	everywhere, err := New([]string{"::/0"})
	require.NoError(t, err)
	assert.False(t, everywhere.Leads(netip.MustParseAddrPort("[2001:db8::1%nowhere]:53")), "there is no such interface")
}

// Of many datagrams that are sent at once, those that may not be sent are told, and keep none of the others.
func TestSendAll(t *testing.T) {
	receiver, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	defer receiver.Close()
	socket, err := Loopback().ListenPackets4()
	require.NoError(t, err)
	defer socket.Close()
	here, out := receiver.LocalAddr(), &net.UDPAddr{IP: net.IPv4(192, 0, 2, 1), Port: 53}
	var list []Message
	for i, to := range []net.Addr{here, out, here, &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 1}, out, here} {
		list = append(list, Message{Buffers: [][]byte{{byte(i)}}, Addr: to})
	}
	failed := map[int]error{}
	socket.SendAll(list, func(i int, err error) { failed[i] = err })
	assert.Len(t, failed, 3)
	assert.ErrorIs(t, failed[1], ErrRefused)
	assert.ErrorContains(t, failed[3], "no address of a UDP socket")
	assert.ErrorIs(t, failed[4], ErrRefused)
	var got []byte
	buf := make([]byte, 16)
	require.NoError(t, receiver.SetReadDeadline(time.Now().Add(5*time.Second)))
	for range 3 {
		n, err := receiver.Read(buf)
		require.NoError(t, err)
		got = append(got, buf[:n]...)
	}
	assert.Equal(t, []byte{0, 2, 5}, got)

	socket.Close()
	clear(failed)
	socket.SendAll(list[:1], func(i int, err error) { failed[i] = err })
	assert.Error(t, failed[0], "the socket is closed")
}
