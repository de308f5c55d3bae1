package update

import (
	"context"
	"encoding/base64"
	"fmt"
	"net"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/soa"
	"beacon/outcall"
	"beacon/provider"
)

// mostSets is how many sets one update carries: so many common records fit 65,535 octets. Where they do not, as with long texts, they go in several
// messages.
const mostSets = 1000

// Parallel is in how many zones a server is written to at the same time: none that answers on a network minds so many.
const Parallel = 8

// Driver drives one nameserver with one key. The account's address is dns://HOST:PORT, its credential
// ALGORITHM:KEYNAME:SECRET, the secret in Base64.
type Driver struct {
	client *outcall.Client
	server string
	key    key
	wrong  error // what is wrong with address or credential

	spare   spare
	serials sync.Map // by zone, as they were seen last; what a newer one changed is asked for since then
}

type key struct{ algorithm, name, secret string }

var algorithms = map[string]string{"hmac-sha256": dns.HmacSHA256, "hmac-sha384": dns.HmacSHA384, "hmac-sha512": dns.HmacSHA512, "hmac-sha224": dns.HmacSHA224}

// LeastSecret is how long the secret of a key has to be, in octets: a shorter one can be found by trying (RFC 8945 section 10).
const LeastSecret = 16

// CheckKey returns what is wrong with a credential, ALGORITHM:KEYNAME:SECRET, or nil.
func CheckKey(credential string) error {
	_, err := parseKey(credential)
	return err
}

// New makes a driver for the account that the client belongs to.
func New(c outcall.Client) *Driver {
	d := &Driver{client: &c}
	d.server, d.wrong = Server(c.Base)
	if d.wrong == nil {
		d.key, d.wrong = parseKey(c.Secret)
	}
	return d
}

// Server returns host and port of an account's address.
func Server(address string) (string, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "dns" || u.Hostname() == "" || u.Path != "" || u.User != nil {
		return "", fmt.Errorf("%q is no address of a nameserver; write it like dns://192.0.2.53 or dns://192.0.2.53:5353", address)
	}
	port := u.Port()
	if port == "" {
		port = "53"
	}
	return net.JoinHostPort(u.Hostname(), port), nil
}

// parseKey takes a key apart.
func parseKey(secret string) (key, error) {
	parts := strings.SplitN(secret, ":", 3)
	if len(parts) != 3 || algorithms[strings.ToLower(parts[0])] == "" {
		return key{}, fmt.Errorf("the credential is written ALGORITHM:KEYNAME:SECRET, such as hmac-sha256:beacon-key:BASE64; algorithms are hmac-sha224, -256, -384 and -512")
	}
	if _, ok := dns.IsDomainName(parts[1]); !ok || parts[1] == "" {
		return key{}, fmt.Errorf("the name of the key is no domain name")
	}
	octets, err := base64.StdEncoding.DecodeString(parts[2])
	if err != nil {
		return key{}, fmt.Errorf("the secret of the key is not Base64")
	}
	if len(octets) < LeastSecret {
		return key{}, fmt.Errorf("the secret of the key has %d octets; %d are the least, and 32 are usual", len(octets), LeastSecret)
	}
	return key{algorithms[strings.ToLower(parts[0])], dns.CanonicalName(parts[1]), parts[2]}, nil
}

// At returns address and port of the nameserver.
func (d *Driver) At() string { return d.server }

// Zones is refused: a nameserver does not list its zones.
func (d *Driver) Zones(context.Context, provider.Cursor) (provider.ZonePage, error) {
	return provider.ZonePage{}, d.fail("zones", "", outcall.Refused, outcall.NotSent, "a nameserver does not list its zones; name them")
}

// Describe needs no request.
func (d *Driver) Describe(context.Context, provider.ZoneRef) (change.Caps, error) {
	return change.Caps{Granularity: change.BySet, BatchSize: mostSets, Atomic: true, OwnsApex: true, Marks: true, GuardedSets: true, FixedZones: true, Parallel: Parallel, SOA: soa.Fields}, nil
}

// Create is refused: zones are made in the server's configuration.
func (d *Driver) Create(_ context.Context, name dnsname.Name, _ provider.ZoneOptions) (provider.Zone, error) {
	return provider.Zone{}, d.fail("zones", name.String(), outcall.Refused, outcall.NotSent,
		"the server has no such zone, and zones cannot be made over this interface; add it to the server's configuration, and let this key update and transfer it")
}

// Remove is refused, as Create is.
func (d *Driver) Remove(_ context.Context, zone provider.ZoneRef) error {
	return d.fail("zones", zone.Name.String(), outcall.Refused, outcall.NotSent, "zones cannot be removed over this interface; remove it from the server's configuration")
}

// Poll returns the receipt back: an update is done when it is answered.
func (d *Driver) Poll(_ context.Context, receipt provider.Receipt) (provider.Receipt, error) {
	return receipt, nil
}

func (d *Driver) fail(method, subject string, kind outcall.Kind, outcome outcall.Outcome, said string) *outcall.Error {
	return &outcall.Error{Kind: kind, Outcome: outcome, Account: d.client.Account, Asked: strings.TrimSpace(method + " " + subject), Said: d.client.Blank(said)}
}

// observe tells of a request.
func (d *Driver) observe(ctx context.Context, method, zone string, start time.Time, rcode int, err error) {
	if d.client.Observe == nil {
		return
	}
	call := outcall.Call{Account: d.client.Account, Method: method, Path: zone, Status: rcode, Took: time.Since(start)}
	if err != nil {
		call.Problem = err.Error()
	}
	d.client.Observe(ctx, call)
}
