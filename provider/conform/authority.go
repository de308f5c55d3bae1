package conform

import (
	"errors"
	"fmt"

	"beacon/checklist"
	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/soa"
	"beacon/outcall"
	"beacon/provider"
)

// authority sets each field of the SOA record that can be set, sees whether it is so and the others are as before, and that a change from an older
// read is refused. The record is left as it was found.
func (r *run) authority() (err error) {
	if len(r.caps.SOA) == 0 {
		return checklist.NotApplicable("no field of it can be set")
	}
	driver, ok := r.Driver.(provider.Authority)
	if !ok {
		return errors.New("fields of the SOA record can be set, as declared, and the driver does not read them")
	}
	read := func() (p soa.Parameters, err error) {
		set, err := driver.SOA(r.ctx, r.zone.Ref)
		if err != nil {
			return p, err
		}
		p, ok := soa.Of(set)
		return p, checklist.Want(ok && set.Equal(soa.Unnumbered(set)), "what is read is %s, and should be a SOA record with serial 0", set)
	}
	found, err := read()
	if err != nil {
		return err
	}
	write := func(from, to soa.Parameters) error {
		step := change.Step{Before: from.Record(r.Zone), After: to.Record(r.Zone)}
		_, err := r.Driver.Apply(r.ctx, r.zone.Ref, change.Batch{Steps: change.List{step}})
		return err
	}
	now := found
	defer func() {
		if now != found {
			err = errors.Join(err, write(now, found))
		}
	}()
	for i, field := range r.caps.SOA {
		want := different(now, field, i)
		if err := write(now, want); err != nil {
			return fmt.Errorf("%s: %w", field, err)
		}
		is, err := read()
		if err != nil {
			return err
		}
		if is != want {
			return fmt.Errorf("%s was set: the fields are %s, and should be %s", field, is, want)
		}
		now = is
	}
	if now == found {
		return nil
	}
	return checklist.WantKind(write(found, different(found, r.caps.SOA[0], 7)), outcall.Conflict)
}

// different returns parameters that differ in one field, by a value that any zone may have.
func different(p soa.Parameters, field string, i int) soa.Parameters {
	q := soa.Parameters{MName: dnsname.MustParse("ns1.scratch.example"), RName: dnsname.MustParse("hostmaster.scratch.example"),
		Refresh: 7300, Retry: 1900, Expire: 1209700, Minimum: 420, TTL: 1820}
	for by := uint32(i); ; by++ {
		if with := q.Only([]string{field}).Over(p); with != p {
			return with
		}
		q.Refresh, q.Retry, q.Expire, q.Minimum, q.TTL = q.Refresh+by, q.Retry+by, q.Expire+by, q.Minimum+by, q.TTL+by
		q.MName, q.RName = dnsname.MustParse("ns2.scratch.example"), dnsname.MustParse("postmaster.scratch.example")
	}
}
