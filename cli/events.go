package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"beacon/cli/screen"
	"beacon/wire"
)

// reconnectPause is how long to wait before a broken stream is taken up again, real time.
const reconnectPause = 500 * time.Millisecond

// followEvents hands over events as they happen, those that were missed while the connection was broken included, until ctx
// ends. The first connection must succeed; later ones are tried again and again. opened is told of each.
func (a *app) followEvents(ctx context.Context, requests bool, opened func(), take func(wire.Entry)) error {
	last := ""
	for first := true; ; first = false {
		err := a.readEvents(ctx, requests, &last, opened, take)
		switch {
		case ctx.Err() != nil:
			return nil
		case err != nil && first:
			return err
		}
		if isTerminal(a.err) {
			fmt.Fprint(a.err, screen.Rewrite, "the connection is broken; trying again ...")
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(reconnectPause):
		}
	}
}

// readEvents reads one connection to its end. last is the number of the last event that was taken.
func (a *app) readEvents(ctx context.Context, requests bool, last *string, opened func(), take func(wire.Entry)) error {
	if err := a.secured(); err != nil {
		return err
	}
	address := fmt.Sprintf("%s/api/v1/events?requests=%t", strings.TrimSuffix(a.address, "/"), requests)
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return misuse("--address %q is no address; write it like http://127.0.0.1:8053", a.address)
	}
	req.Header.Set("Authorization", "Bearer "+a.token())
	if *last != "" {
		req.Header.Set("Last-Event-ID", *last)
	}
	res, err := door.HTTPClient(0).Do(req)
	if err != nil {
		return unreachable{fmt.Errorf("the service at %s does not answer; is it running (beacon serve), and is --address right?", a.address)}
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		p := &problem{Status: res.StatusCode, Detail: a.address + " answered " + res.Status}
		text, _ := io.ReadAll(io.LimitReader(res.Body, 1<<20))
		_ = json.Unmarshal(text, p)
		return p
	}
	a.clearLine()
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		text, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			if begins, ok := strings.CutPrefix(lines.Text(), ": begins after "); ok {
				*last = begins
				opened()
			}
			continue
		}
		var e wire.Entry
		if err := json.Unmarshal([]byte(text), &e); err != nil || e.Seq == nil {
			return fmt.Errorf("an event of %s cannot be read: %q", a.address, text)
		}
		*last = strconv.FormatUint(*e.Seq, 10)
		take(e)
	}
	return lines.Err()
}
