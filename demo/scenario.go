package demo

import (
	"bytes"
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"time"
)

// The scenario's files, as they also stand beside this one.
var (
	//go:embed saltmarsh-ferries.zone
	zoneFile []byte
	//go:embed saltmarsh-ferries.beacon.yaml
	definitionFile []byte
	//go:embed new-web-host.beacon.yaml
	newWebHostFile []byte
	//go:embed piers.beacon.yaml
	piersFile []byte
)

// Domain is the domain that the scenario is about.
const Domain = "saltmarsh-ferries.example"

// send makes one request and gives headers and body; a status of 400 or more is an error.
func (s *Stage) send(ctx context.Context, method, url string, body []byte, headers ...string) (http.Header, []byte, error) {
	req, err := http.NewRequestWithContext(ctx, method, url, bytes.NewReader(body))
	if err != nil {
		return nil, nil, err
	}
	for i := 0; i < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	res, err := s.http.Do(req)
	if err != nil {
		return nil, nil, err
	}
	defer res.Body.Close()
	text, err := io.ReadAll(io.LimitReader(res.Body, 16<<20))
	if err == nil && res.StatusCode >= 400 {
		err = statusError{res.StatusCode, fmt.Sprintf("%s %s: %s: %s", method, url, res.Status, bytes.TrimSpace(text))}
	}
	return res.Header, text, err
}

// statusError is an answer with a status of 400 or more.
type statusError struct {
	status int
	text   string
}

func (e statusError) Error() string { return e.text }

// there reports whether an error says that something is there already.
func there(err error) bool {
	var failed statusError
	return errors.As(err, &failed) && failed.status == http.StatusConflict
}

func (s *Stage) get(ctx context.Context, url string) ([]byte, error) {
	_, text, err := s.send(ctx, http.MethodGet, url, nil)
	return text, err
}

// basicSteps make the scenario: the domain at the registrar and the old provider, the accounts at the service.
func (s *Stage) basicSteps() []step {
	return []step{
		{"old-provider", func(ctx context.Context) error { return s.Host(ctx, Domain, zoneFile) }},
		{"web-hosts", s.openSites},
		{"accounts", s.connectAccounts},
		{"files", func(context.Context) error {
			for name, text := range map[string][]byte{"saltmarsh-ferries.zone": zoneFile, "saltmarsh-ferries.beacon.yaml": definitionFile, "new-web-host.beacon.yaml": newWebHostFile} {
				if err := s.keep(name, text); err != nil {
					return err
				}
			}
			return nil
		}},
	}
}

// certificateTries is how often a web host asks for a certificate.
const certificateTries = 4

// openSites puts the booking site at the old web host, with certificates, and makes it ready at the new one, which asks
// for its own as soon as names lead there.
func (s *Stage) openSites(ctx context.Context) error {
	for _, name := range []string{Domain, "www." + Domain} {
		for host, auto := range map[string]bool{"bittern": false, "avocet": true} {
			if err := s.Control(ctx, "/sites", map[string]any{"host": host, "name": name, "auto": auto}); err != nil {
				return err
			}
		}
		err := s.Control(ctx, "/certificates", map[string]any{"host": "bittern", "name": name, "over": "http"})
		for try := 1; err != nil && try < certificateTries && ctx.Err() == nil; try++ { // as a web host asks again where its name was not shown
			time.Sleep(time.Duration(try) * 300 * time.Millisecond)
			err = s.Control(ctx, "/certificates", map[string]any{"host": "bittern", "name": name, "over": "http"})
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Host makes a zone at the old provider, Plover, and registers its domain with Plover's nameservers.
func (s *Stage) Host(ctx context.Context, name string, zone []byte) error {
	key := []string{"Authorization", "Plover plover-practice-key"}
	url := s.Site("plover") + "/dns/zones/" + name + "."
	if _, _, err := s.send(ctx, http.MethodPut, url, nil, key...); err != nil && !there(err) {
		return err
	}
	hosts, err := s.nameservers(ctx, "plover", name)
	if err != nil {
		return err
	}
	h, _, err := s.send(ctx, http.MethodGet, url+"/file", nil, key...)
	if err != nil {
		return err
	}
	if _, _, err := s.send(ctx, http.MethodPut, url+"/file", zone, append(key, "If-Match", h.Get("ETag"))...); err != nil {
		return err
	}
	return s.Control(ctx, "/domains", map[string]any{"domain": name, "hosts": hosts})
}

// ByHand changes a record at a provider's own site, as its operator would.
func (s *Stage) ByHand(ctx context.Context, provider, zone, line string) error {
	form := url.Values{"zone": {zone + "."}, "line": {line}}
	_, _, err := s.send(ctx, http.MethodPost, s.Site(provider)+"/operator", []byte(form.Encode()), "Content-Type", "application/x-www-form-urlencoded")
	return err
}

// Control sends a request to the practice world through its control address.
func (s *Stage) Control(ctx context.Context, path string, body any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	_, _, err = s.send(ctx, http.MethodPost, s.Site("control")+path, text)
	return err
}

// SignIn returns a token of the first user.
func (s *Stage) SignIn(ctx context.Context) (string, error) {
	return s.signIn(ctx, "admin", s.Password)
}

func (s *Stage) signIn(ctx context.Context, user, password string) (string, error) {
	if name, err := os.ReadFile(s.path("name-" + user)); err == nil {
		user = string(name)
	}
	body, err := json.Marshal(map[string]string{"name": user, "password": password})
	if err != nil {
		return "", err
	}
	_, text, err := s.send(ctx, http.MethodPost, s.Address()+"/api/v1/sessions", body, "Content-Type", "application/json")
	if err != nil {
		return "", err
	}
	var got struct{ Token string }
	err = json.Unmarshal(text, &got)
	return got.Token, err
}

func (s *Stage) connectAccounts(ctx context.Context) error {
	token, err := s.SignIn(ctx)
	if err != nil {
		return err
	}
	for _, a := range []map[string]string{
		{"name": "heron-main", "role": "provider", "kind": "heron", "address": s.Site("heron"), "secret": "heron-practice-key"},
		{"name": "curlew-ops", "role": "provider", "kind": "curlew", "address": s.Site("curlew"), "secret": "desk:curlew-practice-key"},
		{"name": "plover-old", "role": "provider", "kind": "plover", "address": s.Site("plover"), "secret": "plover-practice-key"},
		{"name": "gannet-main", "role": "registrar", "kind": "gannet", "address": s.Site("gannet"), "secret": "gannet-practice-key"},
	} {
		body, err := json.Marshal(a)
		if err != nil {
			return err
		}
		if _, _, err := s.send(ctx, http.MethodPost, s.Address()+"/api/v1/accounts", body, "Authorization", "Bearer "+token); err != nil && !there(err) {
			return err
		}
	}
	return nil
}
