package nstest

import (
	"net"
	"testing"
	"time"
)

// Far returns an address over TCP at which a server answers as if it stood so far away: what is sent arrives after half of the round trip, each
// way, and nothing is slowed down otherwise. A connection takes a round trip to open.
func Far(t testing.TB, server string, roundTrip time.Duration) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				time.Sleep(roundTrip)
				far, err := net.Dial("tcp", server)
				if err != nil {
					near.Close()
					return
				}
				go carry(near, far, roundTrip/2)
				go carry(far, near, roundTrip/2)
			}()
		}
	}()
	return l.Addr().String()
}

// carry brings what comes from one side to the other, so much later.
func carry(from, to net.Conn, later time.Duration) {
	type piece struct {
		at   time.Time
		data []byte
	}
	pieces := make(chan piece, 1<<14)
	go func() {
		defer close(pieces)
		for {
			buf := make([]byte, 64<<10)
			n, err := from.Read(buf)
			if n > 0 {
				pieces <- piece{time.Now().Add(later), buf[:n]}
			}
			if err != nil {
				return
			}
		}
	}()
	defer to.Close()
	for p := range pieces {
		time.Sleep(time.Until(p.at))
		if _, err := to.Write(p.data); err != nil {
			from.Close()
			return
		}
	}
}
