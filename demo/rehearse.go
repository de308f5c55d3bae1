package demo

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"beacon/reach"

	"github.com/miekg/dns"
)

// Rehearsal is a handover to be played through: from Plover to Heron, in a world of its own.
type Rehearsal struct {
	Domain        string // as people read it
	Zone          string // its records, as a zone file
	DelegationTTL uint32 // seconds; 0 for what the practice world usually has
	NSTTL         uint32 // seconds; 0 likewise
	Signed        bool   // the parent has a DS at the beginning
	Sign, Lower   bool
	Grace         time.Duration
}

// rehearsing is a rehearsal that is under way.
type rehearsing struct {
	*Stage
	Rehearsal
	out       io.Writer
	name      string // the domain's in the practice world
	questions []dns.Question
	asked     int
	wrong     []string
	begun     time.Time       // simulated time
	shown     map[string]bool // steps that were shown
}

// mostProbed is how many record sets resolvers are asked for.
const mostProbed = 40

// Rehearse plays a handover through on a stage of its own, and asks the world's resolvers for the domain's records all the while. It is an error where one of them ever answers
// wrong, or where the handover does not come to its end.
func Rehearse(ctx context.Context, opt Options, r Rehearsal, out io.Writer) error {
	if err := os.RemoveAll(opt.Dir); err != nil {
		return err
	}
	defer os.RemoveAll(opt.Dir)
	opt.Signed = r.Signed || r.Sign
	opt.Settings = "checks: {settling: 3h, settled: 6h, margin: 10m, brief: 0s}\ndrift: {every: 12h}\n"
	fmt.Fprintf(out, "Starting a practice world for %s ...\n", r.Domain)
	s, err := Start(ctx, opt)
	if err != nil {
		return err
	}
	defer s.Stop()
	p := &rehearsing{Stage: s, Rehearsal: r, out: out, name: standIn(r.Domain), shown: map[string]bool{}}
	for _, step := range []func(context.Context) error{p.prepare, p.adopt, p.move} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	fmt.Fprintf(out, "\n%d answers of resolvers, %d wrong.\n", p.asked, len(p.wrong))
	for _, line := range p.wrong[:min(len(p.wrong), 10)] {
		fmt.Fprintf(out, "  %s\n", line)
	}
	if len(p.wrong) > 0 {
		return fmt.Errorf("%d answers were wrong", len(p.wrong))
	}
	return nil
}

// standIn is what a domain is called in the practice world, which has the registries example and test only.
func standIn(domain string) string {
	label := strings.ReplaceAll(strings.TrimSuffix(domain, "."), ".", "-")
	return "r-" + strings.Trim(label[:min(len(label), 50)], "-") + ".example"
}

// prepare puts the zone at the old provider, with the TTLs of the domain.
func (p *rehearsing) prepare(ctx context.Context) error {
	zone := strings.ReplaceAll(p.Zone, strings.TrimSuffix(p.Domain, ".")+".", p.name+".")
	if err := p.Host(ctx, p.name, []byte(zone)); err != nil {
		return fmt.Errorf("the records of %s cannot be rehearsed with: %w", p.Domain, err)
	}
	parser := dns.NewZoneParser(strings.NewReader(zone), p.name+".", "")
	for rr, ok := parser.Next(); ok; rr, ok = parser.Next() {
		h := rr.Header()
		q := dns.Question{Name: strings.Replace(h.Name, "*", "any", 1), Qtype: h.Rrtype, Qclass: dns.ClassINET}
		if h.Rrtype != dns.TypeNS && h.Rrtype != dns.TypeDS && h.Rrtype != dns.TypeSOA && !slices.Contains(p.questions, q) && len(p.questions) < mostProbed {
			p.questions = append(p.questions, q)
		}
	}
	for path, body := range map[string]map[string]any{
		"/delegation-ttl": {"domain": p.name, "ttl": p.DelegationTTL}, "/zone-ttl": {"provider": "plover", "zone": p.name + ".", "ttl": p.NSTTL}} {
		if body["ttl"] == uint32(0) {
			continue
		}
		if err := p.Control(ctx, path, body); err != nil {
			return err
		}
	}
	if p.Signed {
		return p.Control(ctx, "/signing", map[string]any{"zone": p.name + ".", "at": "plover"})
	}
	return nil
}

// adopt has the service find the records at the old provider, and publish a DS where there is one.
func (p *rehearsing) adopt(ctx context.Context) error {
	at := "/domains/" + p.name
	if err := p.api(ctx, "admin", http.MethodPost, at+"/gatherings", map[string]any{}, nil); err != nil {
		return err
	}
	var g struct{ State, Problem string }
	err := p.eventually(ctx, "gathering", func() (bool, error) {
		err := p.api(ctx, "admin", http.MethodGet, at+"/gathering", nil, &g)
		return g.State == "done" || g.State == "failed", err
	})
	if err == nil && g.State == "failed" {
		err = fmt.Errorf("%s", g.Problem)
	}
	if err == nil {
		err = p.api(ctx, "admin", http.MethodPost, at+"/gathering/acceptance", map[string]any{"decisions": []any{}}, nil)
	}
	if err != nil || !p.Signed {
		return err
	}
	if err := p.api(ctx, "admin", http.MethodPost, at+"/ds-changes", map[string]any{"remove": false}, nil); err != nil {
		return err
	}
	return p.eventually(ctx, "the DS at the parent", func() (bool, error) {
		var report struct {
			Parents []struct{ Signed bool }
		}
		if err := p.api(ctx, "admin", http.MethodPost, at+"/checks", map[string]any{}, nil); err != nil {
			return false, err
		}
		err := p.api(ctx, "admin", http.MethodGet, at+"/report", nil, &report)
		return err == nil && len(report.Parents) > 0 && report.Parents[0].Signed, err
	})
}

// state is what a rehearsal reads of the handover.
type state struct {
	State, Doing, Trouble string
	Steps                 []struct {
		Text, State string
		At          time.Time
	}
	Wait    []struct{ Until time.Time }
	Closed  []struct{ Code, Message, Severity string }
	Asked   *struct{ Kind, Text string }
	Begun   time.Time `json:"begun_at"`
	Decided time.Time `json:"decided_at"`
}

// move moves the domain, and skips what has to be waited for.
func (p *rehearsing) move(ctx context.Context) error {
	at := "/domains/" + p.name + "/handover"
	begin := map[string]any{"to": "heron-main", "from": "plover-old", "sign": p.Sign, "lower": p.Lower, "grace": int64(p.Grace / time.Second), "allow": []string{"remove-ds", "delegate", "add-ds", "retire"}}
	if err := p.api(ctx, "admin", http.MethodPost, at+"s", begin, nil); err != nil {
		return err
	}
	fmt.Fprintf(p.out, "\n%s moves, as %s, from one practice provider to another. Times are from its beginning on.\n\n", p.Domain, p.name)
	signed := false
	for stuck := time.Now().Add(3 * time.Minute); ; {
		var h state
		if err := p.api(ctx, "admin", http.MethodGet, at, nil, &h); err != nil {
			return err
		}
		if p.begun = h.Begun; p.show(h) {
			stuck = time.Now().Add(3 * time.Minute)
		}
		p.probe(ctx)
		if h.State == "done" {
			return nil
		}
		if p.Sign && !signed { // as soon as the zone is there
			signed = p.Control(ctx, "/signing", map[string]any{"zone": p.name + ".", "at": "heron"}) == nil
		}
		if time.Now().After(stuck) {
			return fmt.Errorf("the handover does not go on: %s %v", h.Trouble, h.Closed)
		}
		if h.Asked != nil && h.Asked.Kind != "allow" {
			return fmt.Errorf("it would wait for you here: %s", h.Asked.Text)
		}
		if err := p.skip(ctx, h); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// skip has the clock skip to the next moment that something waits for.
func (p *rehearsing) skip(ctx context.Context, h state) error {
	next := time.Time{}
	for _, w := range h.Wait {
		if !w.Until.IsZero() && (next.IsZero() || w.Until.Before(next)) {
			next = w.Until
		}
	}
	if h.Doing != "" || h.Decided.IsZero() { // it is being done, in real time
		return nil
	}
	if next.IsZero() { // the next check tells more
		next = h.Decided.Add(4 * time.Hour)
	}
	err := p.api(ctx, "admin", http.MethodPost, "/clock/steps", map[string]any{"until": next}, nil)
	if _, answered := err.(statusError); answered { // something was due before: again, soon
		return nil
	}
	return err
}

// show says which steps were done since it was called last, and reports whether there were any.
func (p *rehearsing) show(h state) (news bool) {
	for _, s := range h.Steps {
		line := fmt.Sprintf("  %12s  %s", since(s.At.Sub(p.begun)), s.Text)
		if s.State == "done" && !p.shown[line] {
			p.shown[line], news = true, true
			fmt.Fprintln(p.out, line)
		}
	}
	return news
}

// since prints a span in days, hours and minutes.
func since(d time.Duration) string {
	d = d.Round(time.Minute)
	return fmt.Sprintf("%3dd %02dh %02dm", int(d.Hours())/24, int(d.Hours())%24, int(d.Minutes())%60)
}

// probe asks each resolver for the records.
func (p *rehearsing) probe(ctx context.Context) {
	var group sync.WaitGroup
	var mu sync.Mutex
	for i, resolver := range []string{"harbour", "lighthouse", "dinghy"} {
		group.Go(func() {
			for _, q := range p.questions {
				res, err := exchange(ctx, fmt.Sprintf("127.%d.8.%d:%d", p.Net, i+1, p.DNSPort), q)
				mu.Lock()
				p.asked++
				switch {
				case ctx.Err() != nil:
				case err != nil:
					p.wrong = append(p.wrong, fmt.Sprintf("%s, %s %s: %s", resolver, q.Name, dns.TypeToString[q.Qtype], err))
				case res.Rcode != dns.RcodeSuccess || len(res.Answer) == 0:
					p.wrong = append(p.wrong, fmt.Sprintf("%s, %s %s: %s, %d records", resolver, q.Name, dns.TypeToString[q.Qtype], dns.RcodeToString[res.Rcode], len(res.Answer)))
				}
				mu.Unlock()
			}
		})
	}
	group.Wait()
}

// exchange asks a resolver of the world one question.
func exchange(ctx context.Context, at string, q dns.Question) (*dns.Msg, error) {
	conn, err := reach.Loopback().DialContext(ctx, "udp", at)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	if err := conn.SetDeadline(time.Now().Add(3 * time.Second)); err != nil {
		return nil, err
	}
	c := dns.Conn{Conn: conn, UDPSize: dns.DefaultMsgSize}
	if err := c.WriteMsg(new(dns.Msg).SetQuestion(q.Name, q.Qtype).SetEdns0(dns.DefaultMsgSize, false)); err != nil {
		return nil, err
	}
	return c.ReadMsg()
}
