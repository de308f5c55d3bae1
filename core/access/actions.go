// Package access decides who may do what. It knows grants, not users: a caller comes with the grants that its sign-in or token has. May answers by which
// grant something is allowed, or what is missing.
package access

import (
	"fmt"
	"slices"
	"strings"
)

// Action is something that a caller may be allowed to do.
type Action string

// The actions, each including nothing of the others.
const (
	See      Action = "see"      // see zones, domains, records, acts, the logbook
	Check    Action = "check"    // have domains checked
	Sweep    Action = "sweep"    // have a domain asked about from here, as another instance does of its vantage points
	Report   Action = "report"   // report the address of a dynamic host
	Edit     Action = "edit"     // change desired records, and which names follow an address
	Sync     Action = "sync"     // write desired records to providers, adopt or revert drift
	Delegate Action = "delegate" // change nameservers, DS records and locks at registrars and in parent zones
	Place    Action = "place"    // make zones, apply definitions, change zone settings, remove zones
	Operate  Action = "operate"  // hold and release all changes, test notification channels
	Connect  Action = "connect"  // accounts at providers and registrars, with their credentials
	Users    Action = "users"    // users, and the tokens of others
)

// Actions returns every action.
func Actions() []Action {
	return []Action{See, Check, Sweep, Report, Edit, Sync, Delegate, Place, Operate, Connect, Users}
}

// Role is a set of actions with a name.
type Role string

// The roles, from the widest to the narrowest.
const (
	Owner    Role = "owner"
	Operator Role = "operator"
	Editor   Role = "editor"
	Viewer   Role = "viewer"
)

// Roles returns every role, the widest first.
func Roles() []Role { return []Role{Owner, Operator, Editor, Viewer} }

// Actions returns what the role may do.
func (r Role) Actions() []Action {
	switch r {
	case Owner:
		return Actions()
	case Operator:
		return []Action{See, Check, Sweep, Report, Edit, Sync, Delegate, Place, Operate}
	case Editor:
		return []Action{See, Check, Edit, Sync}
	case Viewer:
		return []Action{See, Check}
	}
	return nil
}

// parseActions reads a role or a list of actions.
func parseActions(text string) (Role, []Action, error) {
	if r := Role(text); slices.Contains(Roles(), r) {
		return r, nil, nil
	}
	var list []Action
	for part := range strings.SplitSeq(text, ",") {
		if !slices.Contains(Actions(), Action(part)) {
			return "", nil, fmt.Errorf("%q is neither a role nor an action; the roles are %s, the actions %s", part, join(Roles()), join(Actions()))
		}
		list = append(list, Action(part))
	}
	return "", list, nil
}

func join[T ~string](list []T) string {
	texts := make([]string, len(list))
	for i, t := range list {
		texts[i] = string(t)
	}
	return strings.Join(texts, ", ")
}
