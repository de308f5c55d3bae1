package api

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"strings"

	"beacon/wire"
)

// match returns the present state that If-Match of a request is held against.
type match func(*call) (any, error)

// tagOf returns the ETag of an answer: it changes with anything in it.
func tagOf(out any) string {
	text, err := json.Marshal(withoutNulls(out))
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:8])
}

// matches returns a problem if the request has an If-Match that is not the ETag of the present state (RFC 9110 section 13.1.1).
func (k *call) matches(present match) error {
	if present == nil || k.GetHeader("If-Match") == "" {
		return nil
	}
	state, err := present(k)
	if err != nil {
		return err
	}
	return k.matchesState(state)
}

// matchesState is matches for a state that is at hand.
func (k *call) matchesState(state any) error {
	wanted := k.GetHeader("If-Match")
	if wanted == "" {
		return nil
	}
	tag := tagOf(state)
	for _, each := range strings.Split(wanted, ",") {
		if each = strings.TrimSpace(each); each == "*" || strings.Trim(each, `"`) == tag {
			return nil
		}
	}
	return wire.Problemf(wire.Stale, "It has changed since you read it. Read it again, and repeat the change with its ETag. Nothing changed.")
}
