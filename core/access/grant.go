package access

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"beacon/core/record"
)

// Grant allows actions: those of a role, or some by themselves; everywhere, or only in some zones, at some names, for some types. What narrows it is ANDed,
// the entries of each list are ORed.
type Grant struct {
	Role    Role          `json:"role,omitempty"`    // "owner", "operator", "editor" or "viewer"
	Actions []Action      `json:"actions,omitempty"` // instead of a role
	Zones   []Zones       `json:"zones,omitempty"`   // empty: all
	Names   []Names       `json:"names,omitempty"`   // owner names relative to their zone; empty: all
	Types   []record.Type `json:"types,omitempty"`   // empty: all
}

// Full returns the grants of a role everywhere.
func Full(role Role) []Grant { return []Grant{{Role: role}} }

// ParseGrant reads a grant as users write it: a role or actions, then what narrows it.
//
//	editor
//	edit,sync zones=a.example,*.b.example names=_acme-challenge types=TXT
func ParseGrant(text string) (g Grant, err error) {
	fields := strings.Fields(text)
	if len(fields) == 0 {
		return g, errors.New("a grant is empty; write a role, such as viewer, or actions, such as see,check")
	}
	if g.Role, g.Actions, err = parseActions(fields[0]); err != nil {
		return g, err
	}
	for _, field := range fields[1:] {
		key, values, ok := strings.Cut(field, "=")
		if !ok || values == "" {
			return g, fmt.Errorf("%q is no part of a grant; write zones=..., names=... or types=... behind the role", field)
		}
		for value := range strings.SplitSeq(values, ",") {
			switch key {
			case "zones":
				err = add(&g.Zones, value, ParseZones)
			case "names":
				err = add(&g.Names, value, ParseNames)
			case "types":
				err = add(&g.Types, value, record.ParseType)
			default:
				err = fmt.Errorf("%q narrows nothing; a grant is narrowed by zones, names and types", key)
			}
			if err != nil {
				return g, err
			}
		}
	}
	return g, g.Check()
}

func add[T any](list *[]T, text string, parse func(string) (T, error)) error {
	value, err := parse(text)
	*list = append(*list, value)
	return err
}

// Check returns what is wrong with a grant, or nil.
func (g Grant) Check() error {
	if (g.Role == "") == (len(g.Actions) == 0) {
		return errors.New("a grant has either a role or actions")
	}
	if g.Role != "" && g.Role.Actions() == nil {
		return fmt.Errorf("%q is no role; the roles are %s", g.Role, join(Roles()))
	}
	for _, a := range g.Actions {
		if !slices.Contains(Actions(), a) {
			return fmt.Errorf("%q is no action; the actions are %s", a, join(Actions()))
		}
	}
	return nil
}

func (g Grant) String() string {
	var b strings.Builder
	if g.Role != "" {
		b.WriteString(string(g.Role))
	} else {
		b.WriteString(strings.ReplaceAll(join(g.Actions), ", ", ","))
	}
	part(&b, "zones", g.Zones)
	part(&b, "names", g.Names)
	part(&b, "types", g.Types)
	return b.String()
}

func part[T fmt.Stringer](b *strings.Builder, key string, list []T) {
	for i, value := range list {
		if i == 0 {
			b.WriteString(" " + key + "=")
		} else {
			b.WriteString(",")
		}
		b.WriteString(value.String())
	}
}

// Text returns grants as one line.
func Text(grants []Grant) string {
	texts := make([]string, len(grants))
	for i, g := range grants {
		texts[i] = g.String()
	}
	return strings.Join(texts, "; ")
}

// May returns the actions that the grant allows.
func (g Grant) may() []Action {
	if g.Role != "" {
		return g.Role.Actions()
	}
	return g.Actions
}

// Narrow reports whether the grant holds for some zones, names or types only.
func (g Grant) Narrow() bool { return len(g.Zones)+len(g.Names)+len(g.Types) > 0 }

// allows reports whether the grant allows an action on an object.
func (g Grant) allows(a Action, o Object) bool {
	if !slices.Contains(g.may(), a) {
		return false
	}
	if len(g.Zones) > 0 && !slices.ContainsFunc(g.Zones, func(z Zones) bool { return !o.Zone.IsZero() && z.Match(o.Zone) }) {
		return false
	}
	if len(g.Names) > 0 && !slices.ContainsFunc(g.Names, func(n Names) bool { return !o.Name.IsZero() && n.Match(o.Name, o.Zone) }) {
		return false
	}
	return len(g.Types) == 0 || slices.Contains(g.Types, o.Type) // that of no type is in no list
}

// Wider returns the first of some grants that allows more than others do, and what it allows more. It looks for one grant that allows each action of
// another as a whole; where several would do so together only, it is taken for wider.
func Wider(grants, than []Grant) (g Grant, what string, wider bool) {
	for _, g := range grants {
		for _, a := range g.may() {
			if !slices.ContainsFunc(than, func(have Grant) bool { return slices.Contains(have.may(), a) && have.reaches(g) }) {
				return g, string(a), true
			}
		}
	}
	return Grant{}, "", false
}

// reaches reports whether g holds wherever other does.
func (g Grant) reaches(other Grant) bool {
	return within(g.Zones, other.Zones, Zones.covers) && within(g.Names, other.Names, Names.covers) &&
		within(g.Types, other.Types, func(a, b record.Type) bool { return a == b })
}

// within reports whether each of the inner ones is covered by one of the outer ones. An empty list is everything.
func within[T any](outer, inner []T, covers func(T, T) bool) bool {
	if len(outer) == 0 {
		return true
	}
	return len(inner) > 0 && !slices.ContainsFunc(inner, func(in T) bool {
		return !slices.ContainsFunc(outer, func(out T) bool { return covers(out, in) })
	})
}
