package access

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"beacon/core/dnsname"
	"beacon/core/record"
)

func grants(t testing.TB, texts ...string) (list []Grant) {
	for _, text := range texts {
		g, err := ParseGrant(text)
		require.NoError(t, err, text)
		list = append(list, g)
	}
	return list
}

// object reads "zone", "zone owner" or "zone owner type"; "-" is the installation.
func object(text string) (o Object) {
	fields := strings.Fields(text)
	if text == "-" {
		return o
	}
	o.Zone = dnsname.MustParse(fields[0])
	if len(fields) > 1 {
		o.Name, _ = dnsname.ParseRelative(fields[1], o.Zone)
	}
	if len(fields) > 2 {
		o.Type, _ = record.ParseType(fields[2])
	}
	return o
}

func TestMay(t *testing.T) {
	for _, c := range []struct {
		grant   string
		action  Action
		yes, no string // objects, separated by commas
	}{
		{"owner", Users, "-,a.example,a.example www A", ""},
		{"operator", Delegate, "-,a.example", ""},
		{"operator", Connect, "", "-,a.example"},
		{"editor", Sync, "-,a.example", ""},
		{"editor", Place, "", "-,a.example"},
		{"viewer", Edit, "", "-,a.example,a.example www A"},
		{"editor zones=a.example", Edit, "a.example,a.example www A,a.example x.y MX", "-,b.example,sub.a.example,sub.a.example www A"},
		{"editor zones=*.a.example", Edit, "sub.a.example,x.sub.a.example", "-,a.example,a.example sub A"},
		{"edit,sync zones=a.example names=_acme-challenge,_acme-challenge.* types=TXT", Edit,
			"a.example _acme-challenge TXT,a.example _acme-challenge.www TXT,a.example _acme-challenge.x.y TXT",
			"-,a.example,a.example _acme-challenge,a.example _acme-challenge A,a.example www._acme-challenge TXT,b.example _acme-challenge TXT,a.example @ TXT"},
		{"edit names=*.lab", Edit, "a.example x.lab A,b.example x.y.lab TXT", "a.example lab A,a.example xlab A,a.example,-"},
		{"edit names=@ types=A,AAAA", Edit, "a.example @ A,a.example @ AAAA", "a.example @ TXT,a.example www A,a.example @"},
		{"edit types=TXT", Edit, "a.example www TXT", "a.example www A,a.example,-"},
		{"see", Check, "", "-,a.example"},
	} {
		caller := Caller{Name: "petra", Grants: grants(t, c.grant)}
		for _, objects := range []struct {
			list    string
			allowed bool
		}{{c.yes, true}, {c.no, false}} {
			for text := range strings.SplitSeq(objects.list, ",") {
				if text == "" {
					continue
				}
				d := May(caller, c.action, object(text))
				assert.Equal(t, objects.allowed, d.Allowed, "%s: %s %s", c.grant, c.action, text)
				assert.Equal(t, objects.allowed, d.Missing == "", "what is missing is said where it is")
			}
		}
	}
	assert.False(t, May(Caller{}, See, Everything).Allowed, "the zero Caller may nothing")
	assert.False(t, May(Caller{Grants: Full(Owner)}, "", Everything).Allowed, "there is no action without a name")
	assert.Equal(t, `ci is not granted the action "edit" for www.a.example A in a.example; granted: viewer`, May(Caller{Name: "ci", Grants: Full(Viewer)}, Edit, object("a.example www A")).Missing)
}

// A token may what its grants and its maker's say, whichever is narrower at the moment.
func TestTokensStayWithinTheirMaker(t *testing.T) {
	token := Caller{Token: "ci", Grants: grants(t, "editor zones=a.example,b.example"), Within: grants(t, "editor zones=b.example,c.example"), TokenOf: true}
	assert.True(t, May(token, Edit, object("b.example")).Allowed)
	assert.False(t, May(token, Edit, object("a.example")).Allowed)
	assert.False(t, May(token, Edit, object("c.example")).Allowed)
	assert.Contains(t, May(token, Edit, object("a.example")).Missing, "the maker of the token ci")
	token.Within = nil
	assert.False(t, May(token, Edit, object("b.example")).Allowed, "a maker that may nothing")
	assert.False(t, token.Ever(Edit))
}

func TestGrantsThatAreRefused(t *testing.T) {
	for text, says := range map[string]string{
		"":                     "empty",
		"captain":              "neither a role nor an action",
		"viewer,edit":          `"viewer" is neither`,
		"see zones=":           "no part of a grant",
		"see zone=a.example":   "zone",
		"see zones=*.":         "",
		"see names=*.a.*":      "twice",
		"see names=www.":       "ends with a dot",
		"see types=NOTHING":    "NOTHING",
		"see a.example":        "no part of a grant",
		"see zones=a..example": "a..example",
	} {
		_, err := ParseGrant(text)
		assert.ErrorContains(t, err, says, text)
	}
	assert.Error(t, Grant{Role: "captain"}.Check())
	assert.Error(t, Grant{Role: Owner, Actions: []Action{See}}.Check())
	assert.Error(t, Grant{Actions: []Action{"fly"}}.Check())
}

func TestWider(t *testing.T) {
	for _, c := range []struct {
		grant, than string
		more        string // the action that is more; empty for none
	}{
		{"owner", "owner", ""},
		{"operator", "owner", ""},
		{"owner", "operator", "connect"},
		{"editor zones=a.example", "editor", ""},
		{"editor", "editor zones=a.example", "see"},
		{"editor zones=x.a.example", "editor zones=*.a.example", ""},
		{"editor zones=*.x.a.example", "editor zones=*.a.example", ""},
		{"editor zones=a.example", "editor zones=*.a.example", "see"},
		{"edit names=_acme-challenge types=TXT", "edit types=TXT", ""},
		{"edit names=x.y.lab", "edit names=*.lab", ""},
		{"edit names=a.*.lab", "edit names=*.lab", ""},
		{"edit names=*.lab", "edit names=a.*.lab", "edit"},
		{"edit names=*.a.lab", "edit names=*.lab", ""},
		{"edit names=*", "edit names=*.lab", "edit"},
		{"edit names=lab", "edit names=*", ""},
		{"edit names=@", "edit names=*", "edit"},
		{"edit types=TXT,A", "edit types=TXT", "edit"},
		{"sweep", "editor", "sweep"},
	} {
		_, more, wider := Wider(grants(t, c.grant), grants(t, c.than))
		assert.Equal(t, c.more, more, "%s than %s", c.grant, c.than)
		assert.Equal(t, c.more != "", wider)
	}
}

var (
	anyLabel = rapid.SampledFrom([]string{"a", "b", "*"})
	anyGrant = rapid.Custom(func(t *rapid.T) Grant {
		for {
			text := rapid.SampledFrom([]string{"owner", "editor", "viewer", "edit", "see,edit", "sweep"}).Draw(t, "may")
			if rapid.Bool().Draw(t, "by zone") {
				text += " zones=" + rapid.SampledFrom([]string{"z.example", "*.z.example", "y.z.example", "*.y.z.example", "z.example,*.example"}).Draw(t, "zones")
			}
			if rapid.Bool().Draw(t, "by name") {
				text += " names=" + strings.Join(rapid.SliceOfN(anyLabel, 1, 3).Draw(t, "names"), ".")
			}
			if rapid.Bool().Draw(t, "by type") {
				text += " types=" + rapid.SampledFrom([]string{"A", "TXT", "A,TXT"}).Draw(t, "types")
			}
			if g, err := ParseGrant(text); err == nil {
				return g
			}
		}
	})
	anyObject = rapid.Custom(func(t *rapid.T) Object {
		zone := rapid.SampledFrom([]string{"z.example", "y.z.example", "x.y.z.example", "other.example"}).Draw(t, "zone")
		owner := strings.Join(rapid.SliceOfN(rapid.SampledFrom([]string{"a", "b", "c"}), 0, 3).Draw(t, "owner"), ".")
		text := zone
		if owner != "" {
			text += " " + owner + rapid.SampledFrom([]string{"", " A", " TXT"}).Draw(t, "type")
		}
		return object(rapid.SampledFrom([]string{text, text, "-"}).Draw(t, "object"))
	})
)

// What is not wider allows nothing more, at any object: that is what tokens are made by.
func TestWiderLaw(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		some, than := []Grant{anyGrant.Draw(t, "grant")}, rapid.SliceOfN(anyGrant, 1, 3).Draw(t, "than")
		if _, _, wider := Wider(some, than); wider {
			return
		}
		o := anyObject.Draw(t, "object")
		for _, a := range Actions() {
			if May(Caller{Grants: some}, a, o).Allowed {
				require.True(t, May(Caller{Grants: than}, a, o).Allowed, "%s: %s %s", Text(some), a, o)
			}
		}
	})
}

// A zone is in the scope of an action just where May allows it there.
func TestScopeLaw(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := Caller{Grants: rapid.SliceOfN(anyGrant, 0, 3).Draw(t, "grants"), Within: rapid.SliceOfN(anyGrant, 0, 3).Draw(t, "within"), TokenOf: rapid.Bool().Draw(t, "token")}
		zone := anyObject.Draw(t, "object").Zone
		for _, a := range Actions() {
			if !zone.IsZero() {
				require.False(t, May(c, a, Object{Zone: zone, Name: zone}).Allowed && !c.Touches(a, zone), "%s: %s %s", Text(c.Grants), a, zone)
				require.Equal(t, May(c, a, Zone(zone)).Allowed, Where(c, a).Has(zone), "%s: %s %s", Text(c.Grants), a, zone)
			}
			require.Equal(t, May(c, a, Everything).Allowed, Where(c, a).All(), "%s: %s", Text(c.Grants), a)
			if May(c, a, Object{Zone: zone}).Allowed {
				require.True(t, c.Ever(a))
			}
		}
	})
}

// A grant is read back as it is written, as text and as JSON.
func TestGrantsAreReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		g := anyGrant.Draw(t, "grant")
		again, err := ParseGrant(g.String())
		require.NoError(t, err)
		require.Equal(t, g, again)
		text, err := json.Marshal(g)
		require.NoError(t, err)
		var read Grant
		require.NoError(t, json.Unmarshal(text, &read))
		require.Equal(t, g, read)
	})
}

func FuzzParseGrant(f *testing.F) {
	f.Add("edit,sync zones=a.example,*.b.example names=_acme-challenge types=TXT")
	f.Add("viewer names=@")
	f.Fuzz(func(t *testing.T, text string) {
		g, err := ParseGrant(text)
		if err != nil {
			return
		}
		again, err := ParseGrant(g.String())
		require.NoError(t, err, "%q", g.String())
		require.Equal(t, g.String(), again.String())
	})
}
