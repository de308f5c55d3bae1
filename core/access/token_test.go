package access

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestTokenTexts(t *testing.T) {
	secret := [secretSize]byte{1, 2, 3}
	for kind, prefix := range prefixes {
		text := TokenText(kind, secret)
		assert.True(t, strings.HasPrefix(text, prefix))
		assert.Regexp(t, regexp.MustCompile("^"+TokenPattern+"$"), text)
		assert.True(t, Known(text))
		for i := range text { // any one character that is wrong is noticed
			other := byte('a')
			if text[i] == other {
				other = 'b'
			}
			assert.False(t, Known(text[:i]+string(other)+text[i+1:]), "character %d of %s", i, text)
		}
		assert.False(t, Known(text[:len(text)-1]))
		assert.Len(t, TokenBegins(text), shown)
	}
}

func TestDoubts(t *testing.T) {
	now := time.Date(2030, 3, 1, 12, 0, 0, 0, time.UTC)
	ago := func(days int) time.Time { return now.AddDate(0, 0, -days) }
	for _, c := range []struct {
		name, grant string
		u           Usage
		says        []string // part of each doubt
	}{
		{"new and narrow", "editor zones=a.example", Usage{Made: ago(1)}, nil},
		{"never used", "viewer", Usage{Made: ago(91)}, []string{"Not used for 91 days"}},
		{"not used any more", "see", Usage{Made: ago(300), LastUsed: ago(100), Used: []Action{See}}, []string{"Not used for 100 days"}},
		{"all of it", "owner", Usage{Made: ago(1), LastUsed: now}, []string{"It may users", "every zone"}},
		{"all of it, for a day", "operator", Usage{Made: ago(1), LastUsed: now, Expires: now.AddDate(0, 0, 1)}, nil},
		{"all of it, from one network", "operator", Usage{Made: ago(1), LastUsed: now, Networks: 1}, nil},
		{"more than it does", "see,edit zones=a.example", Usage{Made: ago(14), LastUsed: now, Used: []Action{See}}, []string{"Never used: edit"}},
		{"as much as it does", "see,edit zones=a.example", Usage{Made: ago(14), LastUsed: now, Used: []Action{See, Edit}}, nil},
	} {
		g, err := ParseGrant(c.grant)
		assert.NoError(t, err)
		doubts := Doubts([]Grant{g}, c.u, now)
		if assert.Len(t, doubts, len(c.says), "%s: %v", c.name, doubts) {
			for i, says := range c.says {
				assert.Contains(t, doubts[i], says, c.name)
			}
		}
	}
}
