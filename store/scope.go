package store

import (
	"strings"

	"beacon/core/access"
)

// Narrow makes lists of this transaction hold only what lies in some zones, for a caller that may see no others.
func (t *Tx) Narrow(to access.Scope) { t.scope = to }

// inZones returns the condition that the key of a zone, in a column, lies in the scope of the transaction.
func (t *Tx) inZones(column string) (string, []any) {
	return scopeText(t.scope, func(z access.Zones) (string, []any) {
		key := octets(z.Name.Key())
		if z.Below { // the keys below a name begin with its own
			return column + " > ? AND LEFT(" + column + ", ?) = ?", []any{key, len(key), key}
		}
		return column + " = ?", []any{key}
	})
}

// aboutZones returns the condition that a name as text with its final dot, in a column, is that of a zone in the scope of the transaction.
func (t *Tx) aboutZones(column string) (string, []any) {
	return scopeText(t.scope, func(z access.Zones) (string, []any) {
		name := z.Name.String()
		if z.Below {
			return "RIGHT(" + column + ", ?) = ?", []any{len(name) + 1, "." + name}
		}
		return column + " = ?", []any{name}
	})
}

func scopeText(scope access.Scope, one func(access.Zones) (string, []any)) (string, []any) {
	all := []string{"TRUE"}
	var args []any
	for _, list := range scope {
		some := []string{"FALSE"}
		for _, z := range list {
			text, more := one(z)
			some, args = append(some, "("+text+")"), append(args, more...)
		}
		all = append(all, "("+strings.Join(some, " OR ")+")")
	}
	return strings.Join(all, " AND "), args
}
