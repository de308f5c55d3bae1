package update

import (
	"context"

	"github.com/miekg/dns"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/soa"
	"beacon/outcall"
	"beacon/provider"
)

// SOA returns the zone's SOA set, with serial 0.
func (d *Driver) SOA(ctx context.Context, zone provider.ZoneRef) (record.Set, error) {
	conn, err := d.connect(ctx, "SOA", zone.Name.String())
	if err != nil {
		return record.Set{}, err
	}
	rr, err := d.soa(ctx, conn, zone.Name)
	if err == nil && rr == nil {
		err = d.fail("SOA", zone.Name.String(), outcall.NotFound, outcall.NotDone, "the server does not answer for this zone")
	}
	if err != nil {
		conn.Close()
		return record.Set{}, err
	}
	d.spare.put(conn)
	return d.unnumbered(rr)
}

func (d *Driver) unnumbered(rr *dns.SOA) (record.Set, error) {
	r, err := record.FromRR(rr)
	if err != nil {
		return record.Set{}, d.client.Unreadable("SOA", err)
	}
	return soa.Unnumbered(record.NewSet(r.Name, r.Type, r.TTL, r.Data)), nil
}

// setSOA puts a SOA record in the place of the present one, under the next serial: a server passes over one whose serial is not greater (RFC 2136
// section 3.4.2.2). There is no condition on the present one, since a server that signs may serve another serial than it compares with. Then it asks
// for the record: the server may have said NOERROR and passed it over.
func (d *Driver) setSOA(ctx context.Context, zone dnsname.Name, step change.Step) error {
	conn, err := d.connect(ctx, "UPDATE", zone.String())
	if err != nil {
		return err
	}
	defer conn.Close()
	now, err := d.soa(ctx, conn, zone)
	if err == nil && now == nil {
		err = d.fail("SOA", zone.String(), outcall.NotFound, outcall.NotDone, "the server does not answer for this zone")
	}
	if err != nil {
		return err
	}
	is, err := d.unnumbered(now)
	if err != nil {
		return err
	}
	if !is.Equal(step.Before) {
		return d.fail("UPDATE", step.Key().String(), outcall.Conflict, outcall.NotSent, "the record has changed since it was read")
	}
	p, ok := soa.Of(step.After)
	if !ok {
		return d.fail("UPDATE", step.Key().String(), outcall.Refused, outcall.NotSent, "it is no SOA record")
	}
	next := &dns.SOA{Hdr: now.Hdr, Ns: p.MName.String(), Mbox: p.RName.String(), Serial: max(now.Serial+1, 1), Refresh: p.Refresh, Retry: p.Retry, Expire: p.Expire, Minttl: p.Minimum}
	next.Hdr.Ttl = p.TTL // the serial is never 0, which some take for none
	m := new(dns.Msg).SetUpdate(zone.String())
	m.Insert([]dns.RR{next})
	if _, err := d.exchange(ctx, conn, m, "UPDATE", outcall.Unclear); err != nil {
		return err
	}
	if now, err = d.soa(ctx, conn, zone); err != nil {
		return unclear(err)
	}
	if now != nil {
		is, err = d.unnumbered(now)
	}
	if err == nil && !is.Equal(step.After) {
		err = d.fail("UPDATE", step.Key().String(), outcall.Refused, outcall.Unclear, "the server said NOERROR and did not do it; it may not let this key change the SOA record")
	}
	if err != nil {
		return unclear(err)
	}
	return nil
}
