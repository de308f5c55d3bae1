package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"beacon/reach"
	"beacon/wire"
)

// problem is what the service answers when something is wrong (RFC 9457).
type problem wire.ProblemDocument

func (p *problem) Error() string {
	lines := []string{strings.Join(wrap(p.Detail, width-len("beacon: ")), "\n  ")}
	for _, f := range p.Faults {
		lines = append(lines, "  "+f.Error())
	}
	for _, f := range p.Findings {
		lines = append(lines, "  "+f.Subject+": "+f.Message, "    "+f.Remedy)
	}
	return strings.Join(lines, "\n")
}

// unreachable says that the service did not answer at all.
type unreachable struct{ error }

// door lets the commands reach the service, wherever it is.
var door, _ = reach.New([]string{"0.0.0.0/0", "::/0"})

// call makes one request to the service and decodes its answer into out, which may be nil.
func (a *app) call(method, path string, body, out any) error {
	return a.callIf(method, path, "", body, out)
}

// callIf is call on condition that what it is about still has the tag that it was looked at with.
func (a *app) callIf(method, path, tag string, body, out any) error {
	var sent io.Reader
	if body != nil {
		text, err := json.Marshal(body)
		if err != nil {
			return err
		}
		sent = bytes.NewReader(text)
	}
	req, err := http.NewRequest(method, strings.TrimSuffix(a.address, "/")+"/api/v1"+path, sent)
	if err != nil {
		return misuse("--address %q is no address; write it like http://127.0.0.1:8053", a.address)
	}
	if tag != "" {
		req.Header.Set("If-Match", `"`+tag+`"`)
	}
	if token := a.token(); token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	defer a.sayWaiting()()
	res, err := door.HTTPClient(2 * time.Minute).Do(req)
	if err != nil {
		return unreachable{fmt.Errorf("the service at %s does not answer; is it running (beacon serve), and is --address right?", a.address)}
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err != nil {
		return unreachable{fmt.Errorf("the service at %s broke off its answer: %w", a.address, err)}
	}
	if res.StatusCode >= 400 {
		p := &problem{Status: res.StatusCode}
		if json.Unmarshal(text, p) != nil || p.Detail == "" {
			p.Detail = fmt.Sprintf("%s answered %s, not as Agile Beacon does; is --address right?", a.address, res.Status)
		}
		return p
	}
	if out == nil || len(text) == 0 {
		return nil
	}
	if err := json.Unmarshal(text, out); err != nil {
		return fmt.Errorf("the answer of %s cannot be read: %w", a.address, err)
	}
	return nil
}

// sayWaiting tells somebody at a terminal, after a second, that an answer is waited for. The function that it gives
// ends that.
func (a *app) sayWaiting() (end func()) {
	if !isTerminal(a.err) {
		return func() {}
	}
	shown := make(chan bool, 1)
	shown <- false
	timer := time.AfterFunc(time.Second, func() {
		<-shown
		fmt.Fprint(a.err, "\rwaiting for the service to answer ...")
		shown <- true
	})
	return func() {
		timer.Stop()
		if <-shown {
			a.clearLine()
		}
	}
}

// page is one page of a list.
type page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next"`
}

// all reads a list to its end.
func all[T any](a *app, path string) ([]T, error) {
	items := []T{}
	join := "?"
	if strings.Contains(path, "?") {
		join = "&"
	}
	for cursor := ""; ; {
		var p wire.Page[T]
		at := path
		if cursor != "" {
			at += join + "cursor=" + cursor
		}
		if err := a.call(http.MethodGet, at, nil, &p); err != nil {
			return nil, err
		}
		items = append(items, p.Items...)
		if cursor = p.Next; cursor == "" {
			return items, nil
		}
	}
}

// sessions is the file that keeps sign-ins, by address of the service.
func sessionsFile() (string, error) {
	if path := os.Getenv("BEACON_SESSIONS"); path != "" {
		return path, nil
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "agile-beacon", "sessions.json"), nil
}

func readSessions() map[string]string {
	sessions := map[string]string{}
	if path, err := sessionsFile(); err == nil {
		if text, err := os.ReadFile(path); err == nil {
			_ = json.Unmarshal(text, &sessions)
		}
	}
	return sessions
}

func (a *app) token() string {
	if token := os.Getenv("BEACON_TOKEN"); token != "" {
		return token
	}
	return readSessions()[a.address]
}

// keepToken remembers a sign-in; an empty token forgets it.
func (a *app) keepToken(token string) error {
	path, err := sessionsFile()
	if err != nil {
		return err
	}
	sessions := readSessions()
	if sessions[a.address] = token; token == "" {
		delete(sessions, a.address)
	}
	text, err := json.Marshal(sessions)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(path), 0o700)
	}
	if err == nil {
		err = os.WriteFile(path, text, 0o600)
	}
	return err
}
