package resolve

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"time"
)

// askHTTPS puts a question over HTTPS (RFC 8484), with the id 0 so that what lies between may keep the answer for others.
func (c *Client) askHTTPS(ctx context.Context, url string, q Question) (Reply, error) {
	var asked packed
	if err := asked.pack(q, 0, true, nil, nil, false); err != nil {
		return Reply{}, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, url, bytes.NewReader(asked.octets))
	if err != nil {
		return Reply{}, err
	}
	req.Header.Set("Content-Type", "application/dns-message")
	req.Header.Set("Accept", "application/dns-message")
	began := time.Now()
	res, err := c.http.Do(req)
	if err != nil {
		return Reply{}, plainly(err)
	}
	defer res.Body.Close()
	octets, err := io.ReadAll(io.LimitReader(res.Body, 65536))
	switch {
	case err != nil:
		return Reply{}, plainly(err)
	case res.StatusCode != http.StatusOK:
		return Reply{}, fmt.Errorf("it answers with the HTTP status %d", res.StatusCode)
	case res.Header.Get("Content-Type") != "application/dns-message":
		return Reply{}, fmt.Errorf("it answers with %q, which is no DNS message", res.Header.Get("Content-Type"))
	}
	if fits, _ := asked.answers(octets); !fits {
		return Reply{}, fmt.Errorf("its answer is to another question")
	}
	m, err := read(octets)
	if err != nil {
		return Reply{}, fmt.Errorf("its answer cannot be read: %w", err)
	}
	return Reply{Msg: m, Over: OverHTTPS, Took: time.Since(began), Tries: 1}, nil
}
