package api

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// serve has an instance listen as the program does.
func (s *site) serve() (address string) {
	s.t.Helper()
	svc := s.open()
	ctx, cancel := context.WithCancel(context.Background())
	var group sync.WaitGroup
	group.Go(func() { svc.Run(ctx) })
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(s.t, err)
	server := NewServer(svc, slog.New(slog.DiscardHandler))
	group.Go(func() { _ = server.Serve(Bounded(listener, nil, false)) })
	s.t.Cleanup(func() { cancel(); _ = server.Close(); group.Wait(); svc.Close() })
	return listener.Addr().String()
}

func dialFrom(t *testing.T, from, to string) (net.Conn, error) {
	t.Helper()
	return (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}, Timeout: 5 * time.Second}).Dial("tcp", to)
}

// Clients that send a header or a body octet by octet, or connect and say nothing, are cut, and beyond a number of one address not let in. Another
// client is answered all the while.
func TestSlowClients(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	address := s.serve()
	var refused, cut atomic.Int64
	var group sync.WaitGroup
	began := time.Now()
	for i := range 2000 {
		group.Go(func() {
			conn, err := dialFrom(t, fmt.Sprintf("127.0.%d.2", i%5+1), address)
			if err != nil {
				refused.Add(1)
				return
			}
			defer conn.Close()
			opened := time.Now()
			begin := map[int]string{0: "", 1: "POST " + Base + "/sessions HTTP/1.1\r\nHost: example.com\r\n", 2: "POST " + Base + "/sessions HTTP/1.1\r\nHost: example.com\r\nContent-Type: application/json\r\nContent-Length: 300\r\n\r\n{",
				3: "POST /nowhere HTTP/1.1\r\nHost: example.com\r\nContent-Length: 100000\r\n\r\n"}[i%4]
			if _, err := io.WriteString(conn, begin); err != nil {
				refused.Add(1)
				return
			}
			gone := make(chan struct{})
			go func() { // an octet now and then, while the other side reads
				for {
					select {
					case <-gone:
						return
					case <-time.After(500 * time.Millisecond):
						_, _ = io.WriteString(conn, " ")
					}
				}
			}()
			_ = conn.SetReadDeadline(began.Add(40 * time.Second))
			_, err = io.Copy(io.Discard, conn)
			close(gone)
			if ne, ok := err.(net.Error); ok && ne.Timeout() {
				return
			}
			if cut.Add(1); time.Since(opened) < 4*time.Second { // those that are let in have longer
				refused.Add(1)
			}
		})
	}
	var longest time.Duration
	for time.Since(began) < 8*time.Second {
		asked := time.Now()
		req, err := http.NewRequest("GET", "http://"+address+Base+"/sessions/current", nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+s.token)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		assert.Equal(t, http.StatusOK, res.StatusCode)
		res.Body.Close()
		longest = max(longest, time.Since(asked))
		time.Sleep(20 * time.Millisecond)
	}
	group.Wait()
	took := time.Since(began)
	t.Logf("2000 slow clients: %d were not let in, all were gone after %s; the slowest answer to another client took %s", refused.Load(), took.Round(time.Millisecond), longest.Round(time.Millisecond))
	assert.Less(t, took, 30*time.Second)
	assert.GreaterOrEqual(t, refused.Load(), int64(2000-5*mostOfAnAddress-50), "so many of an address are let in")
}

// A large body of a client that has signed in may take its time, as long as it goes on coming; so may its answer.
func TestSlowBodyOfASignedInClient(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	conn, err := net.Dial("tcp", s.serve())
	require.NoError(t, err)
	defer conn.Close()
	const body = `{"dry_run":true,"manage":false,"reason":"","files":[{"name":"a.beacon.yaml","text":"zones: {}"}]}`
	_, err = fmt.Fprintf(conn, "POST %s/definitions HTTP/1.1\r\nHost: example.com\r\nAuthorization: Bearer %s\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n", Base, s.token, len(body))
	require.NoError(t, err)
	for i := range body { // longer than a client that has not signed in may take
		_, err := io.WriteString(conn, body[i:i+1])
		require.NoError(t, err)
		time.Sleep(12 * time.Second / time.Duration(len(body)))
	}
	res, err := http.ReadResponse(bufio.NewReader(conn), nil)
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	assert.Less(t, res.StatusCode, 500, "%s", text)
	assert.NotEqual(t, http.StatusRequestTimeout, res.StatusCode)
}
