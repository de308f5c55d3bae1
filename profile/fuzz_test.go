package profile

import (
	"encoding/json"
	"testing"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/demo/profiles"
	"beacon/provider"
)

// Whatever a profile holds, it is read or refused with places, and nothing panics.
func FuzzLoad(f *testing.F) {
	for _, name := range []string{"heron", "curlew", "plover"} {
		text, err := profiles.Files.ReadFile(name + Suffix)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(text)
	}
	f.Add([]byte("profile: x\nread: {request: GET /{a,b*}, each: .[]}\n"))
	f.Add([]byte("a: &a [*a]"))
	f.Fuzz(func(t *testing.T, text []byte) {
		p, faults := Load("fuzzed", text)
		if (p == nil) != (len(faults) > 0) {
			t.Fatalf("%v with %v", p, faults)
		}
		for _, fault := range faults {
			if fault.Line < 1 || fault.Column < 1 || fault.Message == "" {
				t.Fatalf("a fault without its place: %+v", fault)
			}
		}
	})
}

// Whatever an interface answers, an item of it becomes records below the zone, or an error.
func FuzzRecords(f *testing.F) {
	zone := dnsname.MustParse("saltmarsh-ferries.example")
	for _, text := range []string{`{"label":"www","type":"A","ttl":300,"values":["192.0.2.1"]}`, `{"name":"x.saltmarsh-ferries.example.","type":"TXT","ttl":1,"text":"a"}`,
		`{"zonefile":"@ 300 IN A 192.0.2.1"}`, `{"label":"a..b","type":"A","ttl":1,"value":"1"}`, `{"label":"","type":"NOPE","ttl":1,"value":"x","ref":7,"attributes":{"a":true}}`, `[]`, `{"ttl":-1}`} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		if !json.Valid(text) {
			return
		}
		page := provider.Page{Details: change.Details{}}
		if readRecords(text, zone, "", &page, func(string) {}) != nil {
			return
		}
		for _, r := range page.Records {
			if r.Data == "" || r.Type == 0 {
				t.Fatalf("%q became %v", text, r)
			}
		}
	})
}
