package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"beacon/cli/meter"
	"beacon/core/dnsname"
	"beacon/core/special"
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

// How long the service may take for an answer, and for taking in a zone file, which may be large.
const (
	longest       = 2 * time.Minute
	longestImport = 10 * time.Minute
)

// door lets the commands reach the service, wherever it is.
var door = func() *reach.Door {
	d, _ := reach.New([]string{"0.0.0.0/0", "::/0"})
	return d.Local()
}()

// ask makes a call. The parameters of its path are names, numbers or texts, in their order; out may be nil.
func ask[In, Out any](a *app, c wire.Call[In, Out], in In, out *Out, at ...any) error {
	return askIf(a, c, "", in, out, at...)
}

// askIf is ask on condition that what it is about still has the tag that it was looked at with.
func askIf[In, Out any](a *app, c wire.Call[In, Out], tag string, in In, out *Out, at ...any) error {
	path := pathOf(c.Path, at)
	if query := c.Query(); query != "" {
		path += "?" + query
	}
	var body any = in
	if _, none := body.(wire.None); none {
		body = nil
	}
	if out == nil { // a nil *Out in an any is not nil
		return a.send(c.Method, path, tag, body, nil)
	}
	var fresh Out // what an answer leaves out must not stay from the one before
	if err := a.send(c.Method, path, tag, body, &fresh); err != nil {
		return err
	}
	*out = fresh
	return nil
}

// secured refuses an address to which passwords and tokens would go in plain text, unless the user wants that.
func (a *app) secured() error {
	if host := special.PlainText(a.address, nil); host != "" && !a.plain {
		return misuse("%s is another machine, and http:// sends passwords and tokens in plain text. Nothing was sent. Use https://, or repeat with --plain-text", host)
	}
	return nil
}

// pathOf puts parameters into a path.
func pathOf(pattern string, at []any) string {
	parts := strings.Split(pattern, "/")
	for i, part := range parts {
		if !strings.HasPrefix(part, ":") {
			continue
		}
		if name, ok := at[0].(dnsname.Name); ok {
			parts[i] = url.PathEscape(plain(name))
		} else {
			parts[i] = url.PathEscape(fmt.Sprint(at[0]))
		}
		at = at[1:]
	}
	return strings.Join(parts, "/")
}

// rawZoneFile is a body that is a zone file (RFC 4027).
type rawZoneFile string

// send makes one request to the service and decodes its answer into out, which may be nil.
func (a *app) send(method, path, tag string, body, out any) error {
	if err := a.secured(); err != nil {
		return err
	}
	var sent io.Reader
	kind, limit := "", longest
	if text, ok := body.(rawZoneFile); ok {
		sent, kind, limit = strings.NewReader(string(text)), "text/dns", longestImport
	} else if body != nil {
		text, err := json.Marshal(body)
		if err != nil {
			return err
		}
		sent, kind = bytes.NewReader(text), "application/json"
	}
	req, err := http.NewRequest(method, strings.TrimSuffix(a.address, "/")+"/api/v1"+path, sent)
	if err != nil {
		return misuse("--address %q is no address; write it like http://127.0.0.1:8053", a.address)
	}
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	if tag != "" {
		req.Header.Set("If-Match", `"`+tag+`"`)
	}
	if token := a.token(); token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	var res *http.Response
	err = meter.New(a.err, "waiting for the service").While(func() (err error) {
		res, err = door.HTTPClient(limit).Do(req)
		return err
	})
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

// all reads a list to its end.
func all[T any](a *app, c wire.List[T], at ...any) ([]T, error) {
	items := []T{}
	for {
		var p wire.Page[T]
		if err := ask(a, c, wire.None{}, &p, at...); err != nil {
			return nil, err
		}
		items = append(items, p.Items...)
		if p.Next == "" {
			return items, nil
		}
		c = c.With("cursor", p.Next)
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
