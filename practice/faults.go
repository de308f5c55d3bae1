package practice

import (
	"net/http"
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
}

type faults struct {
	mu  sync.Mutex
	set map[string]*fault
}

func newFaults() *faults { return &faults{set: map[string]*fault{}} }

// put sets the fault of a site; one without any trouble in it clears it.
func (f *faults) put(wish fault) {
	f.mu.Lock()
	defer f.mu.Unlock()
	empty := fault{Site: wish.Site, Count: wish.Count, Writes: wish.Writes}
	if wish == empty {
		delete(f.set, wish.Site)
		return
	}
	f.set[wish.Site] = &wish
}

// take gives the fault that the next request to site shall meet; writes says that it changes something.
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
		time.Sleep(time.Duration(now.DelayMS) * time.Millisecond)
		switch {
		case now.CutBefore:
			panic(http.ErrAbortHandler)
		case now.CutAfter:
			next.ServeHTTP(nowhere{http.Header{}}, r)
			panic(http.ErrAbortHandler)
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

// nowhere takes an answer that nobody will get.
type nowhere struct{ header http.Header }

func (n nowhere) Header() http.Header         { return n.header }
func (n nowhere) Write(b []byte) (int, error) { return len(b), nil }
func (n nowhere) WriteHeader(int)             {}
