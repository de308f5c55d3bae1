package resolve

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/record"
)

// Addresses are what the authoritative servers of a name say its addresses are.
type Addresses struct {
	List    []netip.Addr
	TTL     uint32 // the least on the way, seconds
	Differs string // how servers of one zone disagree; empty where they do not
}

// longestChain bounds the CNAME records that lead from one zone to the next.
const longestChain = 8

// Addresses asks every authoritative server of a name for its addresses, along CNAME records into other zones. It is an
// error where a family cannot be had for certain: half an answer is none.
func (s *Sweeper) Addresses(ctx context.Context, name dnsname.Name) (out Addresses, err error) {
	w := &walk{Round: s.NewRound()}
	for range longestChain {
		start, known := w.known(name)
		f, err := w.descend(ctx, start, known, Question{Name: name.String(), Type: dns.TypeA}, name, nil, false)
		if err != nil {
			return out, err
		}
		zone, servers := f.zone, f.servers
		next := dnsname.Name{}
		for _, t := range []record.Type{record.A, record.AAAA} {
			set, differs, err := s.agreed(ctx, servers, record.Key{Name: name, Type: t})
			if err != nil {
				return out, fmt.Errorf("the nameservers of %s: %w", inWords(zone), err)
			}
			if out.Differs == "" {
				out.Differs = differs
			}
			if set.TTL > 0 && (out.TTL == 0 || set.TTL < out.TTL) {
				out.TTL = set.TTL
			}
			for _, d := range set.Data {
				if a, err := netip.ParseAddr(string(d)); err == nil {
					out.List = append(out.List, a)
				} else if next, err = dnsname.Parse(string(d)); err != nil {
					return out, err
				}
			}
		}
		if next.IsZero() || len(out.List) > 0 {
			slices.SortFunc(out.List, netip.Addr.Compare)
			out.TTL = max(out.TTL, 1)
			return out, nil
		}
		name = next
	}
	return out, fmt.Errorf("it has a chain of more than %d CNAME records", longestChain)
}

// agreed asks all servers for a set, and gives the answer that the most of them give.
func (s *Sweeper) agreed(ctx context.Context, servers []evidence.Server, key record.Key) (set record.Set, differs string, err error) {
	seen := make([]evidence.Observed, len(servers))
	inParallel(len(servers), func(i int) { seen[i] = s.AskSet(ctx, servers[i], key) })
	count := map[string]int{}
	best, bestText, missing := 0, "", 0
	for _, o := range seen {
		switch o.Answer {
		case evidence.Positive, evidence.NoData:
			text := joinData(o.Data)
			if count[text]++; count[text] > best || count[text] == best && text < bestText {
				best, bestText = count[text], text
				set = record.NewSet(key.Name, key.Type, o.TTL, o.Data...)
			}
		case evidence.NoName:
			missing++
		}

	}
	switch {
	case best == 0 && missing > 0:
		return set, "", fmt.Errorf("%s does not exist", key.Name.Unicode())
	case best == 0:
		return set, "", errors.New("none of them answers")
	case len(count) > 1:
		differs = fmt.Sprintf("%s: its nameservers disagree, %d of %d say %s", key, best, len(seen), bestText)
	}
	for _, o := range seen { // caches may have heard any of them
		if len(o.Data) > 0 && joinData(o.Data) == bestText {
			set.TTL = min(set.TTL, o.TTL)
		}
	}
	return set, differs, nil
}

func joinData(data []record.Data) string {
	texts := make([]string, len(data))
	for i, d := range data {
		texts[i] = string(d)
	}
	return strings.Join(texts, ", ")
}

// Beyond asks where a name outside a domain leads that a site's name is an alias of, and what CAA says there.
func (s *Sweeper) Beyond(ctx context.Context, name dnsname.Name) (b evidence.Beyond) {
	b.Name = name
	heard, err := s.Addresses(ctx, name)
	if err != nil {
		b.Problem = err.Error()
		return b
	}
	b.Addresses = heard.List
	w := &walk{Round: s.NewRound()}
	for range longestChain {
		start, known := w.known(name)
		f, err := w.descend(ctx, start, known, Question{Name: name.String(), Type: dns.TypeCAA}, name, nil, false)
		if err != nil {
			b.Problem = "asked about CAA: " + err.Error()
			return b
		}
		o := observed(record.Key{Name: name, Type: record.CAA}, f.reply, nil, false)
		next, err := dnsname.Name{}, error(nil)
		if o.Alias && len(o.Data) == 1 && !strings.Contains(string(o.Data[0]), " ") { // a name has no blank, a CAA record has
			next, err = dnsname.Parse(string(o.Data[0]))
		}
		if next.IsZero() || err != nil {
			b.CAA = o.Data
			return b
		}
		name = next
	}
	return b
}
