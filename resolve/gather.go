package resolve

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"time"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/gather"
	"beacon/core/record"
)

// Gathering is what to gather, and from which nameservers.
type Gathering struct {
	Zone     dnsname.Name
	Servers  []evidence.Server // of the zone; the first ones are asked first
	Names    []dnsname.Name    // known from elsewhere
	Label    string            // a label that nobody has
	Between  time.Duration     // what passes until a set is asked for once more, real time; betweenRounds where it is 0
	Progress func(way gather.Kind, asked, names int)
}

// gatheredAtOnce is how many questions to a zone's nameservers are open while it is gathered: few, out of politeness.
const gatheredAtOnce = 4

// betweenRounds is what passes at the least until a set is asked for once more, real time.
const betweenRounds = 1200 * time.Millisecond

// mostTransferred bounds the records of a transfer.
const mostTransferred = 1_000_000

// Gather learns what a zone contains: by a transfer, else along its NSEC chain, else by asking. It returns each way that was tried, also those that failed.
func (s *Sweeper) Gather(ctx context.Context, g Gathering) (list []gather.Source) {
	transfer := s.transferFromAny(ctx, g)
	if list = append(list, transfer); transfer.Claim == gather.Complete {
		return list
	}
	walked := s.walkChain(ctx, g)
	if list = append(list, walked); walked.Claim == gather.Complete {
		return list
	}
	a := gather.NewAsking(g.Zone, gather.Options{Names: g.Names, Label: g.Label})
	s.askFor(ctx, g, a, gather.FromAsking, g.Between)
	return append(list, a.Outcome(g.Servers[0].Name.Unicode()))
}

// AskKnown asks for sets that a zone is known to have, to see what visitors get.
func (s *Sweeper) AskKnown(ctx context.Context, g Gathering, keys []record.Key) gather.Source {
	a := gather.NewAsking(g.Zone, gather.Options{Known: keys})
	s.askFor(ctx, g, a, gather.FromAsking, -1)
	out := a.Outcome(g.Servers[0].Name.Unicode())
	out.Kind, out.Claim, out.Why = gather.FromAsking, gather.Unknown, "only the addresses that are known were asked for"
	return out
}

// askFor puts the questions of an Asking, a few at a time. Sets are not asked for once more before so much time has passed.
func (s *Sweeper) askFor(ctx context.Context, g Gathering, a *gather.Asking, way gather.Kind, pause time.Duration) {
	began := time.Now()
	type answered struct {
		q gather.Question
		m *dns.Msg
	}
	answers := make(chan answered, gatheredAtOnce)
	open := 0
	again := sync.OnceFunc(func() { // a TTL that counts down does so by whole seconds
		select {
		case <-time.After(cmp.Or(pause, betweenRounds) - time.Since(began)):
		case <-ctx.Done():
		}
	})
	for {
		if ctx.Err() == nil {
			for _, q := range a.Next(gatheredAtOnce - open) {
				open++
				if q.Round > 0 {
					again()
				}
				go func() { answers <- answered{q, s.askOne(ctx, g.Servers[q.Round%len(g.Servers)], q.Key, q.Visitor())} }()
			}
		}
		if open == 0 {
			return
		}
		got := <-answers
		open--
		a.Take(got.q, got.m)
		if g.Progress != nil {
			asked, names := a.Progress()
			g.Progress(way, asked, names)
		}
	}
}

// askOne puts one question, and returns nil where nothing came.
func (s *Sweeper) askOne(ctx context.Context, server evidence.Server, k record.Key, visitor netip.Prefix) *dns.Msg {
	at, err := netip.ParseAddrPort(server.Address)
	if err != nil {
		return nil
	}
	r, err := s.Client.Ask(ctx, at, Question{Name: k.Name.String(), Type: uint16(k.Type), Signed: true, Visitor: visitor})
	if err != nil {
		return nil
	}
	return r.Msg
}

// walkChain follows the NSEC chain, and asks for all that it lists.
func (s *Sweeper) walkChain(ctx context.Context, g Gathering) gather.Source {
	out := gather.Source{Kind: gather.FromWalk, Name: g.Servers[0].Name.Unicode(), Claim: gather.Failed}
	w := gather.NewWalk(g.Zone)
	for q, more := w.Next(); more && ctx.Err() == nil; q, more = w.Next() {
		w.Take(s.askOne(ctx, g.Servers[0], q, netip.Prefix{}))
		out.Asked++
		if g.Progress != nil {
			g.Progress(gather.FromWalk, out.Asked, w.Names())
		}
	}
	known, whole := w.Known()
	switch {
	case ctx.Err() != nil:
		out.Why = "broken off"
		return out
	case !whole:
		out.Why = w.Failure()
		return out
	case len(known) == 0:
		out.Claim, out.Why = gather.Complete, "the zone has no records but the provider's own"
		return out
	}
	a := gather.NewAsking(g.Zone, gather.Options{Known: known, Most: len(known)*4 + 1000})
	s.askFor(ctx, g, a, gather.FromWalk, g.Between)
	asked := out.Asked
	out = a.Outcome(out.Name)
	out.Asked += asked
	return out
}

// transferFromAny transfers the zone from the first nameserver that lets it.
func (s *Sweeper) transferFromAny(ctx context.Context, g Gathering) (out gather.Source) {
	out = gather.Source{Kind: gather.FromTransfer, Name: g.Servers[0].Name.Unicode(), Claim: gather.Failed, Why: "no nameserver was asked"}
	asked := map[dnsname.Name]bool{}
	for _, server := range g.Servers {
		if asked[server.Name] { // one address of each
			continue
		}
		asked[server.Name] = true
		out.Asked++
		contents, err := s.Transfer(ctx, server, g.Zone)
		if err == nil {
			return gather.Source{Kind: gather.FromTransfer, Name: server.Name.Unicode(), Contents: contents, Claim: gather.Complete, Why: "the whole zone, as the nameserver serves it", Asked: out.Asked}
		}
		out.Why = err.Error()
	}
	return out
}

// Transfer transfers a zone from a nameserver, without a key (RFC 5936). Records that signing makes are left out.
func (s *Sweeper) Transfer(ctx context.Context, server evidence.Server, zone dnsname.Name) (c record.Contents, err error) {
	ctx, cancel := context.WithTimeout(ctx, transferTime)
	defer cancel()
	conn, err := s.Client.door.DialContext(ctx, "tcp", server.Address)
	if err != nil {
		return c, fmt.Errorf("no connection: %s", inShort(err))
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	t := &dns.Transfer{Conn: &dns.Conn{Conn: conn}, ReadTimeout: 10 * time.Second, WriteTimeout: 10 * time.Second}
	parts, err := t.In(new(dns.Msg).SetAxfr(zone.String()), "")
	if err != nil {
		conn.Close()
		return c, errors.New(inShort(err))
	}
	var records []record.Record
	var first *dns.SOA
	for part := range parts {
		if part.Error != nil && err == nil {
			err = refusal(part.Error)
		}
		for _, rr := range part.RR {
			if soa, ok := rr.(*dns.SOA); ok && first == nil {
				first = soa
			} else if ok {
				continue // the last one is the first again
			}
			if r, bad := record.FromRR(rr); bad != nil {
				err = fmt.Errorf("a record cannot be read: %w", bad)
			} else if r.Name.IsAtOrBelow(zone) && !(gather.Plumbing(zone, r.Key()) && r.Name != zone) {
				records = append(records, r)
			}
		}
		if len(records) > mostTransferred && err == nil {
			err = fmt.Errorf("more than %d records", mostTransferred)
			conn.Close()
		}
	}
	if err == nil && first == nil {
		err = errors.New("the transfer has no SOA record")
	}
	return record.NewContents(records), err
}

// transferTime bounds a whole transfer.
const transferTime = time.Minute

// refusal returns why a transfer failed, in words.
func refusal(err error) error {
	for code, word := range map[int]string{dns.RcodeRefused: "REFUSED", dns.RcodeNotAuth: "NOTAUTH", dns.RcodeServerFailure: "SERVFAIL", dns.RcodeNotImplemented: "NOTIMP", dns.RcodeFormatError: "FORMERR"} {
		if err.Error() == fmt.Sprintf("dns: bad xfr rcode: %d", code) {
			return fmt.Errorf("transfers are not allowed: %s", word)
		}
	}
	if errors.Is(err, dns.ErrSoa) {
		return errors.New("transfers are not allowed: no record came")
	}
	return errors.New(inShort(err))
}

// inShort returns a network error without the addresses of both ends.
func inShort(err error) string {
	var timeout net.Error
	if errors.As(err, &timeout) && timeout.Timeout() || errors.Is(err, context.DeadlineExceeded) {
		return "no answer in time"
	}
	var op *net.OpError
	if errors.As(err, &op) {
		return op.Err.Error()
	}
	return err.Error()
}
