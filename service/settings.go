package service

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"beacon/core/dnsname"
	"beacon/core/soa"
	"beacon/core/special"
	"beacon/registrar"
	"beacon/resolve"
	"beacon/service/apply"
	"beacon/service/check"
	"beacon/service/freezes"
	"beacon/service/jobs"
	"beacon/service/notify"
	"beacon/service/secondaries"
	"beacon/service/sync"
	"beacon/service/zones"
	"beacon/store"
)

// Settings say how an instance runs. ReadSettings gives them their defaults.
type Settings struct {
	Listen          string                  `yaml:"listen"`          // host and port of the API
	TLS             TLSSettings             `yaml:"tls"`             // of the API; none where a proxy has it
	HostNames       []string                `yaml:"host_names"`      // under which the API is asked; empty: those of the certificate, or any
	PlainText       []string                `yaml:"plain_text"`      // hosts that are reached by http:// though they are other machines
	Proxies         []string                `yaml:"trusted_proxies"` // networks whose X-Forwarded-For is believed
	Database        store.Settings          `yaml:"database"`
	KeyFile         string                  `yaml:"key_file"`         // seals credentials; made if missing
	AllowedNetworks []string                `yaml:"allowed_networks"` // networks that may be reached
	DNS             DNSSettings             `yaml:"dns"`
	Resolvers       []resolve.Resolver      `yaml:"resolvers"`      // caches that checks ask
	VantagePoints   []check.VantageSettings `yaml:"vantage_points"` // other instances that are asked how domains look from there
	RDAP            []check.RDAPSettings    `yaml:"rdap"`           // registries that tell of registrations
	RDAPBootstrap   string                  `yaml:"rdap_bootstrap"` // file that says which registry answers where (RFC 9224)
	Websites        check.WebsiteSettings   `yaml:"websites"`       // how web hosts are looked at
	Notifications   notify.Settings         `yaml:"notifications"`  // who is told when a verdict changes
	WorldClock      string                  `yaml:"world_clock"`    // address of a clock to follow; empty for this machine's
	Checks          check.CheckSettings     `yaml:"checks"`
	Handovers       freezes.Settings        `yaml:"handovers"`
	Hosts           HostSettings            `yaml:"hosts"`
	NewZones        zones.NewZoneSettings   `yaml:"new_zones"`
	Profiles        string                  `yaml:"profiles"` // folder of provider profiles, NAME.profile.yaml
	Watch           apply.WatchSettings     `yaml:"watch"`
	Drift           sync.DriftSettings      `yaml:"drift"`
	SOA             map[string]string       `yaml:"soa"` // fields of the SOA record of zones that have none of their own
	Primary         secondaries.Settings    `yaml:"primary"`
	Retention       jobs.RetentionSettings  `yaml:"retention"`
	Lease           time.Duration           `yaml:"lease"`           // of background work, real time
	Request         time.Duration           `yaml:"request_timeout"` // of one request to a provider or registrar, real time
	Hold            bool                    `yaml:"-"`               // the service begins held: it looks, and changes nothing outside
	Workers         int                     `yaml:"workers"`
}

// TLSSettings name the certificate of the API, as files in PEM. They are read again when they change.
type TLSSettings struct {
	Certificate string `yaml:"certificate"` // with the chain
	Key         string `yaml:"key"`
}

// Set reports whether a certificate is named.
func (t TLSSettings) Set() bool { return t.Certificate != "" }

// DNSSettings say where the DNS begins.
type DNSSettings struct {
	RootHints string `yaml:"root_hints"` // file with root hints, a zone file
	Port      uint16 `yaml:"port"`       // that nameservers answer on
	// TrustAnchors is a file with trust anchors, as DS lines; empty: signatures are not judged.
	TrustAnchors string `yaml:"trust_anchors"`
	PerSecond    int    `yaml:"per_second"` // questions to one server in a second at most; negative for no limit
	CAFile       string `yaml:"ca_file"`    // file with certificates (PEM) that DNS over TLS and HTTPS trust besides the system's
}

// HostSettings say which reported addresses are believed.
type HostSettings struct {
	AllowedNetworks []netip.Prefix `yaml:"allowed_networks"` // networks that are believed though nobody outside could reach them
}

// ReadSettings reads a settings file. Paths in it are relative to its folder.
func ReadSettings(path string) (Settings, error) {
	s := Settings{Listen: "127.0.0.1:8053", KeyFile: "beacon.key", AllowedNetworks: []string{"0.0.0.0/0", "::/0"},
		DNS: DNSSettings{Port: 53}, Checks: check.CheckSettings{Settling: time.Minute, Settled: time.Hour, Brief: 10 * time.Minute, Margin: 10 * time.Minute, ByHand: 10 * time.Minute},
		Watch: apply.WatchSettings{Every: 2 * time.Second}, Drift: sync.DriftSettings{Every: 15 * time.Minute}, Notifications: notify.Settings{Delay: time.Minute}, Websites: check.WebsiteSettings{Timeout: 5 * time.Second}, Retention: jobs.DefaultRetention(), Lease: 30 * time.Second, Request: 10 * time.Second, Workers: 4}
	text, err := os.ReadFile(path)
	if err != nil {
		return s, fmt.Errorf("the settings cannot be read: %w", err)
	}
	if err := decodeSettings(text, &s); err != nil {
		return s, fmt.Errorf("the settings in %s: %s", path, yamlReason(err))
	}
	for _, file := range []*string{&s.KeyFile, &s.DNS.RootHints, &s.Database.Socket, &s.NewZones.Kits, &s.DNS.TrustAnchors, &s.DNS.CAFile, &s.Websites.CAFile, &s.Watch.Folder, &s.Profiles, &s.RDAPBootstrap, &s.TLS.Certificate, &s.TLS.Key, &s.Database.TLS.CAFile} {
		if *file != "" && !filepath.IsAbs(*file) {
			*file = filepath.Join(filepath.Dir(path), *file)
		}
	}
	s.Notifications.Paths(filepath.Dir(path))
	for i := range s.VantagePoints {
		if at := &s.VantagePoints[i].TokenFile; *at != "" && !filepath.IsAbs(*at) {
			*at = filepath.Join(filepath.Dir(path), *at)
		}
	}
	if err := s.check(); err != nil {
		return s, fmt.Errorf("the settings in %s: %w", path, err)
	}
	return s, nil
}

func (s Settings) check() error {
	var problems []error
	fail := func(format string, args ...any) { problems = append(problems, fmt.Errorf(format, args...)) }
	if _, _, err := net.SplitHostPort(s.Listen); err != nil {
		fail("listen: %q is no address; write host and port, such as 127.0.0.1:8053", s.Listen)
	}
	switch {
	case (s.TLS.Certificate == "") != (s.TLS.Key == ""):
		fail("tls: give both, certificate and key")
	case special.Open(s.Listen) && !s.TLS.Set() && len(s.Proxies) == 0:
		fail("listen: at %s passwords and tokens could be read in transit: there is no TLS. Name the files of a certificate (tls: {certificate: beacon.pem, key: beacon-key.pem}), "+
			"or the proxy in front that has one (trusted_proxies: [192.0.2.7/32]), or listen at 127.0.0.1", s.Listen)
	}
	if host, _, err := net.SplitHostPort(s.Database.Address); err == nil && s.Database.PlainText && special.ThisMachine(host) {
		fail("database.plain_text: the database is on this machine, which needs no such setting")
	}
	for _, p := range s.VantagePoints {
		if host := special.PlainText(p.Address, s.PlainText); host != "" {
			fail("vantage_points: %s would be sent its token in plain text: use https://, or name the host: plain_text: [%s]", p.Name, host)
		}
	}
	for _, h := range s.Notifications.Hooks {
		if host := special.PlainText(h.Address, s.PlainText); host != "" {
			fail("notifications.webhooks: %s would be told in plain text: use https://, or name the host: plain_text: [%s]", h.Name, host)
		}
	}
	if s.DNS.RootHints == "" {
		fail("dns.root_hints: the file with the root hints is missing")
	}
	if s.Database.Socket == "" && s.Database.Address == "" {
		fail("database: give either socket or address")
	}
	if s.Request <= 0 || s.Lease < 2*s.Request {
		fail("lease (%s) must be at least twice request_timeout (%s), so that no request outlives the lease it was made under", s.Lease, s.Request)
	}
	if s.Checks.Settling <= 0 || s.Checks.Settled <= 0 {
		fail("checks: intervals must be longer than nothing")
	}
	if s.Checks.Brief != 0 && s.Checks.Brief < time.Minute {
		fail("checks.brief: give at least 1m, or 0 for never")
	}
	if !slices.Contains([]string{"", apply.PruneDetach, apply.PruneRetire, apply.PruneDelete}, s.Watch.Prune) {
		fail("watch.prune: %q is nothing that can become of a zone whose file is gone; leave it empty, or write detach, retire or delete", s.Watch.Prune)
	}
	if s.Watch.Folder != "" && s.Watch.Every < 100*time.Millisecond {
		fail("watch.every: give at least 100ms")
	}
	if s.Drift.Every != 0 && s.Drift.Every < time.Second {
		fail("drift.every: give at least 1s, or 0 for never")
	}
	if s.Primary.Listen != "" {
		if _, _, err := net.SplitHostPort(s.Primary.Listen); err != nil {
			fail("primary.listen: %q is no address; write host and port, such as 127.0.0.1:5354", s.Primary.Listen)
		}
	}
	if s.Workers < 1 || s.Workers > 64 {
		fail("workers: give a number from 1 to 64")
	}
	for _, p := range s.Proxies {
		if _, err := netip.ParsePrefix(p); err != nil {
			fail("trusted_proxies: %q is no network; write it like 127.0.0.1/32", p)
		}
	}
	for _, r := range s.Resolvers {
		if _, err := r.Endpoint(); err != nil {
			fail("resolvers: %q: %s; write IP address and port, such as 192.0.2.53:53, or with transport: https an address such as https://resolver.example/dns-query", r.Address, err)
		}
	}
	if _, err := soa.Parse(s.SOA); err != nil {
		fail("soa: %s", err)
	}
	s.Notifications.Check(fail)
	s.Websites.Check(fail)
	s.Handovers.Check(fail)
	for _, p := range s.VantagePoints {
		if u, err := url.Parse(p.Address); err != nil || u.Host == "" || p.Name == "" || p.TokenFile == "" {
			fail("vantage_points: each needs a name, an address such as https://north.example:8053, and a token_file")
		}
	}
	for _, r := range s.RDAP {
		zone, err := dnsname.Parse(r.Zone)
		if err == nil {
			_, err = registrar.Directory{}.With(zone, r.Address)
		}
		if err != nil {
			fail("rdap: %s", err)
		}
	}
	if len(problems) == 0 {
		return nil
	}
	texts := make([]string, len(problems))
	for i, p := range problems {
		texts[i] = p.Error()
	}
	return errors.New(strings.Join(texts, "; "))
}

// directory returns where registries answer: by the bootstrap file, and before it by the entries of the settings.
func (s Settings) directory() (d registrar.Directory, err error) {
	if s.RDAPBootstrap != "" {
		text, err := os.ReadFile(s.RDAPBootstrap)
		if err == nil {
			d, err = registrar.ReadDirectory(text)
		}
		if err != nil {
			return d, fmt.Errorf("the setting rdap_bootstrap: %w", err)
		}
	}
	for _, r := range s.RDAP {
		zone, err := dnsname.Parse(r.Zone)
		if err != nil {
			return d, err
		}
		if d, err = d.With(zone, r.Address); err != nil {
			return d, err
		}
	}
	return d, nil
}
