package practice

import (
	"io"
	"math/rand/v2"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"
)

// fault is a way to misbehave. Several may be set at once; they end after Count requests, if that is given.
type fault struct {
	Site      string `json:"site"`       // last two octets of the address, such as "4.1"
	DelayMS   int    `json:"delay_ms"`   // wait before anything else, wall time
	Status    int    `json:"status"`     // HTTP: answer this instead
	CutAfter  bool   `json:"cut_after"`  // HTTP: do what was asked, then break the connection
	CutBefore bool   `json:"cut_before"` // HTTP: break the connection and do nothing
	Silent    bool   `json:"silent"`     // DNS: do not answer
	Rcode     int    `json:"rcode"`      // DNS: answer with this code only
	Writes    bool   `json:"writes"`     // HTTP: only requests that change something meet it
	Count     int    `json:"count"`      // how many requests; 0 for all until cleared
	// HTTP: with this chance a request meets trouble of a kind that is drawn anew each time: a broken connection before or
	// after the deed, an answer cut in the middle, 500, 429, no answer in time after the deed, and a read of how it was before.
	Chance float64 `json:"chance"`
	Echo   bool    `json:"echo"`    // HTTP: answer 500 with everything that was asked, the credential too
	HangMS int     `json:"hang_ms"` // how long "no answer in time" lasts
	PerSec int     `json:"per_sec"` // HTTP: more requests in any second than this get a 429
	// HTTP: with this chance a read of records is answered falsely: with none, with those of another zone, with the first page
	// only, or with those of StaleMS ago. Lies names which of these, separated by commas; empty for all.
	Lie     float64 `json:"lie"`
	Lies    string  `json:"lies"`
	StaleMS int     `json:"stale_ms"`
}

// troubles are what chance draws from.
var troubles = []string{"cut before", "cut after", "cut inside", "500", "429", "hang", "stale"}

type faults struct {
	mu   sync.Mutex
	set  map[string]*fault
	seen map[string][2]recorded // the last two different answers to each read, by site and address
	last map[string][]time.Time // requests of the last second, by site
	most map[string]int         // requests that there were in any second, by site
}

// recorded is an answer that was given.
type recorded struct {
	status int
	header http.Header
	body   string
}

func newFaults() *faults {
	return &faults{set: map[string]*fault{}, seen: map[string][2]recorded{}, last: map[string][]time.Time{}, most: map[string]int{}}
}

// put sets the fault of a site; one without any trouble in it clears it.
func (f *faults) put(wish fault) {
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(f.last, wish.Site)
	delete(f.most, wish.Site)
	empty := fault{Site: wish.Site, Count: wish.Count, Writes: wish.Writes}
	if wish == empty {
		delete(f.set, wish.Site)
		return
	}
	f.set[wish.Site] = &wish
}

// take returns the fault that the next request to site shall meet; writes says that it changes something.
func (f *faults) take(site string, writes bool) fault {
	f.mu.Lock()
	defer f.mu.Unlock()
	found := f.set[site]
	if found == nil || found.Writes && !writes {
		return fault{}
	}
	now := *found
	if found.Count > 0 {
		if found.Count--; found.Count == 0 {
			delete(f.set, site)
		}
	}
	return now
}

// lie draws how the next read of records at site is answered falsely; empty where it is answered truly.
func (f *faults) lie(site string) (kind string, stale time.Duration) {
	f.mu.Lock()
	defer f.mu.Unlock()
	now := f.set[site]
	if now == nil || rand.Float64() >= now.Lie {
		return "", 0
	}
	kinds := []string{lieEmpty, lieOther, lieFirstPage, lieStale}
	if now.Lies != "" {
		kinds = strings.Split(now.Lies, ",")
	}
	return kinds[rand.IntN(len(kinds))], time.Duration(now.StaleMS) * time.Millisecond
}

func (f *faults) dns(site string, next dns.Handler) dns.Handler {
	return dns.HandlerFunc(func(rw dns.ResponseWriter, q *dns.Msg) {
		now := f.take(site, false)
		time.Sleep(time.Duration(now.DelayMS) * time.Millisecond)
		switch {
		case now.Silent:
		case now.Rcode > 0:
			_ = rw.WriteMsg(new(dns.Msg).SetRcode(q, now.Rcode))
		default:
			next.ServeDNS(rw, q)
		}
	})
}

func (f *faults) http(site string, next http.Handler) http.Handler {
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		now := f.take(site, r.Method != http.MethodGet)
		if now.PerSec > 0 && f.tooMany(site, now.PerSec) {
			now.Status = http.StatusTooManyRequests
		}
		if now.Chance > 0 && rand.Float64() < now.Chance {
			f.trouble(rw, r, site, now, next)
			return
		}
		if now.Chance > 0 && r.Method == http.MethodGet {
			f.record(rw, r, site, next)
			return
		}
		time.Sleep(time.Duration(now.DelayMS) * time.Millisecond)
		switch {
		case now.CutBefore:
			panic(http.ErrAbortHandler)
		case now.CutAfter:
			next.ServeHTTP(nowhere{http.Header{}}, r)
			panic(http.ErrAbortHandler)
		case now.Echo:
			body, _ := io.ReadAll(io.LimitReader(r.Body, 1<<20))
			answer(rw, http.StatusInternalServerError, map[string]any{"you_said": r.Header, "at": r.URL.String(), "with": string(body)})
		case now.Status > 0:
			if now.Status == http.StatusTooManyRequests {
				rw.Header().Set("Retry-After", "1")
			}
			answer(rw, now.Status, problem{"practice_fault", "this site was told to misbehave"})
		default:
			next.ServeHTTP(rw, r)
		}
	})
}

// tooMany reports whether there were more requests than that in the second that ends now.
func (f *faults) tooMany(site string, most int) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	now := time.Now()
	last := slices.DeleteFunc(f.last[site], func(at time.Time) bool { return now.Sub(at) >= time.Second })
	f.last[site] = append(last, now)
	f.most[site] = max(f.most[site], len(f.last[site]))
	return len(f.last[site]) > most
}

// busiest returns how many requests a site with a limit had in any second.
func (f *faults) busiest(site string) int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.most[site]
}

// recorder keeps an answer while it is given.
type recorder struct {
	http.ResponseWriter
	got recorded
}

func (k *recorder) WriteHeader(status int) { k.got.status = status }
func (k *recorder) Write(b []byte) (int, error) {
	k.got.body += string(b)
	return len(b), nil
}

func (r recorded) write(rw http.ResponseWriter) {
	for name, values := range r.header {
		rw.Header()[name] = values
	}
	rw.WriteHeader(r.status)
	_, _ = io.WriteString(rw, r.body)
}

// answerOf has a request answered, and gives the answer without sending it.
func answerOf(r *http.Request, next http.Handler) recorded {
	k := &recorder{ResponseWriter: nowhere{http.Header{}}, got: recorded{status: http.StatusOK}}
	next.ServeHTTP(k, r)
	k.got.header = k.Header()
	return k.got
}

// record answers a read and keeps the answer.
func (f *faults) record(rw http.ResponseWriter, r *http.Request, site string, next http.Handler) {
	got := answerOf(r, next)
	key := site + r.URL.RequestURI()
	f.mu.Lock()
	if two := f.seen[key]; two[0].body != got.body && got.status == http.StatusOK {
		f.seen[key] = [2]recorded{got, two[0]}
	}
	f.mu.Unlock()
	got.write(rw)
}

// trouble makes a request meet one of the troubles.
func (f *faults) trouble(rw http.ResponseWriter, r *http.Request, site string, now fault, next http.Handler) {
	switch troubles[rand.IntN(len(troubles))] {
	case "cut before":
		panic(http.ErrAbortHandler)
	case "cut after":
		next.ServeHTTP(nowhere{http.Header{}}, r)
		panic(http.ErrAbortHandler)
	case "cut inside":
		got := answerOf(r, next)
		rw.Header().Set("Content-Length", strconv.Itoa(len(got.body)+10))
		got.body = got.body[:len(got.body)/2]
		got.write(rw)
		panic(http.ErrAbortHandler)
	case "500":
		answer(rw, http.StatusInternalServerError, problem{"practice_fault", "this site was told to misbehave"})
	case "429":
		rw.Header().Set("Retry-After", "0")
		answer(rw, http.StatusTooManyRequests, problem{"practice_fault", "this site was told to misbehave"})
	case "hang":
		next.ServeHTTP(nowhere{http.Header{}}, r)
		select {
		case <-time.After(time.Duration(now.HangMS) * time.Millisecond):
		case <-r.Context().Done():
		}
		panic(http.ErrAbortHandler)
	default: // stale, where an older answer is known
		f.mu.Lock()
		old := f.seen[site+r.URL.RequestURI()][1]
		f.mu.Unlock()
		if r.Method != http.MethodGet || old.status == 0 {
			next.ServeHTTP(rw, r)
			return
		}
		old.write(rw)
	}
}

// nowhere takes an answer that nobody will get.
type nowhere struct{ header http.Header }

func (n nowhere) Header() http.Header         { return n.header }
func (n nowhere) Write(b []byte) (int, error) { return len(b), nil }
func (n nowhere) WriteHeader(int)             {}
