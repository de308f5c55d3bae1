package profile_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/miekg/dns"
)

// bank keeps zones for interfaces of tests: what is behind a provider's interface, whatever that looks like.
type bank struct {
	sync.Mutex
	zones map[string]*bankZone
	last  int
	fault func(r *http.Request) int // a status in place of an answer, or 0; -1 breaks the connection off after the work is done
}

// bankZone is a zone: sets by host ("@" for the apex) and type.
type bankZone struct {
	No      int      `json:"no"`
	Zone    string   `json:"zone"`
	Name    string   `json:"name"`
	Servers []string `json:"servers"`
	Sets    map[string]bankSet
	Version int
	drafts  map[int]map[string]bankSet
	adds    int // how many edits were ever made
}

type bankSet struct {
	Host string   `json:"host"`
	Type string   `json:"type"`
	TTL  int      `json:"ttl"`
	Data []string `json:"data"`
	ids  []int
}

func newBank() *bank { return &bank{zones: map[string]*bankZone{}} }

func (b *bank) add(name string) (*bankZone, bool) {
	if b.zones[name] != nil {
		return nil, false
	}
	b.last++
	z := &bankZone{No: b.last, Zone: name, Name: name, Servers: []string{"ns1.bank.test", "ns2.bank.test"}, Sets: map[string]bankSet{}, drafts: map[int]map[string]bankSet{}, Version: 1}
	b.zones[name] = z
	return z, true
}

func (b *bank) numbered(no string) *bankZone {
	for _, z := range b.zones {
		if strconv.Itoa(z.No) == no {
			return z
		}
	}
	return nil
}

func (b *bank) sorted() []*bankZone {
	list := []*bankZone{}
	for _, z := range b.zones {
		list = append(list, z)
	}
	slices.SortFunc(list, func(a, c *bankZone) int { return a.No - c.No })
	return list
}

func sortedSets(sets map[string]bankSet) []bankSet {
	list := []bankSet{}
	for _, s := range sets {
		list = append(list, s)
	}
	slices.SortFunc(list, func(a, c bankSet) int { return strings.Compare(a.Host+" "+a.Type, c.Host+" "+c.Type) })
	return list
}

func copied(sets map[string]bankSet) map[string]bankSet {
	out := map[string]bankSet{}
	for k, s := range sets {
		out[k] = s
	}
	return out
}

// put sets or removes a set, as a provider would: only what is a record, and no CNAME beside other data.
func put(sets map[string]bankSet, s bankSet, texts bool) error {
	key := s.Host + " " + s.Type
	if len(s.Data) == 0 {
		delete(sets, key)
		return nil
	}
	for _, d := range s.Data {
		if texts && s.Type == "TXT" {
			d = strconv.Quote("x")
		}
		if _, err := dns.NewRR(fmt.Sprintf("x. %d IN %s %s", s.TTL, s.Type, d)); err != nil {
			return fmt.Errorf("this is no record: %s %s", s.Type, d)
		}
	}
	sets[key] = s
	return nil
}

func alone(sets map[string]bankSet) error {
	for _, s := range sets {
		for _, o := range sets {
			if s.Type == "CNAME" && o.Host == s.Host && o.Type != s.Type {
				return fmt.Errorf("%s: a CNAME is alone", s.Host)
			}
		}
	}
	return nil
}

// serve answers with the fault that is due, and else as the interface does.
func (b *bank) serve(t *testing.T, answer func(rw http.ResponseWriter, r *http.Request)) http.Handler {
	t.Helper()
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		b.Lock()
		defer b.Unlock()
		status := 0
		if b.fault != nil {
			status = b.fault(r)
		}
		switch {
		case status == -1:
			answer(discarded{http.Header{}}, r)
			panic(http.ErrAbortHandler)
		case status == 429:
			rw.Header().Set("Retry-After", "0")
			rw.WriteHeader(429)
		case status > 0:
			rw.WriteHeader(status)
		default:
			answer(rw, r)
		}
	})
}

// discarded takes an answer that nobody gets.
type discarded struct{ header http.Header }

func (d discarded) Header() http.Header         { return d.header }
func (d discarded) Write(p []byte) (int, error) { return len(p), nil }
func (d discarded) WriteHeader(int)             {}

func sayJSON(rw http.ResponseWriter, status int, v any) {
	rw.Header().Set("Content-Type", "application/json")
	rw.WriteHeader(status)
	_ = json.NewEncoder(rw).Encode(v)
}
