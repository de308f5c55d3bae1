package handover

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/finding"
)

func names(texts ...string) (out []dnsname.Name) {
	for _, text := range texts {
		out = append(out, dnsname.MustParse(text))
	}
	return out
}

func codes(list []finding.Finding) (out []string) {
	for _, f := range list {
		out = append(out, f.Code)
	}
	return out
}

func TestReadSet(t *testing.T) {
	assigned := names("quay-11.heron.test", "quay-12.heron.test")
	for _, c := range []struct {
		name  string
		typed []string
		codes []string
	}{
		{"dots, case and order do not matter", []string{" QUAY-12.heron.test. ", "quay-11.heron.test"}, nil},
		{"repeated, once with a dot", []string{"quay-11.heron.test", "quay-11.heron.test.", "quay-12.heron.test"}, []string{"nameserver-repeated"}},
		{"one character off, and only names that are not listed are meant", []string{"quay-12.heron.test", "quay-11.heron.test", "quay-13.heron.test"}, []string{"nameserver-not-assigned"}},
		{"one character off", []string{"quay-11.heron.test", "quay-13.heron.test"}, []string{"nameserver-misspelt"}},
		{"somebody else's", []string{"quay-11.heron.test", "ns.far-away.example"}, []string{"nameserver-not-assigned"}},
		{"malformed", []string{"quay-11.heron.test", "quay-12..heron.test", "quay-12.heron.test"}, []string{"nameserver-malformed"}},
		{"one alone", []string{"quay-11.heron.test"}, []string{"nameserver-single"}},
		{"none", nil, []string{"nameservers-missing"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			set, found := ReadSet(c.typed, assigned)
			assert.Equal(t, c.codes, codes(found))
			if len(c.codes) == 0 {
				assert.Equal(t, assigned, set)
			}
		})
	}
	var many []string
	for i := range 14 {
		many = append(many, "ns"+string(rune('a'+i))+".example")
	}
	_, found := ReadSet(many, nil)
	assert.Equal(t, []string{"nameservers-too-many"}, codes(found))
}

func TestNext(t *testing.T) {
	old, neu := names("old.example"), names("new.example")
	assert.Equal(t, Save, Next(neu, nil, delegation.Registration{Active: old, Saved: old}))
	assert.Equal(t, Activate, Next(neu, nil, delegation.Registration{Active: old, Saved: neu}))
	assert.Equal(t, Watch, Next(neu, nil, delegation.Registration{Active: neu, Saved: neu}))
	assert.Equal(t, Save, Next(old, nil, delegation.Registration{Active: old, Saved: neu}), "another list waits to be made active")

	glue := []delegation.HostObject{{Name: names("ns1.new.example")[0], Addresses: []netip.Addr{netip.MustParseAddr("192.0.2.53")}}}
	assert.Equal(t, PutHost, Next(neu, glue, delegation.Registration{Active: old, Saved: old}))
	assert.Equal(t, Save, Next(neu, glue, delegation.Registration{Active: old, Saved: old, Hosts: glue}))
	moved := []delegation.HostObject{{Name: glue[0].Name, Addresses: []netip.Addr{netip.MustParseAddr("192.0.2.54")}}}
	assert.Equal(t, PutHost, Next(neu, glue, delegation.Registration{Active: neu, Saved: neu, Hosts: moved}), "at another address")
}
