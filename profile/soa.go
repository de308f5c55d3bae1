package profile

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"beacon/core/change"
	"beacon/core/record"
	"beacon/core/soa"
	"beacon/outcall"
	"beacon/provider"
)

// soaCalls are the requests about the fields of the SOA record.
type soaCalls struct{ read, write *call }

// soa takes how the fields are read and set, and which there are.
func (r *reader) soa(n *yaml.Node, zone []string) (*soaCalls, []string) {
	s := r.section(n, "soa", "!fields", "!read", "!write")
	var fields []string
	for _, f := range s.list("fields") {
		if !slices.Contains(soa.Fields, f.Value) {
			r.fault(f, "Use some of: "+strings.Join(soa.Fields, ", ")+".", "%q is no field of an SOA record that can be set", f.Value)
		}
		fields = append(fields, f.Value)
	}
	if s.has("fields") && len(fields) == 0 {
		r.fault(s.at["fields"], "Leave soa out where none can be set.", "fields lists which can be set")
	}
	calls := &soaCalls{}
	if n := s.at["read"]; n != nil {
		calls.read = r.call(n, "soa.read", zone, "!one")
	}
	if n := s.at["write"]; n != nil {
		calls.write = r.call(n, "soa.write", zone, "body", "type")
	}
	return calls, fields
}

// shapeSOA returns the given fields as expressions see them: times as numbers, names with final dot, and contact, which is rname as a mail address.
func shapeSOA(p soa.Parameters) map[string]any {
	shape := map[string]any{}
	for _, field := range p.Given() {
		shape[field] = p.Get(field)
		if seconds, err := strconv.Atoi(p.Get(field)); err == nil {
			shape[field] = seconds
		}
	}
	if !p.RName.IsZero() {
		shape["rname"], shape["contact"] = p.RName.String(), p.Get("rname")
	}
	return shape
}

// SOA returns the zone's SOA set, with serial 0 and the fields that the interface tells of.
func (d *Driver) SOA(ctx context.Context, zone provider.ZoneRef) (set record.Set, err error) {
	if d.profile.soa == nil {
		return set, nil
	}
	c := d.profile.soa.read
	a, err := d.do(ctx, c, question{zone: zone})
	if err != nil {
		return set, err
	}
	items, err := d.results(ctx, "one", c.one, a)
	if err != nil {
		return set, err
	}
	if len(items) != 1 {
		return set, d.client.Unreadable(a.asked, fmt.Errorf("%d times the fields of an SOA record in the answer, not once", len(items)))
	}
	p, err := readSOA(items[0])
	if err != nil {
		return set, d.client.Unreadable(a.asked, err)
	}
	return p.Record(zone.Name), nil
}

// readSOA reads the object that a profile makes of an answer.
func readSOA(text json.RawMessage) (p soa.Parameters, err error) {
	var fields map[string]*word
	if err := json.Unmarshal(text, &fields); err != nil {
		return p, fmt.Errorf("the fields of an SOA record are an object of names and times: %w", err)
	}
	for name, value := range fields {
		if value == nil || *value == "0" {
			continue
		}
		if err := p.Set(name, string(*value)); err != nil {
			return p, err
		}
	}
	return p, nil
}

// setSOA sets fields, unless they have changed since they were read.
func (d *Driver) setSOA(ctx context.Context, zone provider.ZoneRef, step change.Step) error {
	if d.profile.soa == nil {
		return d.cannot("the SOA record cannot be changed through this interface")
	}
	now, err := d.SOA(ctx, zone)
	if err != nil {
		return err
	}
	if !now.Equal(step.Before) {
		return &outcall.Error{Kind: outcall.Conflict, Outcome: outcall.NotSent, Account: d.client.Account, Asked: "profile " + d.profile.Name, Said: "the SOA record has changed since it was read"}
	}
	desired, _ := soa.Of(step.After)
	_, err = d.do(ctx, d.profile.soa.write, question{zone: zone, body: writeShape{Zone: shapeZone(zone), SOA: shapeSOA(desired)}})
	return err
}
