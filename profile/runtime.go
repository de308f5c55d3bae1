package profile

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"beacon/outcall"
	"beacon/profile/jq"
)

// Runtime is what drivers of profiles share: where expressions run, and the sessions of accounts. It is safe for concurrent use.
type Runtime struct {
	Pool *jq.Pool
	Now  func() time.Time // for dates of signatures and the ends of tokens; nil for the machine's clock

	mu    sync.Mutex
	lives map[[32]byte]*live
}

// NewRuntime returns a runtime whose expressions run in a pool.
func NewRuntime(pool *jq.Pool) *Runtime { return &Runtime{Pool: pool, lives: map[[32]byte]*live{}} }

// liveOf returns the session of an account with a credential, so that another credential has another session.
func (r *Runtime) liveOf(profile, base, account, secret string) *live {
	key := sha256.Sum256([]byte(strings.Join([]string{profile, base, account, secret}, "\x00")))
	r.mu.Lock()
	defer r.mu.Unlock()
	l := r.lives[key]
	if l == nil {
		l = &live{lock: make(chan struct{}, 1), turn: make(chan struct{}, 1)}
		r.lives[key] = l
	}
	return l
}

// closing bounds the giving back of tokens, real time.
const closing = 5 * time.Second

// Close gives back the tokens of all sessions, where the interfaces have a request for that.
func (r *Runtime) Close() {
	ctx, cancel := context.WithTimeout(context.Background(), closing)
	defer cancel()
	r.mu.Lock()
	defer r.mu.Unlock()
	var group sync.WaitGroup
	for _, l := range r.lives {
		group.Go(func() {
			select {
			case l.lock <- struct{}{}:
				defer func() { <-l.lock }()
			case <-ctx.Done():
				return
			}
			if token := l.token; token != "" && l.end != nil {
				l.token = ""
				l.end(ctx, token)
			}
		})
	}
	group.Wait()
}

// newCaller makes what the drivers of an account make requests with.
func newCaller(p *Profile, runtime *Runtime, client outcall.Client) *caller {
	d := &caller{profile: p, runtime: runtime}
	d.secrets, d.problem = p.credential.readSecrets(client.Secret)
	d.live = runtime.liveOf(p.Name, client.Base, client.Account, client.Secret)
	client.Secrets = d.secrets.forms()
	for _, s := range p.credential.sends {
		if s.in == "header" {
			client.Header = s.name // which is blanked whole wherever a request is shown
		}
	}
	d.client = &client
	if s := p.session; s != nil && s.close != nil {
		d.live.end = d.giveBack
	}
	if d.problem == nil {
		d.problem = d.certify()
	}
	for _, h := range p.hosts {
		if d.problem == nil && client.Hosts[h.Name] == "" {
			d.problem = fmt.Errorf("the account has to name the address %q", h.Name)
		}
	}
	return d
}

// baseOf returns the account's own address, or one of its further ones.
func (d *caller) baseOf(host string) string {
	if host == "" {
		return d.client.Base
	}
	return strings.TrimSuffix(d.client.Hosts[host], "/")
}

// giveBack ends a session; one that is not there any more has ended.
func (d *caller) giveBack(ctx context.Context, token string) {
	h := held{secrets: secrets{tokenPart: token}, sends: d.profile.session.sends, token: token}
	for name, text := range d.secrets {
		h.secrets[name] = text
	}
	within, cancel := context.WithTimeout(context.WithoutCancel(ctx), closing)
	defer cancel()
	_, _ = d.attempt(within, d.profile.session.close, question{}, vars{}, h) // nothing depends on it, and the logbook has it
}

// clientTLS names the parts that are a client certificate, its key, and the authority that the other side's certificate is of, all in PEM.
type clientTLS struct{ certificate, key, authority string }

// certify has the client show its certificate and trust the account's own authority, where the profile says so.
func (d *caller) certify() error {
	for _, way := range d.profile.credential.sends {
		if way.tls == nil {
			continue
		}
		if d.live.http == nil {
			config := &tls.Config{MinVersion: tls.VersionTLS12}
			if way.tls.certificate != "" {
				pair, err := tls.X509KeyPair([]byte(d.secrets[way.tls.certificate]), []byte(d.secrets[way.tls.key]))
				if err != nil {
					return errors.New("the client certificate and its key do not fit, or are not in PEM form")
				}
				config.Certificates = []tls.Certificate{pair}
			}
			if way.tls.authority != "" {
				config.RootCAs = x509.NewCertPool()
				if !config.RootCAs.AppendCertsFromPEM([]byte(d.secrets[way.tls.authority])) {
					return errors.New("the authority is no certificate in PEM form")
				}
			}
			transport, ok := d.client.HTTP.Transport.(*http.Transport)
			if !ok {
				return errors.New("this client cannot show certificates")
			}
			transport = transport.Clone()
			transport.TLSClientConfig = config
			with := *d.client.HTTP
			with.Transport = transport
			d.live.http = &with
		}
		d.client.HTTP = d.live.http
	}
	return nil
}

func (d *caller) pool() *jq.Pool { return d.runtime.Pool }

func (d *caller) now() time.Time {
	if d.runtime.Now != nil {
		return d.runtime.Now()
	}
	return time.Now()
}

// tripper makes the requests of a library through a client, so that they are bounded, observed and shown like all others.
type tripper struct {
	client *outcall.Client
	failed error // the last request's
}

func (t *tripper) RoundTrip(req *http.Request) (*http.Response, error) {
	r := outcall.Request{Method: req.Method, Path: strings.TrimPrefix(req.URL.String(), t.client.Base), Headers: map[string]string{"Accept": "application/json"}}
	if req.Body != nil {
		text, err := io.ReadAll(req.Body)
		_ = req.Body.Close()
		if err != nil {
			return nil, err
		}
		r.Text, r.Type = string(text), req.Header.Get("Content-Type")
	}
	if value := req.Header.Get("Authorization"); value != "" {
		r.Headers["Authorization"] = value
	}
	res, err := t.client.Do(req.Context(), r)
	t.failed = err
	if err != nil && res.Status == 0 {
		return nil, err
	}
	return &http.Response{StatusCode: res.Status, Status: http.StatusText(res.Status), Header: res.Header, Body: io.NopCloser(bytes.NewReader(res.Body)), Request: req, Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1}, nil
}
