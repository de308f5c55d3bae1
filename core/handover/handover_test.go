package handover

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/core/record"
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

func TestReady(t *testing.T) {
	set := names("a.example", "b.example", "c.example")
	servers := []evidence.ServerAnswer{
		{Server: evidence.Server{Name: set[0]}, Answer: evidence.Positive},
		{Server: evidence.Server{Name: set[1]}, Answer: evidence.Lame, Problem: "REFUSED"},
		{Server: evidence.Server{Name: dnsname.MustParse("old.example")}, Answer: evidence.Silent},
	}
	found := Ready(set, servers, []evidence.NameProblem{{Name: set[2], Problem: "NXDOMAIN"}})
	assert.Equal(t, []string{"nameserver-not-ready", "nameserver-unresolvable"}, codes(found))
	assert.Empty(t, Ready(set[:1], servers, nil))
}

func TestDifferences(t *testing.T) {
	key := delegation.Watched(dnsname.MustParse("saltmarsh-ferries.example"), nil)[0]
	answer := func(name, data string) evidence.ServerAnswer {
		a := evidence.ServerAnswer{Server: evidence.Server{Name: dnsname.MustParse(name)}}
		o := evidence.Observed{Key: key, Answer: evidence.Positive}
		o.Data = append(o.Data, record.Data("192.0.2."+data))
		a.Sets = append(a.Sets, o)
		return a
	}
	old, neu := names("old.example"), names("new.example")
	assert.Empty(t, Differences(old, neu, []evidence.ServerAnswer{answer("old.example", "1"), answer("new.example", "1")}))
	found := Differences(old, neu, []evidence.ServerAnswer{answer("old.example", "1"), answer("new.example", "2")})
	assert.Equal(t, []string{"answer-will-change"}, codes(found))
}

func TestNext(t *testing.T) {
	old, neu := names("old.example"), names("new.example")
	assert.Equal(t, Save, Next(neu, delegation.Registration{Active: old, Saved: old}))
	assert.Equal(t, Activate, Next(neu, delegation.Registration{Active: old, Saved: neu}))
	assert.Equal(t, Watch, Next(neu, delegation.Registration{Active: neu, Saved: neu}))
	assert.Equal(t, Save, Next(old, delegation.Registration{Active: old, Saved: neu}), "another list waits to be made active")
}
