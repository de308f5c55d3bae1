package update

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"time"

	"github.com/miekg/dns"

	"beacon/core/record"
	"beacon/outcall"
	"beacon/provider"
)

// serversOwn are types that a server makes itself when it signs a zone, or keeps for that.
var serversOwn = []uint16{dns.TypeRRSIG, dns.TypeNSEC, dns.TypeNSEC3, dns.TypeNSEC3PARAM, dns.TypeDNSKEY, dns.TypeCDS, dns.TypeCDNSKEY, dns.TypeZONEMD, 65534}

// Read transfers the zone. Its change mark is the serial: with one, only the differences since then are transferred, and
// an unchanged zone is one small request (RFC 1995).
func (d *Driver) Read(ctx context.Context, zone provider.ZoneRef, from provider.ReadFrom) (provider.Page, error) {
	known, err := strconv.ParseUint(from.Mark, 10, 32)
	since := err == nil && from.Known != nil
	asked := "AXFR"
	m := new(dns.Msg).SetAxfr(zone.Name.String())
	if since {
		asked = "IXFR"
		m = new(dns.Msg).SetIxfr(zone.Name.String(), uint32(known), ".", ".")
	}
	start := time.Now()
	all, err := d.transfer(ctx, zone, m, asked)
	d.observe(ctx, asked, zone.Name.String(), start, 0, err)
	if err != nil {
		return provider.Page{}, err
	}
	first, ok := all[0].(*dns.SOA)
	if !ok {
		return provider.Page{}, d.client.Unreadable(asked+" "+zone.Name.String(), errors.New("the transfer does not begin with a SOA"))
	}
	page := provider.Page{Mark: strconv.FormatUint(uint64(first.Serial), 10)}
	if since && (len(all) == 1 || first.Serial == uint32(known)) {
		page.Unchanged = true
		return page, nil
	}
	if len(all) > 2 {
		if second, ok := all[1].(*dns.SOA); ok && since && second.Serial == uint32(known) {
			page.Since, err = d.differences(*from.Known, all[1:len(all)-1])
			return page, err
		}
	}
	for _, rr := range all[:max(1, len(all)-1)] { // the last is the SOA again
		if err := d.add(&page.Records, rr); err != nil {
			return provider.Page{}, err
		}
	}
	return page, nil
}

// transfer returns all records of a transfer, from the first SOA to the last.
func (d *Driver) transfer(ctx context.Context, zone provider.ZoneRef, m *dns.Msg, asked string) ([]dns.RR, error) {
	name := zone.Name.String()
	conn, err := d.connect(ctx, asked, name)
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Now()) })
	defer stop()
	m.SetTsig(d.key.name, d.key.algorithm, fudge, time.Now().Unix())
	t := &dns.Transfer{Conn: &dns.Conn{Conn: open{conn.Conn}, TsigSecret: conn.TsigSecret}, TsigSecret: conn.TsigSecret, ReadTimeout: time.Minute, WriteTimeout: time.Minute}
	parts, err := t.In(m, "")
	if err != nil {
		conn.Close()
		return nil, d.fail(asked, name, outcall.Unavailable, outcall.NotDone, plainReason(err))
	}
	var all []dns.RR
	for part := range parts {
		if part.Error != nil {
			err = part.Error
			continue // the channel is read to its end, so that its sender ends
		}
		all = append(all, part.RR...)
	}
	if err == nil && len(all) > 0 && stop() {
		d.spare.put(conn)
		return all, nil
	}
	conn.Close()
	if err != nil { // it was asked without looking whether the zone is there
		again, connErr := d.connect(ctx, asked, name)
		if connErr != nil {
			return nil, connErr
		}
		defer again.Close()
		if err := d.answers(ctx, again, zone, asked); err != nil {
			return nil, err
		}
	}
	switch {
	case errors.Is(err, dns.ErrAuth), errors.Is(err, dns.ErrSig):
		return nil, d.fail(asked, name, outcall.Unauthorised, outcall.NotDone, err.Error())
	case err != nil && err.Error() == fmt.Sprintf("dns: bad xfr rcode: %d", dns.RcodeRefused), err != nil && err.Error() == fmt.Sprintf("dns: bad xfr rcode: %d", dns.RcodeNotAuth):
		return nil, d.fail(asked, name, outcall.Unauthorised, outcall.NotDone, "the server does not let this key transfer the zone")
	case err != nil:
		return nil, d.fail(asked, name, outcall.Unavailable, outcall.NotDone, plainReason(err))
	case len(all) == 0:
		return nil, d.fail(asked, name, outcall.Unavailable, outcall.NotDone, "the transfer is empty")
	}
	return all, nil
}

// open is a connection that stays open after a transfer.
type open struct{ net.Conn }

// Close leaves it open.
func (open) Close() error { return nil }

// answers returns an error where the server does not answer for a zone, or does not give it to this key: it says so more clearly to a question for
// the SOA than to a transfer.
func (d *Driver) answers(ctx context.Context, conn *dns.Conn, zone provider.ZoneRef, asked string) error {
	soa, err := d.soa(ctx, conn, zone.Name)
	var told *outcall.Error
	if err == nil && soa == nil || errors.As(err, &told) && told.Said == "REFUSED" {
		return d.fail(asked, zone.Name.String(), outcall.NotFound, outcall.NotDone, "the server does not answer for this zone")
	}
	return err
}

// differences applies the sequences of a transfer of differences (RFC 1995 section 4): the old SOA and what goes, the new
// SOA and what comes, again and again.
func (d *Driver) differences(known record.Contents, sequences []dns.RR) (*provider.Since, error) {
	now := map[record.Key]record.Set{}
	adding := true
	for _, rr := range sequences {
		if rr.Header().Rrtype == dns.TypeSOA {
			adding = !adding
			continue
		}
		var list []record.Record
		if err := d.add(&list, rr); err != nil {
			return nil, err
		}
		for _, r := range list {
			set, touched := now[r.Key()]
			if !touched {
				set = known.Get(r.Key())
			}
			if adding {
				set = record.NewSet(r.Name, r.Type, r.TTL, append(slices.Clone(set.Data), r.Data)...)
			} else {
				set.Data = slices.DeleteFunc(slices.Clone(set.Data), func(d record.Data) bool { return d == r.Data })
			}
			now[r.Key()] = set
		}
	}
	since := &provider.Since{}
	for key, set := range now {
		switch {
		case len(set.Data) == 0:
			since.Gone = append(since.Gone, key)
		case !set.Equal(known.Get(key)):
			since.Sets = append(since.Sets, set)
		}
	}
	return since, nil
}

// add takes over a record, unless it is the server's own.
func (d *Driver) add(list *[]record.Record, rr dns.RR) error {
	if slices.Contains(serversOwn, rr.Header().Rrtype) {
		return nil
	}
	r, err := record.FromRR(rr)
	if err != nil {
		return d.client.Unreadable("transfer", err)
	}
	*list = append(*list, r)
	return nil
}
