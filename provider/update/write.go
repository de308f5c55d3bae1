package update

import (
	"context"
	"fmt"

	"github.com/miekg/dns"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/outcall"
	"beacon/provider"
)

// Apply replaces sets in one update, on condition that each is as it was read. Then it asks for each of them: a server may
// say NOERROR and leave a change out.
func (d *Driver) Apply(ctx context.Context, zone provider.ZoneRef, batch change.Batch) (provider.Receipt, error) {
	m, err := message(zone.Name, batch.Steps)
	if err != nil {
		return provider.Receipt{}, d.fail("UPDATE", zone.Name.String(), outcall.Refused, outcall.NotSent, err.Error())
	}
	conn, err := d.connect(ctx, "UPDATE", zone.Name.String())
	if err != nil {
		return provider.Receipt{}, err
	}
	defer conn.Close()
	if _, err := d.exchange(ctx, conn, m, "UPDATE", outcall.Unclear); err != nil {
		return provider.Receipt{}, err
	}
	for _, s := range batch.Steps {
		if err := d.sees(ctx, conn, s); err != nil {
			return provider.Receipt{}, err
		}
	}
	return provider.Receipt{Zone: zone, Done: true}, nil
}

// message makes an update (RFC 2136 section 2): as prerequisites, that each set has the value that was read, or does not
// exist, and that nothing collides with what comes; as updates, that it goes, and what comes in its place.
func message(zone dnsname.Name, steps change.List) (*dns.Msg, error) {
	m := new(dns.Msg).SetUpdate(zone.String())
	going, touched := map[record.Key]bool{}, map[dnsname.Name]bool{}
	for _, s := range steps {
		touched[s.Key().Name] = touched[s.Key().Name] || !s.Before.IsZero()
		going[s.Key()] = s.After.IsZero()
	}
	for _, s := range steps {
		before, err := rrs(s.Before)
		if err != nil {
			return nil, err
		}
		key := s.Key()
		owner := &dns.ANY{Hdr: dns.RR_Header{Name: key.Name.String(), Rrtype: uint16(key.Type)}}
		alias := &dns.ANY{Hdr: dns.RR_Header{Name: key.Name.String(), Rrtype: dns.TypeCNAME}}
		switch {
		case len(before) > 0:
			for _, rr := range before {
				rr.Header().Ttl = 0 // section 2.4.2
			}
			m.Used(before)
			m.RemoveRRset([]dns.RR{owner})
		case key.Type == record.CNAME && !touched[key.Name]:
			m.NameNotUsed([]dns.RR{owner})
		default:
			m.RRsetNotUsed([]dns.RR{owner})
			if !record.Collide(key.Type, record.CNAME) || key.Type == record.CNAME || going[record.Key{Name: key.Name, Type: record.CNAME}] {
				break
			}
			m.RRsetNotUsed([]dns.RR{alias})
		}
		after, err := rrs(s.After)
		if err != nil {
			return nil, err
		}
		if len(after) > 0 {
			m.Insert(after)
		}
	}
	if m.Len() > dns.MaxMsgSize-512 { // room for the signature
		return nil, fmt.Errorf("%d octets do not fit one message; a record set is too large for this interface", m.Len())
	}
	return m, nil
}

func rrs(s record.Set) (list []dns.RR, err error) {
	for _, r := range s.Records() {
		rr, err := r.RR()
		if err != nil {
			return nil, fmt.Errorf("%s cannot be written as a DNS record: %w", r, err)
		}
		list = append(list, rr)
	}
	return list, nil
}

// sees asks for a set that was written.
func (d *Driver) sees(ctx context.Context, conn *dns.Conn, s change.Step) error {
	key := s.Key()
	res, err := d.exchange(ctx, conn, new(dns.Msg).SetQuestion(key.Name.String(), uint16(key.Type)), "readback", outcall.Unclear)
	if res != nil && res.Rcode == dns.RcodeNameError {
		res, err = &dns.Msg{}, nil
	}
	if err != nil {
		return err
	}
	var records []record.Record
	for _, rr := range append(append([]dns.RR{}, res.Answer...), delegated(res, key)...) {
		h := rr.Header()
		if h.Rrtype != uint16(key.Type) || dns.CanonicalName(h.Name) != key.Name.String() {
			continue
		}
		if err := d.add(&records, rr); err != nil {
			return err
		}
	}
	now := record.NewContents(records).Get(key)
	if now.SameData(s.After) || s.After.IsZero() && now.IsZero() || hidden(res, key) {
		return nil
	}
	return d.fail("UPDATE", key.String(), outcall.Refused, outcall.Unclear, "the server said NOERROR and did not do it; it may not let this key change such a record, or it would collide")
}

// delegated returns what a referral says of a delegation at a name.
func delegated(res *dns.Msg, key record.Key) []dns.RR {
	if key.Type == record.NS {
		return res.Ns
	}
	return nil
}

// hidden reports whether a question cannot show the set: it lies at or below a delegation, or behind a DNAME.
func hidden(res *dns.Msg, key record.Key) bool {
	if len(res.Answer) > 0 && res.Answer[0].Header().Rrtype == dns.TypeDNAME {
		return true
	}
	for _, rr := range res.Ns {
		if rr.Header().Rrtype == dns.TypeNS && !res.Authoritative && key.Type != record.NS {
			return true
		}
	}
	return false
}
