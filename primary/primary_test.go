package primary

import (
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Serials go round: what is newer is told by distance (RFC 1982 section 3.2).
func TestSerials(t *testing.T) {
	for _, c := range []struct {
		a, b  uint32
		newer bool
	}{{2, 1, true}, {1, 2, false}, {1, 1, false}, {0, 0xffffffff, true}, {0xffffffff, 0, false}, {0x80000000, 1, true}, {0x80000001, 1, false}, {5, 0xfffffff0, true}} {
		assert.Equal(t, c.newer, Newer(c.a, c.b), "%d after %d", c.a, c.b)
	}
	assert.EqualValues(t, 8, NextSerial(3, 7, 5))
	assert.EqualValues(t, 4, NextSerial(0xfffffff0, 3), "three is after a number close to the end")
	assert.EqualValues(t, 1, NextSerial(0xffffffff), "never zero")
	assert.EqualValues(t, 1, NextSerial(0))
}

// A port that is half taken is an error, not a wait; and the half that was free is given back.
func TestServeNeedsBothSockets(t *testing.T) {
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	at := taken.Addr().String()
	ended := make(chan error, 1)
	go func() { ended <- (&Server{}).Serve(t.Context(), at, nil) }()
	select {
	case err := <-ended:
		assert.ErrorContains(t, err, "address already in use")
	case <-time.After(5 * time.Second):
		t.Fatal("it waits for a socket that it cannot have")
	}
	packets, err := net.ListenPacket("udp", at)
	require.NoError(t, err)
	_ = packets.Close()
}
