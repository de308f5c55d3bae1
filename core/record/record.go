package record

import (
	"cmp"
	"fmt"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/core/rdata"
)

// MaxTTL is the largest TTL that may be sent, in seconds (RFC 2181 section 8).
const MaxTTL = 1<<31 - 1

// Record is one resource record of class IN.
type Record struct {
	Name dnsname.Name `json:"name"`
	TTL  uint32       `json:"ttl"` // seconds
	Type Type         `json:"type"`
	Data Data         `json:"data"`
}

// FromRR returns a record as it came from the wire.
func FromRR(rr dns.RR) (Record, error) {
	h := rr.Header()
	name, err := dnsname.Parse(h.Name)
	if err != nil {
		return Record{}, err
	}
	buf := make([]byte, dns.Len(rr)+64)
	end, err := dns.PackRR(rr, buf, 0, nil, false)
	if err != nil {
		return Record{}, fmt.Errorf("data of %s %s: %w", name, Type(h.Rrtype), err)
	}
	wire := buf[end-int(rr.Header().Rdlength) : end]
	data, err := rdata.Print(h.Rrtype, wire)
	if err != nil {
		data = rdata.Generic(wire) // one odd record must not hide the others
	}
	return Record{name, h.Ttl, Type(h.Rrtype), Data(data)}, nil
}

// Compare orders records by name, type and data; the TTL does not count.
func (r Record) Compare(s Record) int {
	if c := r.Name.Compare(s.Name); c != 0 {
		return c
	}
	return cmp.Or(cmp.Compare(r.Type, s.Type), cmp.Compare(r.Data, s.Data))
}

// Key is the record set that r belongs to.
func (r Record) Key() Key { return Key{r.Name, r.Type} }

// String prints the record as one canonical master-file line.
func (r Record) String() string {
	return fmt.Sprintf("%s %d IN %s %s", r.Name, r.TTL, r.Type, r.Data)
}

// Key names a record set: all records of one name and type (RFC 2181 section 5).
type Key struct {
	Name dnsname.Name `json:"name" required:"true"`
	Type Type         `json:"type" required:"true"`
}

// Compare orders keys by name, then type.
func (k Key) Compare(l Key) int {
	if c := k.Name.Compare(l.Name); c != 0 {
		return c
	}
	return cmp.Compare(k.Type, l.Type)
}

func (k Key) String() string { return k.Name.String() + " " + k.Type.String() }
