// Package visit asks web hosts for front pages: every address of a site by itself, over http and https, as a browser
// would ask. It judges nothing.
package visit

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"beacon/core/arrival"
	"beacon/core/dnsname"
	"beacon/reach"
)

// Detour returns where an address is reached that cannot be reached as such from here: a host behind the same router, say.
type Detour struct {
	Address netip.Addr     `yaml:"address"`
	HTTP    netip.AddrPort `yaml:"http"`
	HTTPS   netip.AddrPort `yaml:"https"`
}

// Visitor asks web hosts. It is safe for concurrent use.
type Visitor struct {
	Door     *reach.Door
	Trusted  *x509.CertPool // authorities that are trusted; nil for the system's
	Detours  []Detour
	Now      func() time.Time // simulated time
	Patience time.Duration    // for one contact; 0 for 5 s
}

// Target is a site and the addresses to ask for it.
type Target struct {
	Name      dnsname.Name
	Addresses []netip.Addr
}

// atOnce is how many contacts are made at a time for one domain.
const atOnce = 16

// Visit asks every address of every site over http and https. It always gives a contact for each; what went wrong is said in it.
func (v *Visitor) Visit(ctx context.Context, targets []Target) []arrival.Contact {
	var list []arrival.Contact
	for _, t := range targets {
		for _, a := range t.Addresses {
			for _, secure := range []bool{false, true} {
				list = append(list, arrival.Contact{Name: t.Name, Address: a, Secure: secure})
			}
		}
	}
	var group sync.WaitGroup
	turns := make(chan struct{}, atOnce)
	for i := range list {
		turns <- struct{}{}
		group.Go(func() {
			defer func() { <-turns }()
			v.contact(ctx, &list[i])
		})
	}
	group.Wait()
	return list
}

// at is where a contact is made.
func (v *Visitor) at(a netip.Addr, secure bool) netip.AddrPort {
	for _, d := range v.Detours {
		if d.Address == a && secure {
			return d.HTTPS
		} else if d.Address == a {
			return d.HTTP
		}
	}
	if secure {
		return netip.AddrPortFrom(a, 443)
	}
	return netip.AddrPortFrom(a, 80)
}

// notTLS says that a connection stood and no secure one came of it.
type notTLS struct{ error }

func (v *Visitor) contact(ctx context.Context, c *arrival.Contact) {
	patience := v.Patience
	if patience == 0 {
		patience = 5 * time.Second
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	began := time.Now()
	c.At = v.Now()
	if err := v.ask(ctx, c); err != nil {
		c.Failure, c.Problem = failure(ctx, err, v.at(c.Address, c.Secure))
	}
	c.Took = float64(time.Since(began).Microseconds()) / 1000
}

// ask makes one request for the front page, follows nothing, and reads only the headers of what comes back.
func (v *Visitor) ask(ctx context.Context, c *arrival.Contact) error {
	host := strings.TrimSuffix(c.Name.String(), ".")
	at := v.at(c.Address, c.Secure)
	shown := make(chan *arrival.Certificate, 1) // for the dialling may outlive the request
	dial := func(context.Context, string, string) (net.Conn, error) {
		conn, err := v.Door.DialContext(ctx, "tcp", at.String())
		if err != nil || !c.Secure {
			return conn, err
		}
		// Whatever certificate comes is taken, for what is wrong with it is to be told; nothing secret is sent.
		secure := tls.Client(conn, &tls.Config{ServerName: host, InsecureSkipVerify: true, NextProtos: []string{"http/1.1"}})
		if err := secure.HandshakeContext(ctx); err != nil {
			_ = conn.Close()
			return nil, notTLS{err}
		}
		select {
		case shown <- v.read(secure.ConnectionState().PeerCertificates):
		default:
		}
		return secure, nil
	}
	client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{DialContext: dial, DialTLSContext: dial, DisableKeepAlives: true, MaxResponseHeaderBytes: 64 << 10}}
	page := &url.URL{Scheme: "http", Host: host, Path: "/"}
	if c.Secure {
		page.Scheme = "https"
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, page.String(), nil)
	if err != nil {
		return err
	}
	req.Header.Set("User-Agent", "agile-beacon (checks whether a site has arrived)")
	res, err := client.Do(req)
	select {
	case c.Certificate = <-shown:
	default:
	}
	if err != nil {
		return err
	}
	defer res.Body.Close()
	c.Status = res.StatusCode
	if res.StatusCode >= 300 && res.StatusCode < 400 {
		if to, err := page.Parse(res.Header.Get("Location")); err == nil && res.Header.Get("Location") != "" {
			to.Fragment = ""
			if to.Path == "" {
				to.Path = "/"
			}
			c.Leads = to.String()
		}
	}
	return nil
}

// read takes what matters from the certificates that a site showed.
func (v *Visitor) read(chain []*x509.Certificate) *arrival.Certificate {
	if len(chain) == 0 {
		return nil
	}
	leaf := chain[0]
	print := sha256.Sum256(leaf.Raw)
	c := &arrival.Certificate{Names: slices.Clone(leaf.DNSNames), Issuer: leaf.Issuer.CommonName, From: leaf.NotBefore, Until: leaf.NotAfter, Print: hex.EncodeToString(print[:])}
	if len(leaf.Issuer.Organization) > 0 {
		c.Organization = leaf.Issuer.Organization[0]
	}
	between := x509.NewCertPool()
	for _, x := range chain[1:] {
		between.AddCert(x)
	}
	// Names and dates are judged elsewhere; here it is about who stands for it, at a moment when it is valid.
	within := v.Now()
	if within.After(leaf.NotAfter) || within.Before(leaf.NotBefore) {
		within = leaf.NotBefore.Add(leaf.NotAfter.Sub(leaf.NotBefore) / 2)
	}
	if _, err := leaf.Verify(x509.VerifyOptions{Roots: v.Trusted, Intermediates: between, CurrentTime: within}); err != nil {
		c.Distrust = strings.TrimPrefix(err.Error(), "x509: ")
	}
	return c
}

// failure puts in a word why nothing came of a contact.
func failure(ctx context.Context, err error, at netip.AddrPort) (arrival.Failure, string) {
	var insecure notTLS
	var timed net.Error
	switch {
	case errors.Is(err, reach.ErrRefused):
		return arrival.Barred, "this address may not be reached from here"
	case errors.As(err, &insecure) && ctx.Err() == nil:
		return arrival.NoTLS, strings.TrimPrefix(insecure.Error(), "tls: ")
	case errors.Is(err, syscall.ENETUNREACH) || errors.Is(err, syscall.EHOSTUNREACH) || errors.Is(err, syscall.EADDRNOTAVAIL):
		return arrival.NoRoute, "this machine has no way to " + at.Addr().String()
	case errors.Is(err, syscall.ECONNREFUSED):
		return arrival.Closed, fmt.Sprintf("port %d refuses connections", at.Port())
	case ctx.Err() != nil, errors.As(err, &timed) && timed.Timeout():
		return arrival.Mute, fmt.Sprintf("nothing came from port %d in time", at.Port())
	}
	text := err.Error()
	if asked := new(url.Error); errors.As(err, &asked) {
		text = asked.Err.Error()
	}
	return arrival.NoHTTP, text
}
