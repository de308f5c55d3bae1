package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"beacon/core/definition"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/dnssec"
	"beacon/core/evidence"
	"beacon/reach"
	"beacon/resolve"
	"beacon/visit"
)

// direct returns how a check is made from here, without a service.
type direct struct {
	on        bool
	roots     string
	anchors   string
	authority string
	resolvers []string
	expect    []string
	reach     []string
	port      uint16
	sites     []string
	brief     bool
	answers   bool
}

// Where systems keep the root's nameservers and trust anchors.
var (
	systemRoots   = []string{"/usr/share/dns/root.hints", "/etc/bind/db.root", "/var/named/named.ca"}
	systemAnchors = []string{"/usr/share/dns/root.ds"}
)

// firstOf returns the first file of a list that is there.
func firstOf(paths []string) string {
	for _, p := range paths {
		if _, err := os.Stat(p); err == nil {
			return p
		}
	}
	return ""
}

// sweeper makes what asks, as the options say.
func (d direct) sweeper() (*resolve.Sweeper, error) {
	roots, anchors := d.roots, d.anchors
	if roots == "" {
		if roots = firstOf(systemRoots); roots == "" {
			return nil, misuse("no root hints are on this machine: name a file with --root-hints (a zone file with the root's nameservers; Debian's package dns-root-data brings one)")
		}
		if anchors == "" {
			anchors = firstOf(systemAnchors)
		}
	}
	text, err := os.ReadFile(roots)
	if err != nil {
		return nil, misuse("--root-hints: %s", err)
	}
	hints, err := resolve.ReadHints(string(text), d.port)
	if err != nil {
		return nil, misuse("--root-hints %s: %s", roots, err)
	}
	s := &resolve.Sweeper{Hints: hints, Port: d.port, Now: time.Now}
	if anchors != "" {
		text, err := os.ReadFile(anchors)
		if err != nil {
			return nil, misuse("--trust-anchors: %s", err)
		}
		if s.Anchors, err = dnssec.ReadAnchors(string(text)); err != nil {
			return nil, misuse("--trust-anchors %s: %s", anchors, err)
		}
	}
	for _, text := range d.resolvers {
		r, err := readResolver(text)
		if err != nil {
			return nil, misuse("--resolver %s: %s", text, err)
		}
		s.Resolvers = append(s.Resolvers, r)
	}
	door, err := reach.New(d.reach)
	if err != nil {
		return nil, misuse("--reach: %s", err)
	}
	if s.Client, err = resolve.NewClient(door.Local(), resolve.Options{}); err != nil {
		return nil, err
	}
	return s, nil
}

// visitor makes what looks at web hosts.
func (d direct) visitor() (*visit.Visitor, error) {
	door, err := reach.New(d.reach)
	if err != nil {
		return nil, misuse("--reach: %s", err)
	}
	v := &visit.Visitor{Door: door.Local(), Now: time.Now}
	if v.Trusted, err = reach.Authorities(d.authority); err != nil {
		return nil, misuse("--authority: %s", err)
	}
	return v, nil
}

// readResolver reads a resolver as it is typed: an address, with or without a port, or tls://address or https://…
func readResolver(text string) (r resolve.Resolver, err error) {
	r = resolve.Resolver{Name: text, Address: text}
	port := "53"
	switch {
	case strings.HasPrefix(text, "https://"):
		r.Transport = resolve.OverHTTPS
		return r, nil
	case strings.HasPrefix(text, "tls://"):
		r.Transport, port = resolve.OverTLS, "853"
		text, r.TLSName, _ = strings.Cut(strings.TrimPrefix(text, "tls://"), "#")
	case strings.HasPrefix(text, "tcp://"):
		r.Transport = resolve.OverTCP
		text = strings.TrimPrefix(text, "tcp://")
	}
	if at, err := netip.ParseAddrPort(text); err == nil {
		r.Address = at.String()
		return r, nil
	}
	addr, err := netip.ParseAddr(strings.Trim(text, "[]"))
	if err != nil {
		return r, fmt.Errorf("this is no IP address; write 192.0.2.53, 192.0.2.53:5353, tls://192.0.2.53#resolver.example or https://resolver.example/dns-query")
	}
	r.Address = net.JoinHostPort(addr.String(), port)
	return r, nil
}

// expected reads the wanted nameservers.
func (d direct) expected() ([]dnsname.Name, error) {
	var texts []string
	for _, t := range d.expect {
		texts = append(texts, strings.FieldsFunc(t, func(r rune) bool { return r == ',' || r == ' ' })...)
	}
	names, err := dnsname.ParseSet(texts)
	if err != nil {
		return nil, misuse("--expect: %s", err)
	}
	return names, nil
}

// scope is what is asked about a domain.
func (d direct) scope(name dnsname.Name, wanted []dnsname.Name) resolve.Scope {
	sites, err := definition.ParseWebsites(filled(d.sites), name)
	if err != nil { // a name that is too long below this one
		sites = delegation.Sites(name)
	}
	scope := resolve.Scope{Nameservers: wanted, Ours: wanted, Watched: delegation.Watched(name, sites), Brief: d.brief, Tape: !d.brief}
	if !d.brief {
		scope.Sites = sites
	}
	return scope
}

// directAtOnce is how many domains are looked at at a time.
const directAtOnce = 64

// checkDirect checks domains from here, and gives each report as soon as those before it are there.
func (a *app) checkDirect(ctx context.Context, d direct, domains []dnsname.Name, each func(delegation.Report, []evidence.Heard) error) error {
	wanted, err := d.expected()
	if err != nil {
		return err
	}
	s, err := d.sweeper()
	if err != nil {
		return err
	}
	defer s.Client.Close()
	visitor, err := d.visitor()
	if err != nil {
		return err
	}
	round := s.NewRound()
	type outcome struct {
		report delegation.Report
		heard  []evidence.Heard
	}
	results := make([]chan outcome, len(domains))
	for i := range results {
		results[i] = make(chan outcome, 1)
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	places := make(chan struct{}, directAtOnce)
	var group sync.WaitGroup
	defer group.Wait()
	group.Go(func() {
		for i, name := range domains {
			places <- struct{}{}
			group.Go(func() {
				defer func() { <-places }()
				limited, cancel := context.WithTimeout(ctx, 30*time.Second)
				defer cancel()
				scope := d.scope(name, wanted)
				sweep := round.Sweep(limited, name, scope)
				if len(scope.Sites) > 0 {
					visitor.Look(limited, s, &sweep, scope.Sites, wanted)
				}
				history := delegation.Advance(delegation.History{}, sweep)
				results[i] <- outcome{delegation.Judge(delegation.Plan{Domain: name, Wanted: wanted, Begun: true}, history, sweep), sweep.Heard}
			})
		}
	})
	for _, r := range results {
		got := <-r
		if err := each(got.report, got.heard); err != nil {
			cancel()
			return err
		}
	}
	return nil
}

// readNames reads domains, one on a line; what follows # is a remark.
func readNames(in io.Reader) (names []dnsname.Name, bad []string, err error) {
	lines := bufio.NewScanner(in)
	for n := 1; lines.Scan(); n++ {
		text, _, _ := strings.Cut(lines.Text(), "#")
		if text = strings.TrimSpace(text); text == "" {
			continue
		}
		name, err := dnsname.Parse(text)
		if err == nil && name.IsRoot() {
			err = errors.New("the root cannot be checked: it has no parent")
		}
		if err != nil {
			bad = append(bad, fmt.Sprintf("line %d: %s", n, err))
			continue
		}
		names = append(names, name)
	}
	return names, bad, lines.Err()
}

// showAnswers prints raw responses.
func (a *app) showAnswers(heard []evidence.Heard) {
	slices.SortStableFunc(heard, func(x, y evidence.Heard) int { return strings.Compare(x.Address, y.Address) })
	last := ""
	for _, h := range heard {
		if h.Address != last {
			a.printf("\n%s\n", a.paint(bold, strings.TrimPrefix(plain(h.Name)+" ", " ")+h.Address))
			last = h.Address
		}
		says := h.Says
		if h.Problem != "" {
			says = h.Problem
		}
		a.printf("  %s over %s, %.1f ms: %s\n", h.Asked, h.Over, h.Took, says)
		for _, section := range []struct {
			label string
			lines []string
		}{{"answer", h.Answer}, {"authority", h.Authority}, {"additional", h.Additional}, {"explained", h.Explained}} {
			for _, line := range section.lines {
				a.printf("    %-10s %s\n", section.label, line)
			}
		}
	}
}
