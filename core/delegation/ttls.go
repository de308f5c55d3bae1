package delegation

import (
	"encoding/json"
	"slices"
	"time"
)

// SeenTTL is a TTL, in seconds, and when it was last seen.
type SeenTTL struct {
	TTL uint32    `json:"ttl"`
	At  time.Time `json:"at"` // simulated time; zero where it was kept before moments were: it counts as seen at the next sweep
}

// TTLs are the TTLs that were seen on one record set and that still matter, the largest first. A value stops mattering once it has itself
// run out since it was last seen: no cache holds it then. Lowering a TTL counts from that moment on.
type TTLs []SeenTTL

// mostTTLs bounds how many values are kept. Of more than that the smaller ones are left out, which makes no bound too early.
const mostTTLs = 16

// Seen returns t with a TTL that was seen at a moment.
func (t TTLs) Seen(ttl uint32, at time.Time) TTLs {
	out := make(TTLs, 0, len(t)+1)
	placed := false
	for _, v := range t {
		if v.At.IsZero() {
			v.At = at
		}
		switch {
		case v.TTL == ttl:
			v.At, placed = later(v.At, at), true
		case v.TTL < ttl && !placed:
			out, placed = append(out, SeenTTL{ttl, at}), true
		}
		gone := !v.At.Add(seconds(v.TTL)).After(at)
		covered := v.TTL < ttl && !v.At.After(at)
		if v.TTL == ttl || !gone && !covered {
			out = append(out, v)
		}
	}
	if !placed {
		out = append(out, SeenTTL{ttl, at})
	}
	return out[:min(len(out), mostTTLs)]
}

// At returns the largest TTL that still matters at a moment, in seconds; 0 for none.
func (t TTLs) At(at time.Time) uint32 {
	for _, v := range t {
		if v.At.IsZero() || v.At.Add(seconds(v.TTL)).After(at) || v.At.Equal(at) {
			return v.TTL
		}
	}
	if len(t) > 0 { // what was seen last is what is served
		return t[len(t)-1].TTL
	}
	return 0
}

// with returns the TTLs of both.
func (t TTLs) with(other TTLs) TTLs {
	out := slices.Clone(t)
	for _, v := range other {
		i := slices.IndexFunc(out, func(o SeenTTL) bool { return o.TTL <= v.TTL })
		switch {
		case i < 0:
			out = append(out, v)
		case out[i].TTL == v.TTL:
			out[i].At = later(out[i].At, v.At)
		default:
			out = slices.Insert(out, i, v)
		}
	}
	return out[:min(len(out), mostTTLs)]
}

// UnmarshalJSON also reads the one number that was once kept.
func (t *TTLs) UnmarshalJSON(text []byte) error {
	var one uint32
	if err := json.Unmarshal(text, &one); err == nil {
		if *t = nil; one > 0 {
			*t = TTLs{{TTL: one}}
		}
		return nil
	}
	return json.Unmarshal(text, (*[]SeenTTL)(t))
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}
