package reporter

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func addr(text string) netip.Addr {
	a, _ := netip.ParseAddr(text)
	return a
}

func on(text string, change func(*Address)) Address {
	a := Address{Prefix: netip.MustParsePrefix(text), Preferred: Forever}
	if change != nil {
		change(&a)
	}
	return a
}

func TestChoose(t *testing.T) {
	temporary, tentative, deprecated := func(a *Address) { a.Temporary = true }, func(a *Address) { a.Tentative = true }, func(a *Address) { a.Deprecated = true }
	lasting := func(d time.Duration) func(*Address) { return func(a *Address) { a.Preferred = d } }
	for name, c := range map[string]struct {
		list       []Address
		current    string
		four, want string
		prefixes   []netip.Prefix
	}{
		"none":            {list: []Address{on("fe80::1/64", nil), on("127.0.0.1/8", nil), on("169.254.1.1/16", nil)}},
		"inner network":   {list: []Address{on("fd00::1/64", nil), on("10.0.0.7/8", nil)}, four: "10.0.0.7", want: "fd00::1"},
		"one of each":     {list: []Address{on("198.51.100.7/24", nil), on("2001:db8:1::7/64", nil)}, four: "198.51.100.7", want: "2001:db8:1::7", prefixes: []netip.Prefix{netip.MustParsePrefix("2001:db8:1::/64")}},
		"not temporary":   {list: []Address{on("2001:db8:1::99/64", temporary), on("2001:db8:1::7/64", nil)}, want: "2001:db8:1::7", prefixes: []netip.Prefix{netip.MustParsePrefix("2001:db8:1::/64")}},
		"not tentative":   {list: []Address{on("2001:db8:1::7/64", tentative)}},
		"being withdrawn": {list: []Address{on("2001:db8:1::7/64", deprecated), on("2001:db8:2::7/64", nil)}, current: "2001:db8:1::7", want: "2001:db8:2::7", prefixes: []netip.Prefix{netip.MustParsePrefix("2001:db8:2::/64")}},
		"preferred longest": {list: []Address{on("2001:db8:1::7/64", lasting(time.Minute)), on("2001:db8:2::7/64", lasting(time.Hour))}, want: "2001:db8:2::7",
			prefixes: []netip.Prefix{netip.MustParsePrefix("2001:db8:2::/64"), netip.MustParsePrefix("2001:db8:1::/64")}},
		"kept": {list: []Address{on("2001:db8:1::7/64", lasting(time.Minute)), on("2001:db8:2::7/64", lasting(time.Hour))}, current: "2001:db8:1::7", want: "2001:db8:1::7",
			prefixes: []netip.Prefix{netip.MustParsePrefix("2001:db8:2::/64"), netip.MustParsePrefix("2001:db8:1::/64")}},
		"public first":                      {list: []Address{on("10.0.0.7/24", nil), on("198.51.100.7/24", nil)}, four: "198.51.100.7"},
		"not kept for it":                   {list: []Address{on("10.0.0.7/24", nil), on("198.51.100.7/24", nil)}, current: "10.0.0.7", four: "198.51.100.7"},
		"private alone":                     {list: []Address{on("10.0.0.7/24", nil)}, four: "10.0.0.7"},
		"behind the provider's translation": {list: []Address{on("100.64.0.7/10", nil)}, four: "100.64.0.7"},
	} {
		assert.Equal(t, addr(c.four), Choose(c.list, true, addr(c.current)), name)
		assert.Equal(t, addr(c.want), Choose(c.list, false, addr(c.current)), name)
		assert.Equal(t, c.prefixes, Prefixes(c.list, 64), name)
	}
	assert.Equal(t, []netip.Prefix{netip.MustParsePrefix("2001:db8:1::/56")}, Prefixes([]Address{on("2001:db8:1:1::7/64", nil), on("2001:db8:1:2::7/64", nil)}, 56))
}

// Whatever order addresses come in, the same one is chosen; and what is chosen once is kept while it is there.
func TestChoiceIsSteady(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		list := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) Address {
			return on(rapid.SampledFrom([]string{"2001:db8:1::1/64", "2001:db8:1::2/64", "2001:db8:2::1/64", "fd00::1/64", "198.51.100.1/24", "198.51.100.2/24", "10.0.0.1/8"}).Draw(t, "address"), func(a *Address) {
				a.Temporary, a.Deprecated, a.Tentative = rapid.Bool().Draw(t, "temporary"), rapid.Bool().Draw(t, "deprecated"), rapid.Bool().Draw(t, "tentative")
				a.Preferred = rapid.SampledFrom([]time.Duration{time.Minute, time.Hour, Forever}).Draw(t, "preferred")
			})
		}), 0, 5).Draw(t, "list")
		shuffled := rapid.Permutation(list).Draw(t, "shuffled")
		for _, four := range []bool{true, false} {
			best := Choose(list, four, netip.Addr{})
			assert.Equal(t, best, Choose(shuffled, four, netip.Addr{}))
			assert.Equal(t, best, Choose(shuffled, four, best))
			if best.IsValid() {
				assert.Equal(t, four, best.Is4())
			}
		}
	})
}

func TestSchedule(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := Schedule{Every: rapid.SampledFrom([]time.Duration{30 * time.Second, 5 * time.Minute, time.Hour}).Draw(t, "every")}
		lost := 0
		for range 30 {
			o := rapid.SampledFrom([]Outcome{Taken, Refused, Lost}).Draw(t, "outcome")
			wait := rapid.SampledFrom([]time.Duration{0, time.Second, 2 * time.Hour}).Draw(t, "wait")
			next := s.After(o, wait, rapid.Float64Range(0, 1).Draw(t, "spread"))
			assert.GreaterOrEqual(t, next, wait)
			assert.LessOrEqual(t, next, max(wait, s.Every*11/10))
			if o == Lost {
				lost++
				assert.GreaterOrEqual(t, next, min(firstRetry<<(lost-1), s.Every)*9/10)
			} else {
				lost = 0
				assert.GreaterOrEqual(t, next, s.Every*9/10)
			}
		}
	})
}

// A family without an address for a moment is left as it is; after a while it is said to have none. One that never had any is not spoken of.
func TestFamily(t *testing.T) {
	var f Family
	now := time.Date(2030, 3, 1, 12, 0, 0, 0, time.UTC)
	see := func(after time.Duration, found, want string) time.Time {
		now = now.Add(after)
		say, again := f.See(found, now)
		assert.Equal(t, want, say)
		return again
	}
	see(0, "", "")
	see(time.Hour, "", "")
	see(time.Second, "198.51.100.7", "198.51.100.7")
	assert.Equal(t, now.Add(Grace+time.Second), see(time.Second, "", "198.51.100.7"))
	see(Grace-time.Second, "", "198.51.100.7")
	see(0, "198.51.100.8", "198.51.100.8")
	see(time.Second, "", "198.51.100.8")
	see(-time.Hour, "", "198.51.100.8") // the clock was set back
	see(Grace, "", None)
	see(time.Hour, "", None)
	see(time.Second, "198.51.100.9", "198.51.100.9")
}

func TestWhatRoutersSay(t *testing.T) {
	e, err := ReadNATPMP([]byte{0, 128, 0, 0, 0, 0, 0, 9, 198, 51, 100, 7})
	require.NoError(t, err)
	assert.Equal(t, External{addr("198.51.100.7"), 9 * time.Second}, e)
	e, err = ReadNATPMP([]byte{0, 128, 0, 3, 0, 0, 0, 9, 0, 0, 0, 0})
	require.NoError(t, err)
	assert.Equal(t, External{}, e, "a line that is down")
	for text, b := range map[string][]byte{"not permitted": {0, 128, 0, 2}, "cut off": {0, 128, 0, 0, 1}, "another question": {0, 129, 0, 0}, "no answer": {0, 0, 0, 0}, "code 77": {0, 128, 0, 77}} {
		_, err := ReadNATPMP(b)
		assert.ErrorContains(t, err, text)
	}
	for _, b := range [][]byte{{0, 128, 0, 1}, {2, 128, 0, 1}} {
		_, err = ReadNATPMP(b)
		assert.ErrorIs(t, err, ErrVersion)
	}

	m := Mapping{Client: addr("192.0.2.9"), Nonce: [12]byte{1, 2, 3}, Port: 4711, Lifetime: 2 * time.Minute}
	b := AskPCP(m)
	require.Len(t, b, 60)
	answer := append([]byte{}, b...)
	answer[1] |= 0x80
	outside := netip.MustParseAddr("::ffff:198.51.100.7").As16()
	copy(answer[44:], outside[:])
	copy(answer[4:24], make([]byte, 20))
	answer[11] = 60
	e, err = ReadPCP(answer, m)
	require.NoError(t, err)
	assert.Equal(t, External{addr("198.51.100.7"), time.Minute}, e)
	other := m
	other.Nonce[5] = 9
	_, err = ReadPCP(answer, other)
	assert.ErrorContains(t, err, "another mapping")
	_, err = ReadPCP([]byte{0, 128, 0, 1, 0, 0, 0, 0}, m)
	assert.ErrorIs(t, err, ErrVersion, "a router that knows NAT-PMP only")
	_, err = ReadPCP(answer[:40], m)
	assert.ErrorContains(t, err, "cut off")
}

// Whatever a router says, it is an address that it could have, or an error.
func FuzzRouter(f *testing.F) {
	f.Add([]byte{0, 128, 0, 0, 0, 0, 0, 9, 198, 51, 100, 7})
	f.Add(AskPCP(Mapping{Client: addr("192.0.2.9"), Port: 4711}))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, read := range []func([]byte) (External, error){ReadNATPMP, func(b []byte) (External, error) { return ReadPCP(b, Mapping{Port: 4711}) }} {
			e, err := read(b)
			if err != nil {
				assert.Zero(t, e)
			}
			assert.False(t, e.Addr.IsValid() && e.Addr.IsUnspecified())
		}
	})
}
