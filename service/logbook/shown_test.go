package logbook

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/wording"
	"beacon/wire"
)

// Each action of the logbook, about the own zone, another one, an account and a user, to each role, everywhere and in the own zone only: lines of users and
// tokens are for who manages users, those of zones for who may see them, and all others for who may see everything.
func TestWhoSeesWhichLines(t *testing.T) {
	subjects := []string{"own.example.", "other.example.", "heron-main", "petra", "own.example", ""}
	for _, may := range []string{"owner", "operator", "editor", "viewer", "sweep", "report"} {
		for _, narrowed := range []string{"", " zones=own.example"} {
			grant, err := access.ParseGrant(may + narrowed)
			require.NoError(t, err)
			shows := ShownTo(access.Caller{Name: "petra", Grants: []access.Grant{grant}})
			for _, action := range wording.Actions() {
				for _, subject := range subjects {
					kind, _, _ := strings.Cut(action, ".")
					should := may != "sweep" && may != "report" // these see nothing
					if kind == "user" || kind == "token" || kind == "access" {
						should = may == "owner" && narrowed == ""
					} else if narrowed != "" {
						should = should && subject == "own.example."
					}
					assert.Equal(t, should, shows(wire.Entry{Action: action, Subject: subject}), "%s%s: %s about %q", may, narrowed, action, subject)
				}
			}
		}
	}
}
