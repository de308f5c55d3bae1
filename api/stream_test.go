package api

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/clock"
	"beacon/reach"
	"beacon/store"
	"beacon/wire"
)

// instance is a running service behind a real HTTP server.
func (s *site) instance() (address string, stop func()) {
	svc := s.open()
	ctx, cancel := context.WithCancel(context.Background())
	var group sync.WaitGroup
	group.Go(func() { svc.Run(ctx) })
	server := httptest.NewServer(New(svc, slog.New(slog.DiscardHandler)))
	return server.URL, func() {
		cancel()
		group.Wait()
		server.Close()
		svc.Close()
	}
}

// read reads events after a number until most were read, the stream ends, or ctx does.
func (s *site) read(ctx context.Context, address string, after uint64, most int, take func(id uint64, e wire.Entry)) error {
	req, err := http.NewRequestWithContext(ctx, "GET", address+Base+"/events", nil)
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+s.token)
	req.Header.Set("Last-Event-ID", strconv.FormatUint(after, 10))
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK || res.Header.Get("Content-Type") != "text/event-stream" {
		return fmt.Errorf("%s, %s", res.Status, res.Header.Get("Content-Type"))
	}
	lines := bufio.NewScanner(res.Body)
	id := uint64(0)
	for most > 0 && lines.Scan() {
		if text, ok := strings.CutPrefix(lines.Text(), "id: "); ok {
			id, err = strconv.ParseUint(text, 10, 64)
		} else if text, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
			var e wire.Entry
			err = json.Unmarshal([]byte(text), &e)
			take(id, e)
			most--
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Ten thousand lines by four writers at once, whose transactions end in another order than they began: each arrives
// once, in one order, though the reader comes and goes, and the service is restarted meanwhile.
func TestNoEventIsMissedOrDoubled(t *testing.T) {
	t.Parallel()
	const writers, each = 4, 2500
	s := newSite(t)
	db, err := store.Open(context.Background(), s.settings.Database, reach.Loopback(), clock.Wall{}.Now)
	require.NoError(t, err)
	defer db.Close()
	var group sync.WaitGroup
	for w := range writers {
		group.Go(func() {
			for i := 0; i < each; {
				_ = db.Tx(context.Background(), func(tx *store.Tx) error {
					for n := 0; n < 1+i%7 && i+n < each; n++ {
						if err := tx.Log("writer", "test.line", fmt.Sprint(w), fmt.Sprint(i+n)); err != nil {
							t.Error(err)
						}
					}
					time.Sleep(time.Duration(w) * time.Millisecond / 2) // commit later than others that began later
					return nil
				})
				i += 1 + i%7
			}
		})
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	address, stop := s.instance()
	last, got, visits := uint64(0), 0, 0
	next := make([]int, writers)
	for ; got < writers*each && ctx.Err() == nil; visits++ {
		if visits == 3 {
			stop()
			address, stop = s.instance()
		}
		require.NoError(t, s.read(ctx, address, last, min(1700, writers*each-got), func(id uint64, e wire.Entry) {
			assert.Greater(t, id, last, "the order")
			last = id
			if e.Action != "test.line" {
				return
			}
			w, _ := strconv.Atoi(e.Subject)
			assert.Equal(t, strconv.Itoa(next[w]), e.Detail, "writer %d: each once, in the order in which it wrote them", w)
			next[w]++
			got++
		}))
	}
	stop()
	group.Wait()
	assert.Equal(t, writers*each, got)
	t.Logf("%d events in %d visits across a restart", got, visits)
}

func TestStreamBeginsNowAndEndsWithTheInstance(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	address, stop := s.instance()
	status, _, body := s.ask("GET", Base+"/events?after=soon", "")
	assert.Equal(t, http.StatusUnprocessableEntity, status, body)
	ended := make(chan error, 1)
	go func() { ended <- s.read(context.Background(), address, 1<<40, 1, func(uint64, wire.Entry) {}) }()
	time.Sleep(200 * time.Millisecond)
	stopped := make(chan struct{})
	go func() { stop(); close(stopped) }()
	select {
	case err := <-ended:
		assert.NoError(t, err)
	case <-time.After(10 * time.Second):
		t.Fatal("an open stream keeps the instance from stopping")
	}
	<-stopped
}

// A stream ends within a second of the sign-out, at each instance, and says why; another token's goes on.
func TestStreamEndsWithItsToken(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	one, stopOne := s.instance()
	defer stopOne()
	two, stopTwo := s.instance()
	defer stopTwo()
	status, _, body := s.ask("POST", Base+"/sessions", `{"name":"admin","password":"correct horse"}`)
	require.Equal(t, http.StatusCreated, status)
	other := body["token"].(string)
	streams := []<-chan string{streamAt(t, one, s.token), streamAt(t, two, s.token)}
	stays := streamAt(t, one, other)
	status, _, _ = s.ask("DELETE", Base+"/sessions/current", "")
	require.Equal(t, http.StatusNoContent, status)
	began := time.Now()
	for _, said := range streams {
		select {
		case text := <-said:
			assert.Contains(t, text, "event: signed-out")
		case <-time.After(10 * time.Second):
			t.Fatal("the stream goes on after the sign-out")
		}
	}
	t.Logf("ended after %s", time.Since(began).Round(time.Millisecond))
	select {
	case <-stays:
		t.Error("the stream of another token ended, too")
	default:
	}
}

// One user has so many streams and no more; another one is not kept out, and one that ends makes room.
func TestStreamsOfAUserAreBounded(t *testing.T) {
	var s slots
	var leave []func()
	for range eventStream.most {
		out, err := s.enter("events", 1, eventStream.most)
		require.NoError(t, err)
		leave = append(leave, out)
	}
	_, err := s.enter("events", 1, eventStream.most)
	var p *wire.Problem
	require.ErrorAs(t, err, &p)
	assert.Equal(t, wire.Limited, p.Kind)
	for _, other := range []struct {
		kind   string
		caller uint64
	}{{"events", 2}, {"sweeps", 1}} {
		_, err := s.enter(other.kind, other.caller, 1)
		assert.NoError(t, err)
	}
	leave[0]()
	leave[0]()
	_, err = s.enter("events", 1, eventStream.most)
	require.NoError(t, err)
	_, err = s.enter("events", 1, eventStream.most)
	assert.Error(t, err, "a slot is given back once")
}

// A sweep too many of one user is refused with when to try again, and the others are answered.
// One large definition or zone file is read at a time; small ones do not wait for it.
func TestLargeTextsOneAtATime(t *testing.T) {
	var s slots
	leave, err := s.large(largeText)
	require.NoError(t, err)
	_, err = s.large(largeText)
	var p *wire.Problem
	require.ErrorAs(t, err, &p)
	assert.Equal(t, wire.Limited, p.Kind)
	assert.Positive(t, p.After)
	small, err := s.large(1000)
	require.NoError(t, err)
	small()
	leave()
	leave, err = s.large(largeText)
	require.NoError(t, err)
	leave()
}

func TestSweepsOfAUserAreBounded(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	address, stop := s.instance()
	defer stop()
	var group sync.WaitGroup
	var limited, answered atomic.Int64
	for range 200 {
		group.Go(func() {
			req, err := http.NewRequest("POST", address+Base+"/sweeps", strings.NewReader(`{"domain":"saltmarsh-ferries.example"}`))
			require.NoError(t, err)
			req.Header.Set("Authorization", "Bearer "+s.token)
			req.Header.Set("Content-Type", "application/json")
			res, err := http.DefaultClient.Do(req)
			require.NoError(t, err)
			defer res.Body.Close()
			switch res.StatusCode {
			case http.StatusTooManyRequests:
				limited.Add(1)
				assert.NotEmpty(t, res.Header.Get("Retry-After"))
			case http.StatusOK:
				answered.Add(1)
			}
		})
	}
	group.Wait()
	assert.EqualValues(t, 200, limited.Load()+answered.Load())
	assert.GreaterOrEqual(t, answered.Load(), int64(64))
	assert.Positive(t, limited.Load())
}
