package update

import (
	"context"
	"errors"
	"strconv"
	"time"

	"github.com/miekg/dns"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/outcall"
)

// mostDifferences is how many records of a transfer of differences are read for each set that was written, before the sets are asked for instead.
const mostDifferences = 20

// errElse means that a transfer of differences does not tell what is asked for, and something else has to.
var errElse = errors.New("the server does not give the differences")

// missing returns the steps whose outcome the server does not have: by the differences since the serial that was known before, which are one
// question, or by asking for each set where there are none. The connection that it leaves open may be another.
func (d *Driver) missing(ctx context.Context, conn *dns.Conn, zone dnsname.Name, steps change.List, mark string) (list change.List, open *dns.Conn, err error) {
	if since, known := d.serial(zone, mark); known {
		start := time.Now()
		list, serial, err := d.unshown(ctx, conn, zone, steps, since)
		d.observe(ctx, "IXFR", zone.String(), start, 0, err)
		if err == nil {
			d.serials.Store(zone, serial)
		}
		if err == nil && len(list) == 0 {
			return nil, conn, nil
		}
		conn.Close() // there may be more of the transfer on it
		if conn, err = d.connect(ctx, "readback", zone.String()); err != nil {
			return nil, nil, unclear(err)
		}
		if len(list) > 0 { // asked once more, in another way
			steps = list
		}
	}
	list, err = d.asked(ctx, conn, zone, steps)
	return list, conn, err
}

// serial is the serial that a zone had before: as it was seen last by this driver, or as the mark says.
func (d *Driver) serial(zone dnsname.Name, mark string) (uint32, bool) {
	if seen, ok := d.serials.Load(zone); ok {
		return seen.(uint32), true
	}
	since, err := strconv.ParseUint(mark, 10, 32)
	return uint32(since), err == nil
}

// unshown reads the differences since a serial (RFC 1995) and returns the steps whose outcome they do not show, and the serial by now.
func (d *Driver) unshown(ctx context.Context, conn *dns.Conn, zone dnsname.Name, steps change.List, since uint32) (list change.List, serial uint32, err error) {
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Now()) })
	defer stop()
	m := new(dns.Msg).SetIxfr(zone.String(), since, ".", ".")
	m.SetTsig(d.key.name, d.key.algorithm, fudge, time.Now().Unix())
	wire, mac, err := dns.TsigGenerate(m, d.key.secret, "", false)
	if err != nil {
		return nil, 0, err
	}
	if _, err := conn.Write(wire); err != nil {
		return nil, 0, err
	}
	now := map[record.Key]map[record.Data]bool{}
	for _, s := range steps {
		data := map[record.Data]bool{}
		for _, one := range s.Before.Data {
			data[one] = true
		}
		now[s.Key()] = data
	}
	adding, read, last := true, 0, false
	for first := true; !last; first = false {
		wire, err := conn.ReadMsgHeader(nil)
		if err != nil {
			return nil, 0, err
		}
		part := new(dns.Msg)
		if err := part.Unpack(wire); err != nil || part.Id != m.Id || part.Rcode != dns.RcodeSuccess || part.IsTsig() == nil {
			return nil, 0, errElse
		}
		if err := dns.TsigVerify(wire, d.key.secret, mac, !first); err != nil {
			return nil, 0, err
		}
		mac = part.IsTsig().MAC
		for _, rr := range part.Answer {
			soa, isSOA := rr.(*dns.SOA)
			switch {
			case read == 0 && !isSOA, read == 1 && !isSOA: // a whole zone instead
				return nil, 0, errElse
			case read == 0:
				serial = soa.Serial
			case isSOA:
				// A sequence ends where the old SOA of the next one comes, and all of them with the newest SOA a second time.
				if adding = !adding; !adding && read > 1 && soa.Serial == serial {
					last = true
				}
			default:
				r, err := record.FromRR(rr)
				if err != nil {
					return nil, 0, err
				}
				if data, ours := now[r.Key()]; ours && adding {
					data[r.Data] = true
				} else if ours {
					delete(data, r.Data)
				}
			}
			if read++; read > mostDifferences*(len(steps)+50) {
				return nil, 0, errElse
			}
		}
		if read == 1 && serial == since { // nothing has changed
			last = true
		}
	}
	for _, s := range steps {
		data := make([]record.Data, 0, len(now[s.Key()]))
		for one := range now[s.Key()] {
			data = append(data, one)
		}
		key := s.Key()
		is := record.NewSet(key.Name, key.Type, 0, data...)
		if len(data) == 0 {
			is = record.Set{}
		}
		if !is.SameData(s.After) && !(is.IsZero() && s.After.IsZero()) {
			list = append(list, s)
		}
	}
	return list, serial, nil
}

// asked asks for the sets that were written, all at once, and returns the steps whose outcome is not there.
func (d *Driver) asked(ctx context.Context, conn *dns.Conn, zone dnsname.Name, steps change.List) (list change.List, err error) {
	questions := make([]*dns.Msg, len(steps))
	for i, s := range steps {
		questions[i] = new(dns.Msg).SetQuestion(s.Key().Name.String(), uint16(s.Key().Type))
	}
	answers, err := d.exchangeAll(ctx, conn, zone, questions, "readback", outcall.Unclear)
	if err != nil {
		return nil, err
	}
	for i, s := range steps {
		there, err := d.there(answers[i], s)
		if err != nil {
			return nil, err
		}
		if !there {
			list = append(list, s)
		}
	}
	return list, nil
}

// there reports whether an answer shows what a step leaves behind.
func (d *Driver) there(res *dns.Msg, s change.Step) (bool, error) {
	key := s.Key()
	if res.Rcode == dns.RcodeNameError {
		res = &dns.Msg{}
	} else if res.Rcode != dns.RcodeSuccess {
		return false, d.told(res, "readback", key.String(), outcall.Unclear, nil)
	}
	var records []record.Record
	for _, rr := range append(append([]dns.RR{}, res.Answer...), delegated(res, key)...) {
		h := rr.Header()
		if h.Rrtype != uint16(key.Type) || dns.CanonicalName(h.Name) != key.Name.String() {
			continue
		}
		if err := d.add(&records, rr); err != nil {
			return false, err
		}
	}
	now := record.NewContents(records).Get(key)
	return now.SameData(s.After) || s.After.IsZero() && now.IsZero() || hidden(res, key), nil
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
