package users

import (
	"bytes"
	"context"
	"net/http"

	"beacon/core/access"
	"beacon/store"
	"beacon/wire"
)

// Keyed is a request with an Idempotency-Key, and its answer once there is one.
type Keyed struct {
	Key    string
	Digest [32]byte // of what was asked for
	Status int      // of the answer; 0 while there is none
	Body   string   // of the answer, without secrets
}

func (k Keyed) row(by access.Caller) store.RequestKey {
	return store.RequestKey{Caller: by.Name, Name: k.Key, Digest: k.Digest[:], Status: k.Status, Body: k.Body}
}

// Claim notes that a request is being answered. Where the same user sent it before, Claim returns its answer; the answer's Status is 0
// where the request is new. A key that was used for something else, or whose first request has not ended, is a problem.
func (u *Users) Claim(ctx context.Context, by access.Caller, k Keyed) (Keyed, error) {
	if len(k.Key) > 200 {
		return k, wire.Problemf(wire.Invalid, "The Idempotency-Key has %d octets; 200 are the most.", len(k.Key))
	}
	var before *store.RequestKey
	err := u.logbook.Tx(ctx, func(tx *store.Tx) (err error) {
		before, err = tx.ClaimKey(k.row(by))
		return err
	})
	switch {
	case err != nil || before == nil:
		return k, err
	case !bytes.Equal(before.Digest, k.Digest[:]):
		return k, wire.Problemf(wire.Invalid, "The Idempotency-Key %q was used for another request. Use a new key for each request. Nothing changed.", k.Key)
	case before.Status == 0:
		return k, wire.Problemf(wire.Blocked, "The first request with the Idempotency-Key %q has not ended, or was broken off. Look whether it was carried out before you send it with a new key.", k.Key)
	}
	k.Status, k.Body = before.Status, before.Body
	return k, nil
}

// Answered keeps the answer to a claimed request. One that failed is forgotten: it may be sent again with the same key.
func (u *Users) Answered(ctx context.Context, by access.Caller, k Keyed) error {
	ctx = context.WithoutCancel(ctx) // the client may have gone, which is what keys are for
	return u.logbook.Tx(ctx, func(tx *store.Tx) error {
		if k.Status >= http.StatusMultipleChoices {
			return tx.DropKey(k.row(by))
		}
		return tx.KeepAnswer(k.row(by))
	})
}
