package reporter

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"beacon/core/reporter"
)

// timeout bounds one request, real time.
const timeout = 20 * time.Second

// overFamily names the network of a family.
func overFamily(four bool) string {
	if four {
		return "tcp4"
	}
	return "tcp6"
}

// client returns the client that asks over a network: tcp, tcp4 or tcp6.
func (r *Reporter) client(network string) *http.Client {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.clients == nil {
		r.clients = map[string]*http.Client{}
	}
	if r.clients[network] == nil {
		r.clients[network] = r.Door.HTTPClientOver(network, timeout)
	}
	return r.clients[network]
}

// askWeb asks a service that answers with the address that it is asked from.
func (r *Reporter) askWeb(ctx context.Context, address string, four bool) (netip.Addr, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return netip.Addr{}, err
	}
	req.Header.Set("Accept", "text/plain")
	res, err := r.client(overFamily(four)).Do(req)
	if err != nil {
		return netip.Addr{}, fmt.Errorf("%s does not answer", address)
	}
	defer res.Body.Close()
	text, err := io.ReadAll(io.LimitReader(res.Body, 100))
	if err != nil || res.StatusCode != http.StatusOK {
		return netip.Addr{}, fmt.Errorf("%s answered %s", address, res.Status)
	}
	a, err := netip.ParseAddr(strings.TrimSpace(string(text)))
	if err != nil || a.Unmap().Is4() != four {
		return netip.Addr{}, fmt.Errorf("%s answered with no address of the family: %.60q", address, text)
	}
	return a.Unmap(), nil
}

// Answer is what the service made of a report.
type Answer struct {
	Line    string // as it came
	Outcome reporter.Outcome
	Wait    time.Duration // that it asks for; 0 for nothing
}

// send makes one report. said are its parameters; network is over what it goes.
func (r *Reporter) send(ctx context.Context, network string, said url.Values) Answer {
	token, err := os.ReadFile(r.TokenFile) // each time: it may be renewed
	if err != nil {
		return Answer{Line: "the token cannot be read: " + err.Error(), Outcome: reporter.Lost}
	}
	if r.Host != "" {
		said.Set("host", r.Host)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, strings.TrimSuffix(r.Address, "/")+"/api/v1/report?"+said.Encode(), nil)
	if err != nil {
		return Answer{Line: fmt.Sprintf("%q is no address of a service", r.Address), Outcome: reporter.Lost}
	}
	req.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
	res, err := r.client(network).Do(req)
	if err != nil {
		return Answer{Line: fmt.Sprintf("the service at %s does not answer", r.Address), Outcome: reporter.Lost}
	}
	defer res.Body.Close()
	text, err := io.ReadAll(io.LimitReader(res.Body, 1000))
	a := Answer{Line: strings.TrimSpace(string(text))}
	if seconds, err := strconv.Atoi(res.Header.Get("Retry-After")); err == nil && res.StatusCode != http.StatusOK {
		a.Wait = min(time.Duration(seconds)*time.Second, time.Hour)
	}
	switch {
	case err != nil:
		return Answer{Line: fmt.Sprintf("the service at %s broke off its answer", r.Address), Outcome: reporter.Lost}
	case strings.HasPrefix(a.Line, "refused"), strings.HasPrefix(a.Line, "unreachable"):
		a.Outcome = reporter.Refused
	case res.StatusCode != http.StatusOK:
		return Answer{Line: fmt.Sprintf("the service at %s answered %s", r.Address, res.Status), Outcome: reporter.Lost, Wait: a.Wait}
	}
	return a
}
