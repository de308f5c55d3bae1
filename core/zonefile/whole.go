package zonefile

import (
	"beacon/core/dnsname"
	"beacon/core/record"
)

// Whole returns what keeps z from being the whole zone of that name: it has records, exactly one SOA record, at its apex, and
// apex NS records (RFC 1035 section 5.2). Faults name the file.
func (z Zone) Whole(name dnsname.Name, file string) (faults []Fault) {
	fault := func(at Place, message, remedy string) {
		faults = append(faults, Fault{File: file, Line: at.Line, Column: at.Column, Message: message, Remedy: remedy})
	}
	start := Place{1, 1}
	if len(z.Records) == 0 {
		fault(start, "the file has no records", "check that it is the right file; to remove the records of a zone, edit the zone")
		return faults
	}
	soa, ns := 0, 0
	for i, r := range z.Records {
		switch {
		case r.Type == record.SOA && r.Name != name:
			fault(z.Places[i], "the SOA record of "+r.Name.Unicode()+" is in the zone "+name.Unicode(), "check the name of the zone and the $ORIGIN lines")
		case r.Type == record.SOA:
			if soa++; soa > 1 {
				fault(z.Places[i], "the zone has a second SOA record", "remove one of them")
			}
		case r.Type == record.NS && r.Name == name:
			ns++
		}
	}
	if soa == 0 {
		fault(start, "the zone has no SOA record", partialRemedy)
	}
	if ns == 0 {
		fault(start, "the zone has no NS records at its apex", partialRemedy)
	}
	return faults
}

const partialRemedy = "check that the file is complete; for a list of records without them, repeat with --partial"

// Empty returns the fault of a file without records.
func (z Zone) Empty(file string) []Fault {
	if len(z.Records) > 0 {
		return nil
	}
	return z.Whole(dnsname.Root, file)
}
