package record

import (
	"encoding/hex"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"beacon/core/dnsname"
)

// The types that people know by name, each of which has a form.
var known = strings.Fields("A AAAA ALIAS CAA CDNSKEY CDS CNAME CSYNC DNAME DNSKEY DS HINFO HTTPS LOC MX NAPTR NS OPENPGPKEY PTR RP SMIMEA SOA SRV SSHFP SVCB TLSA TXT URI")

func TestEveryKnownTypeHasAForm(t *testing.T) {
	origin := dnsname.MustParse("saltmarsh-ferries.example")
	for _, word := range known {
		typ, err := ParseType(word)
		require.NoError(t, err)
		f := FormOf(typ)
		require.Contains(t, forms, f, word)
		assert.NotEmpty(t, f.Means)
		values := map[string]string{}
		for _, field := range f.Fields {
			assert.NotEmpty(t, field.Explain, "%s %s", word, field.Name)
			values[field.Name] = field.Example
		}
		d, err := f.Join(values, origin)
		require.NoError(t, err, "the examples of %s are a record", word)
		back, err := f.Join(f.Split(d), origin)
		require.NoError(t, err, "%s %s", word, d)
		assert.Equal(t, d, back, word)
		r := Record{origin, 60, typ, d}
		_, err = r.Wire()
		assert.NoError(t, err)
	}
	assert.Len(t, Forms(), len(known))
}

// generatedData draws data of any known type by its form.
func generatedData(rt *rapid.T, f Form) map[string]string {
	values := map[string]string{}
	for _, field := range f.Fields {
		var v string
		switch field.Kind {
		case Number:
			v = rapid.StringMatching("[0-9]|[1-9][0-9]{0,1}").Draw(rt, field.Name)
		case Host:
			v = rapid.StringMatching(`[a-z][a-z0-9-]{0,20}[a-z0-9](\.[a-z]{1,10}){0,3}\.?`).Draw(rt, field.Name)
		case Address:
			v = rapid.SampledFrom([]string{field.Example, strings.Replace(field.Example, "40", "7", 1)}).Draw(rt, field.Name)
		case Text:
			v = rapid.StringN(0, 60, 255).Draw(rt, field.Name)
		case Texts:
			v = rapid.StringN(0, 600, -1).Draw(rt, field.Name)
		case Octets:
			v = hex.EncodeToString(rapid.SliceOfN(rapid.Byte(), 32, 32).Draw(rt, field.Name))
			if field.Label == "Key" {
				v = "mdsswUyr3DPW132mOi8V9xESWE8jTo0d"
			}
		default:
			v = field.Example
		}
		values[field.Name] = v
	}
	if f.Type == CAA {
		values["tag"] = "issue"
	}
	return values
}

func TestSplitIsTheInverseOfJoin(t *testing.T) {
	origin := dnsname.MustParse("saltmarsh-ferries.example")
	rapid.Check(t, func(rt *rapid.T) {
		f := rapid.SampledFrom(forms).Draw(rt, "form")
		d, err := f.Join(generatedData(rt, f), origin)
		if err != nil {
			rt.Skipf("no record: %v", err)
		}
		// What is written is read as the same, by form and as presentation format, whatever the case of the type.
		back, err := f.Join(f.Split(d), origin)
		require.NoError(rt, err)
		assert.Equal(rt, d, back)
		typ, err := ParseType(strings.ToLower(f.Type.String()))
		require.NoError(rt, err)
		again, err := ParseData(typ, string(d), dnsname.Root)
		require.NoError(rt, err)
		assert.Equal(rt, d, again)
	})
}

func TestFormErrorsNameTheField(t *testing.T) {
	for _, c := range []struct {
		typ    Type
		values map[string]string
		says   string
	}{
		{MX, map[string]string{"preference": "ten", "host": "a"}, `preference: "ten" is no number`},
		{MX, map[string]string{"preference": "70000", "host": "a"}, "0 to 65535"},
		{MX, map[string]string{"preference": "10"}, "mail server: it is missing"},
		{MX, map[string]string{"priority": "10"}, "theirs are preference, host"},
		{CNAME, map[string]string{"target": "https://x/"}, "web address"},
		{A, map[string]string{"address": "2001:db8::1"}, "use type AAAA"},
	} {
		_, err := FormOf(c.typ).Join(c.values, dnsname.Root)
		assert.ErrorContains(t, err, c.says)
	}
}

func TestUnicodeNamesInData(t *testing.T) {
	for _, c := range [][2]string{{"CNAME", "fähre.example."}, {"SRV", "1 2 3 fähre.example."}, {"MX", "1 fähre.example."}, {"HTTPS", "1 fähre.example."}} {
		typ, err := ParseType(c[0])
		require.NoError(t, err)
		d, err := ParseData(typ, c[1], dnsname.Root)
		require.NoError(t, err, c[0])
		assert.Contains(t, string(d), "xn--fhre-loa.example.", c[0])
	}
}

// Names of classless reverse zones have slashes (RFC 2317); hosts with a path are web addresses.
func TestSlashesInNames(t *testing.T) {
	for text, fine := range map[string]bool{"1.0/25.2.0.192.in-addr.arpa.": true, "0/25": true, "web.example/path": false, "web.example./": false, "https://web": false} {
		d, err := ParseData(CNAME, text, ferries)
		assert.Equal(t, fine, err == nil, text)
		if fine {
			again, err := ParseData(CNAME, string(d), ferries)
			require.NoError(t, err)
			assert.Equal(t, d, again)
		}
	}
}
