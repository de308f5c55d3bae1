package profile_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/outcall"
	"beacon/profile"
	"beacon/profile/jq/jqtest"
	"beacon/provider"
	"beacon/provider/conform"
	"beacon/provider/conform/conformtest"
)

// dunlin is a provider that nothing in the product was made for: all that is known of it stands in its profile.
type dunlin struct {
	mu      sync.Mutex
	domains map[string]*dunlinDomain
	last    int
}

type dunlinDomain struct {
	Slug    string   `json:"slug"`
	Domain  string   `json:"domain"`
	NS      []string `json:"ns"`
	Version int      `json:"version"`
	records []dunlinRecord
}

type dunlinRecord struct {
	ID      int    `json:"id"`
	Host    string `json:"host"`
	Type    string `json:"type"`
	TTL     int    `json:"ttl"`
	Content string `json:"content"`
	Owner   string `json:"owner"`
}

func (d *dunlin) ServeHTTP(rw http.ResponseWriter, r *http.Request) {
	d.mu.Lock()
	defer d.mu.Unlock()
	say := func(status int, body any) {
		rw.WriteHeader(status)
		_ = json.NewEncoder(rw).Encode(body)
	}
	refuse := func(status int, reason string) { say(status, map[string]string{"reason": reason}) }
	if user, password, ok := r.BasicAuth(); !ok || user != "desk" || password != "dunlin-test-key" {
		refuse(401, "who are you?")
		return
	}
	parts := strings.Split(strings.Trim(r.URL.Path, "/"), "/")[1:]
	if parts[0] == "session" {
		say(200, map[string]string{"role": "operator"})
		return
	}
	if len(parts) == 1 {
		if r.Method == "GET" {
			list := []*dunlinDomain{}
			for _, z := range d.domains {
				list = append(list, z)
			}
			say(200, list)
			return
		}
		var in struct{ Domain string }
		_ = json.NewDecoder(r.Body).Decode(&in)
		if d.domains[in.Domain] != nil {
			refuse(422, "zone exists")
			return
		}
		z := &dunlinDomain{Slug: in.Domain, Domain: in.Domain, NS: []string{"ns1.dunlin.test", "ns2.dunlin.test"}}
		d.domains[in.Domain] = z
		say(201, z)
		return
	}
	z := d.domains[parts[1]]
	switch {
	case z == nil:
		refuse(404, "no such zone")
	case len(parts) == 2 && r.Method == "GET":
		say(200, z)
	case len(parts) == 2:
		delete(d.domains, parts[1])
		rw.WriteHeader(204)
	case r.Method == "GET":
		page, _ := strconv.Atoi(r.URL.Query().Get("cursor"))
		if q := r.URL.Query().Get("from"); q != "" {
			page, _ = strconv.Atoi(q)
		}
		end := min(page+25, len(z.records))
		if end < len(z.records) {
			rw.Header().Set("Link", fmt.Sprintf(`<?from=%d>; rel="next"`, end))
		}
		say(200, map[string]any{"version": z.Version, "records": append([]dunlinRecord{}, z.records[page:end]...)})
	default:
		d.write(z, parts, r, refuse, say)
	}
}

func (d *dunlin) write(z *dunlinDomain, parts []string, r *http.Request, refuse func(int, string), say func(int, any)) {
	at := -1
	if len(parts) == 4 {
		at = slices.IndexFunc(z.records, func(have dunlinRecord) bool { return strconv.Itoa(have.ID) == parts[3] })
		if at < 0 {
			refuse(404, "no such record")
			return
		}
	}
	records := slices.Clone(z.records)
	if r.Method == "DELETE" {
		records = slices.Delete(records, at, at+1)
	} else {
		var in dunlinRecord
		if json.NewDecoder(r.Body).Decode(&in) != nil || in.TTL < 60 {
			refuse(422, "a record needs host, type, ttl from 60 and content")
			return
		}
		content := in.Content
		if in.Type == "TXT" {
			content = strconv.Quote("x")
		}
		if _, err := dns.NewRR(fmt.Sprintf("x %d IN %s %s", in.TTL, in.Type, content)); err != nil {
			refuse(422, "this is no record")
			return
		}
		if at < 0 {
			d.last++
			in.ID = d.last
			records = append(records, in)
		} else {
			in.ID = records[at].ID
			records[at] = in
		}
		for _, other := range records {
			if other.ID != in.ID && other.Host == in.Host && (other.Type == "CNAME" || in.Type == "CNAME") {
				refuse(422, "a CNAME stands alone")
				return
			}
		}
	}
	z.records = records
	z.Version++
	say(200, map[string]int{"version": z.Version})
}

// An interface that is new to the product takes a profile of fewer than sixty lines, and no code.
func TestFourthInterfaceConforms(t *testing.T) {
	text, err := os.ReadFile("testdata/dunlin.profile.yaml")
	require.NoError(t, err)
	assert.Less(t, strings.Count(string(text), "\n"), 60)
	p, faults := profile.Load("dunlin.profile.yaml", text)
	require.Empty(t, faults)
	server := httptest.NewServer(&dunlin{domains: map[string]*dunlinDomain{}})
	defer server.Close()
	pool := jqtest.Pool(t)
	make := func(secret string) *profile.Driver {
		return profile.New(p, profile.NewRuntime(pool), client(server.URL, secret))
	}
	conformtest.Passes(t, conform.Subject{Driver: make("desk:dunlin-test-key"), WrongKey: make("desk:dunlin-wrong-key"), Secret: "dunlin-wrong-key",
		Zone: dnsname.MustParse("scratch.example")}, 35)
	rights, err := make("desk:dunlin-test-key").Rights(context.Background())
	require.NoError(t, err)
	assert.Equal(t, []provider.Right{provider.ReadRecords, provider.WriteRecords, provider.Zones}, rights)
}

// A list that goes on elsewhere is not followed there, and a credential in the address does not show.
func TestStaysAtItsHost(t *testing.T) {
	pool := jqtest.Pool(t)
	const text = `
profile: stray
credential: {send: query, name: token}
can: {write: records, batch: 1}
zones: {request: GET /zones, each: ".[]", next: link}
read: {request: "GET /zones/{id}", each: ".[]"}
write: {request: "POST /zones/{id}", body: .}
`
	p, faults := profile.Load("stray", []byte(text))
	require.Empty(t, faults)
	for _, link := range []string{"https://elsewhere.test/zones", "//elsewhere.test/zones", "http://127.0.0.1:1/zones", "/../outside"} {
		server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
			assert.Equal(t, "stray-secret", r.URL.Query().Get("token"))
			rw.Header().Set("Link", "<"+link+`>; rel="next"`)
			fmt.Fprint(rw, `[{"id":"1","name":"a.example","nameservers":[]}]`)
		}))
		_, err := profile.New(p, profile.NewRuntime(pool), client(server.URL+"/base", "stray-secret")).Zones(context.Background(), "")
		require.Error(t, err, link)
		assert.Contains(t, err.Error(), "is not followed")
		assert.NotContains(t, err.Error(), "stray-secret")
		server.Close()
	}
	redirect := httptest.NewServer(http.RedirectHandler("http://127.0.0.1:1/", http.StatusTemporaryRedirect))
	defer redirect.Close()
	_, err := profile.New(p, profile.NewRuntime(pool), client(redirect.URL, "stray-secret")).Zones(context.Background(), "")
	require.Error(t, err)
	assert.Contains(t, err.Error(), "307")
}

// Where the time is over while an answer is being read, as on a busy machine, the answer is not to blame: it is worth asking again.
func TestTimeOverWhileReading(t *testing.T) {
	pool := jqtest.Pool(t)
	p, faults := profile.Load("slow", []byte(`
profile: slow
credential: {send: query, name: token}
can: {write: records, batch: 1}
zones: {request: GET /zones, each: "last(range(1000000000)) | .[]?"}
read: {request: "GET /zones/{id}", each: ".[]"}
write: {request: "POST /zones/{id}", body: .}
`))
	require.Empty(t, faults)
	server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) { fmt.Fprint(rw, `[]`) }))
	defer server.Close()
	within, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
	defer cancel()
	_, err := profile.New(p, profile.NewRuntime(pool), client(server.URL, "k")).Zones(within, "")
	assert.Equal(t, outcall.Unavailable, outcall.KindOf(err), "%v", err)
	assert.ErrorContains(t, err, "the time was over")
}

// The same while a request is being made: it was not sent, and can be the next time.
func TestTimeOverBeforeSending(t *testing.T) {
	pool := jqtest.Pool(t)
	p, faults := profile.Load("slow", []byte(`
profile: slow
credential: {send: query, name: token}
can: {write: records, batch: 1}
zones: {request: GET /zones, each: ".[]"}
read: {request: "GET /zones/{id}", each: ".[]"}
create: {request: POST /zones, body: "last(range(1000000000))", one: .}
remove: {request: "DELETE /zones/{id}"}
write: {request: "POST /zones/{id}", body: .}
`))
	require.Empty(t, faults)
	within, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
	defer cancel()
	_, err := profile.New(p, profile.NewRuntime(pool), client("http://127.0.0.1:1", "k")).Create(within, dnsname.MustParse("a.example"), provider.ZoneOptions{})
	assert.Equal(t, outcall.Unavailable, outcall.KindOf(err), "%v", err)
	assert.ErrorContains(t, err, "not sent")
}
