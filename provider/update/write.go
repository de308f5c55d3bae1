package update

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/miekg/dns"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/outcall"
	"beacon/provider"
)

// Apply replaces sets in one update, on condition that each is as it was read. Then it asks for all of them: a server may say NOERROR and
// leave a change out. What comes where something else was removed, and is missing then, is sent once more by itself: some servers that sign a
// zone drop such a record, and leave the name empty.
func (d *Driver) Apply(ctx context.Context, zone provider.ZoneRef, batch change.Batch) (provider.Receipt, error) {
	if step, ok := batch.SOA(); ok {
		return provider.Receipt{Zone: zone, Done: true}, d.setSOA(ctx, zone.Name, step)
	}
	parts, err := messages(zone.Name, batch.Steps)
	if err != nil {
		return provider.Receipt{}, d.fail("UPDATE", zone.Name.String(), outcall.Refused, outcall.NotSent, err.Error())
	}
	conn, err := d.connect(ctx, "UPDATE", zone.Name.String())
	if err != nil {
		return provider.Receipt{}, err
	}
	left := conn
	defer func() {
		if left != nil {
			left.Close()
		}
	}()
	for i, m := range parts {
		if _, err := d.exchange(ctx, conn, m, "UPDATE", outcall.Unclear); err != nil && i > 0 {
			return provider.Receipt{}, unclear(err)
		} else if err != nil {
			return provider.Receipt{}, err
		}
	}
	missing, left, err := d.missing(ctx, conn, zone.Name, batch.Steps, batch.Mark)
	if err != nil {
		return provider.Receipt{}, err
	}
	if dropped := alone(batch.Steps, missing); len(dropped) > 0 {
		again, err := messages(zone.Name, dropped)
		for _, m := range again {
			if err == nil {
				_, err = d.exchange(ctx, left, m, "UPDATE", outcall.Unclear)
			}
		}
		if err == nil {
			missing, err = d.asked(ctx, left, zone.Name, batch.Steps)
		}
		if err != nil {
			return provider.Receipt{}, unclear(err)
		}
	}
	if len(missing) > 0 {
		return provider.Receipt{}, d.fail("UPDATE", missing[0].Key().String(), outcall.Refused, outcall.Unclear,
			"the server said NOERROR and did not do it; it may not let this key change such a record, or it would collide")
	}
	d.spare.put(left)
	left = nil
	return provider.Receipt{Zone: zone, Done: true}, nil
}

// alone returns those of the missing steps that bring something where the same update removed something else, as they are now.
func alone(all, missing change.List) (list change.List) {
	for _, s := range missing {
		if !s.Before.IsZero() || s.After.IsZero() {
			continue
		}
		for _, o := range all {
			if o.Key().Name == s.Key().Name && o.Key() != s.Key() && o.After.IsZero() {
				list = append(list, s)
				break
			}
		}
	}
	return list
}

// unclear returns an error of a later request of several: what the first one did stays.
func unclear(err error) error {
	var e *outcall.Error
	if !errors.As(err, &e) {
		return err
	}
	with := *e
	with.Outcome = outcall.Unclear
	return &with
}

// errTooLong means that an update does not fit one message.
var errTooLong = errors.New("it does not fit one message")

// messages makes the updates for steps: one, or as many as it takes, each with all that concerns the names in it.
func messages(zone dnsname.Name, steps change.List) ([]*dns.Msg, error) {
	m, err := message(zone, steps)
	if err == nil || !errors.Is(err, errTooLong) {
		return []*dns.Msg{m}, err
	}
	at := len(steps) / 2
	for at < len(steps) && together(steps, at) {
		at++
	}
	if at == len(steps) {
		for at = len(steps) / 2; at > 0 && together(steps, at); at-- {
		}
	}
	if at == 0 {
		return nil, fmt.Errorf("%s: %w; it is too large for this interface", steps[0].Key().Name, err)
	}
	first, err := messages(zone, steps[:at])
	if err != nil {
		return nil, err
	}
	rest, err := messages(zone, steps[at:])
	return append(first, rest...), err
}

// together reports whether what comes before a place and what comes after it concern a name in common.
func together(steps change.List, at int) bool {
	before := map[dnsname.Name]bool{}
	for _, s := range steps[:at] {
		before[s.Key().Name] = true
	}
	return slices.ContainsFunc(steps[at:], func(s change.Step) bool { return before[s.Key().Name] })
}

// message makes an update (RFC 2136 section 2): as prerequisites, that each set has the value that was read, or does not
// exist, and that nothing collides with what comes; as updates, that it goes, and what comes in its place.
func message(zone dnsname.Name, steps change.List) (*dns.Msg, error) {
	m := new(dns.Msg).SetUpdate(zone.String())
	m.Compress = true
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
		return nil, errTooLong
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
