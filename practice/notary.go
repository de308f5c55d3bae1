package practice

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"
)

// What the notary is called, in its certificates and by CAA records.
const (
	notaryName     = "Lantern Notary"
	notaryIdentity = "ca.example"
)

var quiet = log.New(io.Discard, "", 0)

// notary issues certificates within the world. It believes nobody: it asks from the root down, every server of every
// zone on the way, and issues only where all of them say the same and every address shows the proof.
type notary struct {
	world *World
	paper []byte // its own certificate, PEM
	cert  *x509.Certificate
	key   *ecdsa.PrivateKey
	mu    sync.Mutex
	hosts map[string]*tls.Certificate // of the hosts themselves
}

// notaryState is what a world remembers of its notary.
type notaryState struct {
	Paper []byte `json:"paper"`
	Key   []byte `json:"key"`
}

func encode(kind string, der []byte) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der})
}

// newNotary makes the notary, or takes up the one that the world had.
func newNotary(w *World) (*notary, error) {
	n := &notary{world: w, hosts: map[string]*tls.Certificate{}}
	if w.state.Notary == nil {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return nil, err
		}
		now := w.clock.now()
		template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: notaryName + " Root", Organization: []string{notaryName}}, NotBefore: now.Add(-24 * time.Hour),
			NotAfter: now.AddDate(20, 0, 0), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
		der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
		if err != nil {
			return nil, err
		}
		secret, err := x509.MarshalECPrivateKey(key)
		if err != nil {
			return nil, err
		}
		w.state.Notary = &notaryState{Paper: encode("CERTIFICATE", der), Key: encode("EC PRIVATE KEY", secret)}
	}
	pair, err := tls.X509KeyPair(w.state.Notary.Paper, w.state.Notary.Key)
	if err != nil {
		return nil, fmt.Errorf("the practice world's notary: %w", err)
	}
	n.paper, n.key = w.state.Notary.Paper, pair.PrivateKey.(*ecdsa.PrivateKey)
	n.cert, err = x509.ParseCertificate(pair.Certificate[0])
	return n, err
}

// issue makes a certificate for a name, for 90 days of the world's.
func (n *notary) issue(name string) (paper, secret []byte, err error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 100))
	if err != nil {
		return nil, nil, err
	}
	now := n.world.clock.now()
	name = strings.TrimSuffix(name, ".")
	template := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: name}, DNSNames: []string{name}, NotBefore: now.Add(-time.Minute), NotAfter: now.AddDate(0, 0, 90),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	der, err := x509.CreateCertificate(rand.Reader, template, n.cert, &key.PublicKey, n.key)
	if err != nil {
		return nil, nil, err
	}
	text, err := x509.MarshalECPrivateKey(key)
	return encode("CERTIFICATE", der), encode("EC PRIVATE KEY", text), err
}

// own returns the certificate that a host has for itself.
func (n *notary) own(name string) (*tls.Certificate, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.hosts[name] == nil {
		paper, key, err := n.issue(name)
		if err != nil {
			return nil, err
		}
		pair, err := tls.X509KeyPair(paper, key)
		if err != nil {
			return nil, err
		}
		n.hosts[name] = &pair
	}
	return n.hosts[name], nil
}

// ask puts one question to one server.
func (n *notary) ask(at, name string, qtype uint16) (*dns.Msg, error) {
	q := new(dns.Msg).SetQuestion(name, qtype)
	q.RecursionDesired = false
	q.SetEdns0(1232, false)
	c := dns.Client{Timeout: 2 * time.Second}
	m, _, err := c.Exchange(q, at)
	if err == nil && m.Truncated {
		c.Net = "tcp"
		m, _, err = c.Exchange(q, at)
	}
	return m, err
}

// records returns the data of a set in a fixed order, for comparing.
func records(rrs []dns.RR, qtype uint16) (list []string) {
	for _, rr := range rrs {
		if t := rr.Header().Rrtype; t == qtype || t == dns.TypeCNAME && qtype != dns.TypeNS {
			list = append(list, strings.TrimPrefix(rr.String(), rr.Header().String()))
		}
	}
	slices.Sort(list)
	return list
}

// agreed asks from the root down, at every server of each zone on the way, and gives the answer that all of them give.
func (n *notary) agreed(name string, qtype uint16, depth int) (*dns.Msg, error) {
	if depth > 8 {
		return nil, fmt.Errorf("%s: too long a way", name)
	}
	servers := []string{n.world.DNSAddress(rootNorth), n.world.DNSAddress(rootSouth)}
	for range 10 {
		var first *dns.Msg
		said := ""
		for _, at := range servers {
			m, err := n.ask(at, name, qtype)
			if err != nil {
				return nil, fmt.Errorf("%s does not answer for %s", at, name)
			}
			if m.Rcode != dns.RcodeSuccess && m.Rcode != dns.RcodeNameError {
				return nil, fmt.Errorf("%s answers %s for %s", at, dns.RcodeToString[m.Rcode], name)
			}
			text := strings.Join(records(m.Answer, qtype), "|")
			if !m.Authoritative {
				text = "to " + strings.Join(records(m.Ns, dns.TypeNS), "|")
			}
			if first == nil {
				first, said = m, text
			} else if text != said {
				return nil, fmt.Errorf("the servers for %s %s do not agree: %q and %q", name, dns.TypeToString[qtype], said, text)
			}
		}
		if first == nil {
			return nil, fmt.Errorf("nobody answers for %s", name)
		}
		if first.Authoritative {
			return first, nil
		}
		servers = nil
		for _, rr := range first.Ns {
			ns, ok := rr.(*dns.NS)
			if !ok {
				continue
			}
			found := false
			for _, extra := range first.Extra {
				if a, ok := extra.(*dns.A); ok && dns.CanonicalName(a.Hdr.Name) == dns.CanonicalName(ns.Ns) {
					servers, found = append(servers, net.JoinHostPort(a.A.String(), fmt.Sprint(n.world.opt.DNSPort))), true
				}
			}
			if found {
				continue
			}
			m, err := n.agreed(dns.CanonicalName(ns.Ns), dns.TypeA, depth+1)
			if err != nil {
				return nil, err
			}
			for _, extra := range m.Answer {
				if a, ok := extra.(*dns.A); ok {
					servers = append(servers, net.JoinHostPort(a.A.String(), fmt.Sprint(n.world.opt.DNSPort)))
				}
			}
		}
	}
	return nil, fmt.Errorf("%s: too long a way", name)
}

// permitted looks for CAA records at a name and above it (RFC 8659 section 3).
func (n *notary) permitted(name string) error {
	for at := name; at != "."; {
		m, err := n.agreed(at, dns.TypeCAA, 0)
		if err != nil {
			return err
		}
		var set []*dns.CAA
		for _, rr := range m.Answer {
			if c, ok := rr.(*dns.CAA); ok {
				set = append(set, c)
			}
		}
		if len(set) > 0 {
			limited, ours := false, false
			for _, c := range set {
				switch strings.ToLower(c.Tag) {
				case "issue":
					identity, _, _ := strings.Cut(c.Value, ";")
					limited, ours = true, ours || strings.TrimSpace(identity) == notaryIdentity
				case "issuewild", "iodef":
				default:
					if c.Flag&128 != 0 {
						return fmt.Errorf("CAA at %s has the critical property %s, which nobody knows", at, c.Tag)
					}
				}
			}
			if limited && !ours {
				return fmt.Errorf("CAA at %s does not permit %s", at, notaryIdentity)
			}
			return nil
		}
		next, end := dns.NextLabel(at, 0)
		if end {
			return nil
		}
		at = at[next:]
	}
	return nil
}

// convincedOverHTTP looks for a proof at every address of a name (RFC 8555 section 8.3).
func (n *notary) convincedOverHTTP(name, token, proof string) error {
	if err := n.permitted(name); err != nil {
		return err
	}
	var addresses []string
	for _, t := range []uint16{dns.TypeA, dns.TypeAAAA} {
		m, err := n.agreed(name, t, 0)
		if err != nil {
			return err
		}
		for _, rr := range m.Answer {
			switch rr := rr.(type) {
			case *dns.A:
				addresses = append(addresses, rr.A.String())
			case *dns.AAAA:
				addresses = append(addresses, rr.AAAA.String())
			}
		}
	}
	if len(addresses) == 0 {
		return fmt.Errorf("%s has no address", name)
	}
	for _, a := range addresses {
		got, err := n.fetch(n.world.route(a), name, token)
		if err != nil {
			return fmt.Errorf("%s: %w", a, err)
		}
		if !bytes.Equal(got, []byte(proof)) {
			return fmt.Errorf("%s shows no proof", a)
		}
	}
	return nil
}

// fetch gets what an address shows under a token.
func (n *notary) fetch(at, name, token string) ([]byte, error) {
	if at == "" {
		return nil, fmt.Errorf("no way leads there")
	}
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+at+"/.well-known/acme-challenge/"+token, nil)
	if err != nil {
		return nil, err
	}
	req.Host = strings.TrimSuffix(name, ".")
	transport := &http.Transport{DisableKeepAlives: true}
	res, err := transport.RoundTrip(req)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("status %d", res.StatusCode)
	}
	return io.ReadAll(io.LimitReader(res.Body, 1024))
}

// convincedOverDNS looks for a proof in the record that is meant for it (RFC 8555 section 8.4).
func (n *notary) convincedOverDNS(name, proof string) error {
	if err := n.permitted(name); err != nil {
		return err
	}
	m, err := n.agreed("_acme-challenge."+name, dns.TypeTXT, 0)
	if err != nil {
		return err
	}
	for _, rr := range m.Answer {
		if txt, ok := rr.(*dns.TXT); ok && strings.Join(txt.Txt, "") == proof {
			return nil
		}
	}
	return fmt.Errorf("_acme-challenge.%s TXT does not hold the proof", name)
}
