package practice

import (
	"slices"
	"strings"
	"time"
)

// The false answers that a read of records can get.
const (
	lieEmpty     = "empty"
	lieOther     = "other"
	lieFirstPage = "first-page"
	lieStale     = "stale"
)

// kept is for how long earlier versions of a zone are remembered, real time.
const kept = 2 * time.Minute

// version is what a zone held until it was changed.
type version struct {
	until   time.Time
	records []string
}

// firstPageLines is how many records a zone shows of which only the first page is shown.
const firstPageLines = 10

// shown prints the zone as a read of its records shows it, which is false where the site was told to answer falsely.
func (w *World) shown(site string, p *providerState, z *hostedZone) *hostedZone {
	kind, stale := w.faults.lie(site)
	if kind == "" {
		return z
	}
	seen := *z
	switch kind {
	case lieEmpty:
		seen.Records = nil
	case lieOther:
		seen.Records = otherRecords(p, z)
	case lieFirstPage:
		seen.Records = z.Records[:min(len(z.Records), firstPageLines)]
	case lieStale:
		at := time.Now().Add(-stale)
		for _, v := range z.history {
			if v.until.After(at) {
				seen.Records = v.records
				break
			}
		}
	}
	return &seen
}

// otherRecords returns the records of another zone of the provider, with their names in z; of an invented one where there is no other.
func otherRecords(p *providerState, z *hostedZone) (records []string) {
	records = []string{"@ 300 IN A 192.0.2.251", "shop 300 IN A 192.0.2.252", "www 300 IN CNAME @"}
	other := "@"
	for name, o := range p.Zones {
		if name != z.Name && len(o.Records) > 0 {
			records, other = o.Records, name
			break
		}
	}
	under := func(name string) string {
		if name == other {
			return z.Name
		}
		return strings.TrimSuffix(name, "."+other) + "." + z.Name
	}
	out := make([]string, len(records))
	for i, line := range records {
		f := strings.Fields(line)
		f[0] = under(f[0])
		if f[len(f)-1] == "@" {
			f[len(f)-1] = z.Name
		}
		out[i] = strings.Join(f, " ")
	}
	slices.Sort(out)
	return out
}

// remember keeps what the zone held until now.
func (z *hostedZone) remember(now time.Time) {
	z.history = append(z.history, version{now, z.Records})
	for len(z.history) > 0 && now.Sub(z.history[0].until) > kept {
		z.history = z.history[1:]
	}
}
