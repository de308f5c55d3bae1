package api

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"net/http"

	"beacon/service/users"
	"beacon/wire"
)

// keyHeader names a request, so that a client that lost the answer can send it again.
const keyHeader = "Idempotency-Key"

// keyed reports whether a route honours an Idempotency-Key: those that create something do.
func (r route) keyed() bool {
	return r.method == http.MethodPost && r.effect == writes && r.needs != anybody && r.stream == nil
}

// once carries a request out unless it was carried out before: then its first answer comes again. Requests without a key are carried
// out each time.
func (a *api) once(k *call, r route) (out any, err error) {
	key := k.GetHeader(keyHeader)
	if key == "" || !r.keyed() {
		return r.handle(k)
	}
	body, err := io.ReadAll(k.sent())
	if err != nil {
		return nil, unread(err)
	}
	k.Request.Body = io.NopCloser(bytes.NewReader(body))
	request := users.Keyed{Key: key, Digest: sha256.Sum256(fmt.Appendf(nil, "%s %s\n%s", k.Request.Method, k.Request.URL.RequestURI(), body))}
	first, err := k.svc.Users.Claim(k.Request.Context(), k.caller, request)
	if err != nil {
		return nil, err
	}
	if first.Status != 0 {
		k.Header("Idempotent-Replayed", "true")
		if r.secret {
			return nil, wire.Problemf(wire.Blocked, "This request was carried out before. Its answer had a secret, which is shown once. Create a new one if it was lost.")
		}
		return json.RawMessage(first.Body), nil
	}
	out, err = r.handle(k)
	request.Status = http.StatusInternalServerError
	if err == nil {
		request.Status = r.status
		if !r.secret && out != nil {
			text, err := json.Marshal(withoutNulls(out))
			if err != nil {
				return nil, err
			}
			request.Body = string(text)
		}
	}
	if kept := k.svc.Users.Answered(k.Request.Context(), k.caller, request); kept != nil && err == nil {
		a.log.Error("the answer to a request with a key was not kept", "path", k.Request.URL.Path, "error", kept)
	}
	return out, err
}
