package e2e

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// from returns a client whose connections come from an address of this machine.
func from(address string) *http.Client {
	dialer := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(address)}}
	return &http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{DialContext: dialer.DialContext, MaxIdleConnsPerHost: 4}}
}

// 200 clients guess passwords for a minute, and then 2,000 connections are slow: memory stays, a user who has signed in hardly notices, and the right
// password from another network gets in.
func TestGuessingForAMinute(t *testing.T) {
	if !soak() {
		t.Skip("a minute of full load; make soak has it, and TestGuessing a short form")
	}
	s := stage(t, options(t, 60, ""))
	token, err := s.SignIn(context.Background())
	require.NoError(t, err)
	measure := func(what string, load func(ctx context.Context, group *sync.WaitGroup, done *atomic.Int64)) {
		before := residentMB(s.ServicePID())
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		var group sync.WaitGroup
		var done atomic.Int64
		load(ctx, &group, &done)
		client, most := from("127.0.7.1"), 0
		var took []time.Duration
		var in time.Duration
		for i := 0; ctx.Err() == nil; i++ {
			req, err := http.NewRequest("GET", s.Address()+"/api/v1/me", nil)
			require.NoError(t, err)
			req.Header.Set("Authorization", "Bearer "+token)
			began := time.Now()
			res, err := client.Do(req)
			require.NoError(t, err, what)
			_, _ = io.Copy(io.Discard, res.Body)
			res.Body.Close()
			require.Equal(t, http.StatusOK, res.StatusCode)
			took = append(took, time.Since(began))
			most = max(most, residentMB(s.ServicePID()))
			if i == 50 {
				body := fmt.Sprintf(`{"name":"admin","password":%q}`, s.Password)
				began = time.Now()
				res, err := from("127.0.8.1").Post(s.Address()+"/api/v1/sessions", "application/json", bytes.NewReader([]byte(body)))
				require.NoError(t, err)
				res.Body.Close()
				assert.Equal(t, http.StatusCreated, res.StatusCode, "the right password from another network")
				in = time.Since(began)
			}
			time.Sleep(20 * time.Millisecond)
		}
		group.Wait()
		slices.Sort(took)
		p99 := took[len(took)*99/100]
		t.Logf("%s: %d requests; memory %d MB before, %d MB at most; /me: median %s, p99 %s, slowest %s of %d; the right password took %s",
			what, done.Load(), before, most, took[len(took)/2].Round(time.Millisecond), p99.Round(time.Millisecond), took[len(took)-1].Round(time.Millisecond), len(took), in.Round(time.Millisecond))
		assert.Less(t, most, before+100, what)
		assert.Less(t, p99, 100*time.Millisecond, what)
	}
	measure("guessing", func(ctx context.Context, group *sync.WaitGroup, done *atomic.Int64) {
		for i := range 200 {
			group.Go(func() {
				client := from(fmt.Sprintf("127.0.%d.%d", 10+i/50, 1+i%50))
				for n := 0; ctx.Err() == nil; n++ {
					body := fmt.Sprintf(`{"name":"admin","password":"guess %d of %d"}`, n, i)
					res, err := client.Post(s.Address()+"/api/v1/sessions", "application/json", bytes.NewReader([]byte(body)))
					if err != nil {
						continue
					}
					_, _ = io.Copy(io.Discard, res.Body)
					res.Body.Close()
					assert.NotEqual(t, http.StatusCreated, res.StatusCode)
					done.Add(1)
				}
			})
		}
	})
	measure("slow connections", func(ctx context.Context, group *sync.WaitGroup, done *atomic.Int64) {
		for i := range 2000 {
			group.Go(func() {
				dialer := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(fmt.Sprintf("127.0.%d.%d", 20+i/200, 1+i%200))}}
				time.Sleep(time.Duration(i) * 5 * time.Millisecond) // not all in one moment: each is cut after ten seconds, and comes again
				for ctx.Err() == nil {
					conn, err := dialer.DialContext(ctx, "tcp", s.Address()[len("http://"):])
					if err != nil {
						continue
					}
					done.Add(1)
					_, _ = conn.Write([]byte("POST /api/v1/sessions HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\nContent-Length: 4000\r\n\r\n"))
					for ctx.Err() == nil {
						if _, err := conn.Write([]byte(" ")); err != nil {
							break
						}
						select {
						case <-ctx.Done():
						case <-time.After(time.Second):
						}
					}
					_ = conn.Close()
				}
			})
		}
	})
}
