package access

import (
	"fmt"
	"slices"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// Caller is who asks: a user, a token, or the service itself, with what it may do.
type Caller struct {
	UserID  uint64 // of the user, or of the maker of the token; 0 for the service
	Token   string // the name of the machine token; empty for a user
	Name    string // for the logbook
	Grants  []Grant
	Within  []Grant // what the maker of a token may do: the token may no more
	TokenOf bool    // Within holds

	TokenID  uint64 // of the token that came; 0 for none
	Uplink   uint64 // that it reports for; 0 for none
	Location uint64 // of the uplink
	Version  uint64 // of the location, when the token was looked up
}

// Service is the service itself, which may do everything.
var Service = Caller{Name: "service", Grants: Full(Owner)}

// For returns the service as it does what was asked for by a name. What is asked for was allowed when it was asked for.
func For(name string) Caller {
	if name == "" {
		return Service
	}
	return Caller{Name: name, Grants: Full(Owner)}
}

// Object is what something is done to: the whole installation, a zone, or a record set of a zone. The zero Object is the installation.
type Object struct {
	Zone dnsname.Name
	Name dnsname.Name // owner name; zero for the whole zone
	Type record.Type  // with Name; 0 for all types
}

// Everything is the whole installation.
var Everything = Object{}

// Zone returns a whole zone, or domain, as an object.
func Zone(name dnsname.Name) Object { return Object{Zone: name} }

// Set returns a record set of a zone as an object.
func Set(zone dnsname.Name, key record.Key) Object {
	return Object{Zone: zone, Name: key.Name, Type: key.Type}
}

func (o Object) String() string {
	switch {
	case o.Zone.IsZero():
		return "all zones"
	case o.Name.IsZero():
		return o.Zone.Unicode()
	case o.Type == 0:
		return fmt.Sprintf("%s in %s", o.Name.Unicode(), o.Zone.Unicode())
	}
	return fmt.Sprintf("%s %s in %s", o.Name.Unicode(), o.Type, o.Zone.Unicode())
}

// Decision is whether something is allowed, and why.
type Decision struct {
	Allowed bool
	By      Grant  // that allows it
	Missing string // what would be needed
}

// May decides whether a caller may do something to an object.
func May(c Caller, a Action, o Object) Decision {
	by, allowed := first(c.Grants, a, o)
	switch {
	case !allowed && c.Token != "":
		return Decision{Missing: fmt.Sprintf("the token %s is not granted the action %q for %s; it has: %s", c.Token, a, o, orNone(c.Grants))}
	case !allowed:
		return Decision{Missing: fmt.Sprintf("%s is not granted the action %q for %s; granted: %s", c.Name, a, o, orNone(c.Grants))}
	}
	if _, within := first(c.Within, a, o); c.TokenOf && !within {
		return Decision{Missing: fmt.Sprintf("the maker of the token %s is not granted the action %q for %s any more; granted: %s", c.Token, a, o, orNone(c.Within))}
	}
	return Decision{Allowed: true, By: by}
}

// Touches reports whether a caller may do something to some part of a zone.
func (c Caller) Touches(a Action, zone dnsname.Name) bool {
	has := func(g Grant) bool {
		g.Names, g.Types = nil, nil
		return g.allows(a, Zone(zone))
	}
	return slices.ContainsFunc(c.Grants, has) && (!c.TokenOf || slices.ContainsFunc(c.Within, has))
}

// Ever reports whether a caller may do something to any object at all.
func (c Caller) Ever(a Action) bool {
	has := func(g Grant) bool { return slices.Contains(g.may(), a) }
	return slices.ContainsFunc(c.Grants, has) && (!c.TokenOf || slices.ContainsFunc(c.Within, has))
}

// Somewhere returns the actions that a caller may do to some object.
func (c Caller) Somewhere() []Action {
	return slices.DeleteFunc(Actions(), func(a Action) bool { return !c.Ever(a) })
}

// Everywhere returns the actions that a caller may do to the whole installation.
func (c Caller) Everywhere() []Action {
	return slices.DeleteFunc(Actions(), func(a Action) bool { return !May(c, a, Everything).Allowed })
}

func first(grants []Grant, a Action, o Object) (Grant, bool) {
	for _, g := range grants {
		if g.allows(a, o) {
			return g, true
		}
	}
	return Grant{}, false
}

func orNone(grants []Grant) string {
	if len(grants) == 0 {
		return "nothing"
	}
	return Text(grants)
}

// Scope is the zones in which a caller may do something: all that each of its lists matches. Without a list it is every zone, with an empty one none.
type Scope [][]Zones

// Where returns the zones as a whole in which a caller may do something.
func Where(c Caller, a Action) (s Scope) {
	lists := [][]Grant{c.Grants}
	if c.TokenOf {
		lists = append(lists, c.Within)
	}
	for _, grants := range lists {
		every, list := false, []Zones{}
		for _, g := range grants {
			if !slices.Contains(g.may(), a) || len(g.Names)+len(g.Types) > 0 {
				continue
			}
			every = every || len(g.Zones) == 0
			list = append(list, g.Zones...)
		}
		if !every {
			s = append(s, list)
		}
	}
	return s
}

// All reports whether the scope is every zone.
func (s Scope) All() bool { return len(s) == 0 }

// Has reports whether a zone is in the scope.
func (s Scope) Has(zone dnsname.Name) bool {
	for _, list := range s {
		if !slices.ContainsFunc(list, func(z Zones) bool { return z.Match(zone) }) {
			return false
		}
	}
	return true
}
