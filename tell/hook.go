package tell

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"time"
)

// Hook posts word to a program, signed, so that it knows whom it is from, and when it was sent.
type Hook struct {
	Client *http.Client
	URL    string
	Secret []byte // shared with the program
}

// The headers of a delivery.
const (
	HeaderID        = "Beacon-Delivery"  // the same for each attempt: who has seen it need not act again
	HeaderTime      = "Beacon-Time"      // seconds since 1970, wall time; programs refuse what is old
	HeaderSignature = "Beacon-Signature" // base64 of HMAC-SHA256 by the secret over time, newline, body
)

// Sign returns the signature of a body that is sent at a time.
func Sign(secret []byte, at string, body []byte) string {
	mac := hmac.New(sha256.New, secret)
	mac.Write([]byte(at + "\n"))
	mac.Write(body)
	return base64.StdEncoding.EncodeToString(mac.Sum(nil))
}

// Send makes one attempt. An answer of 2xx means that it has arrived.
func (h Hook) Send(ctx context.Context, w Word) error {
	body, err := json.Marshal(w)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, h.URL, bytes.NewReader(body))
	if err != nil {
		return err
	}
	at := strconv.FormatInt(time.Now().Unix(), 10)
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set(HeaderID, w.ID)
	req.Header.Set(HeaderTime, at)
	req.Header.Set(HeaderSignature, Sign(h.Secret, at, body))
	res, err := h.Client.Do(req)
	if err != nil {
		return fmt.Errorf("posting to the webhook: %w", err)
	}
	defer res.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(res.Body, 64<<10))
	if res.StatusCode < 200 || res.StatusCode > 299 {
		return fmt.Errorf("the webhook answers with the status %d", res.StatusCode)
	}
	return nil
}
