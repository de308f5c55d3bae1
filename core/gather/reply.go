package gather

import (
	"slices"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// replyKind is what an answer means.
type replyKind int

const (
	unheard  replyKind = iota // nothing usable came
	positive                  // the name has data: of the type, or a CNAME
	noData                    // the name exists
	noName                    // it does not, and nothing below it
	referral                  // it is at or below a delegation
	foreign                   // another zone on the same server has it
)

// typeNone is the type that stands for a name that does not exist, in the bitmap of a compact denial (RFC 9824 section 3.1).
const typeNone = 128

// reply is one answer, read.
type reply struct {
	kind      replyKind
	sets      []record.Set // owned by the name, or a DNAME above it
	owner     dnsname.Name // the apex that answered, of a negative answer; the cut of a referral
	cut       record.Set   // the NS set of a referral
	glue      []record.Set // addresses that came with it
	madeUp    bool         // the denial was made for this question
	wildcard  bool         // signatures show that a wildcard stands behind the data (RFC 4035 section 5.3.4)
	next      dnsname.Name // the NSEC record of the name: the next one, and which types the name has
	types     []record.Type
	hashed    []*dns.NSEC3
	serial    uint32
	hasSerial bool
}

// read returns what an answer to a question about a zone means; m is nil where none came.
func read(zone dnsname.Name, q record.Key, m *dns.Msg) (r reply) {
	if m == nil || m.Rcode != dns.RcodeSuccess && m.Rcode != dns.RcodeNameError {
		return r
	}
	r.readDenial(zone, q, append(append([]dns.RR(nil), m.Ns...), m.Answer...))
	r.readAnswer(zone, q, m.Answer)
	switch {
	case len(r.sets) > 0 && m.Authoritative:
		r.kind = positive
	case !m.Authoritative && m.Rcode == dns.RcodeSuccess:
		r.readReferral(zone, q, m)
	case !m.Authoritative:
	case r.owner.IsBelow(zone):
		r.kind = foreign
	case m.Rcode == dns.RcodeNameError && len(m.Answer) == 0:
		r.kind = noName
	default:
		r.kind = noData
	}
	if r.kind == noData && (r.madeUp && saysNone(r.types)) {
		r.kind = noName
	}
	return r
}

// byPlace reports whether an answer depends on the network that it was asked for: it names a part of that (RFC 7871 section 7.1.2).
func byPlace(m *dns.Msg) bool {
	opt := m.IsEdns0()
	if opt == nil {
		return false
	}
	return slices.ContainsFunc(opt.Option, func(o dns.EDNS0) bool {
		subnet, ok := o.(*dns.EDNS0_SUBNET)
		return ok && subnet.SourceScope > 0
	})
}

// readAnswer takes what the name itself owns: what an alias leads to is the business of other names.
func (r *reply) readAnswer(zone dnsname.Name, q record.Key, answer []dns.RR) {
	found := map[record.Key][]record.Record{}
	var order []record.Key
	for _, rr := range answer {
		if sig, ok := rr.(*dns.RRSIG); ok {
			owner, err := dnsname.Parse(sig.Hdr.Name)
			r.wildcard = r.wildcard || err == nil && owner == q.Name && !owner.IsWildcard() && int(sig.Labels) < owner.NumLabels()
			continue
		}
		one, err := record.FromRR(rr)
		if err != nil || !one.Name.IsAtOrBelow(zone) {
			continue
		}
		above := one.Type == record.DNAME && q.Name.IsBelow(one.Name)
		if above || one.Name == q.Name && (one.Type == q.Type || one.Type == record.CNAME) {
			if found[one.Key()] == nil {
				order = append(order, one.Key())
			}
			found[one.Key()] = append(found[one.Key()], one)
		}
	}
	for _, k := range order {
		if k.Type == record.DNAME { // its CNAME is made for the question (RFC 6672 section 3.1)
			r.sets = []record.Set{record.SetOf(found[k])}
			return
		}
		r.sets = append(r.sets, setOf(k, found[k]))
	}
}

// setOf is a set of records in any order.
func setOf(k record.Key, list []record.Record) record.Set {
	var ttl uint32
	data := make([]record.Data, len(list))
	for i, one := range list {
		data[i], ttl = one.Data, max(ttl, one.TTL)
	}
	return record.NewSet(k.Name, k.Type, ttl, data...)
}

// readDenial takes the SOA and the proofs of an answer.
func (r *reply) readDenial(zone dnsname.Name, q record.Key, list []dns.RR) {
	for _, rr := range list {
		owner, err := dnsname.Parse(rr.Header().Name)
		if err != nil || !owner.IsAtOrBelow(zone) {
			continue
		}
		switch rr := rr.(type) {
		case *dns.SOA:
			r.owner, r.serial, r.hasSerial = owner, rr.Serial, true
		case *dns.NSEC3:
			r.hashed = append(r.hashed, rr)
		case *dns.NSEC:
			next, err := dnsname.Parse(rr.NextDomain)
			if err != nil || owner != q.Name {
				continue
			}
			r.next, r.types, r.madeUp = next, typesIn(rr.TypeBitMap), isSuccessor(owner, next)
		}
	}
}

func typesIn(bits []uint16) (list []record.Type) {
	for _, t := range bits {
		list = append(list, record.Type(t))
	}
	return list
}

// saysNone reports whether the bitmap of a denial that was made for a question says that the name does not exist: by the type for it, or since it has nothing but its
// own proof, as empty non-terminals do too.
func saysNone(types []record.Type) bool {
	for _, t := range types {
		if t == typeNone {
			return true
		}
	}
	return false
}

// isSuccessor reports whether next is the first name that could follow owner, so that the record between them was made for a question (RFC 4470 section 3.1).
func isSuccessor(owner, next dnsname.Name) bool {
	if !next.IsBelow(owner) || next.NumLabels() != owner.NumLabels()+1 {
		return false
	}
	wire := next.AppendWire(nil)
	return len(wire) > 2 && wire[0] == 1 && wire[1] == 0
}

// readReferral takes the delegation that an answer without authority refers to.
func (r *reply) readReferral(zone dnsname.Name, q record.Key, m *dns.Msg) {
	var ns []record.Record
	for _, rr := range m.Ns {
		one, err := record.FromRR(rr)
		if err == nil && one.Type == record.NS && one.Name.IsBelow(zone) && q.Name.IsAtOrBelow(one.Name) && (len(ns) == 0 || ns[0].Name == one.Name) {
			ns = append(ns, one)
		}
	}
	if len(ns) == 0 {
		return
	}
	r.kind, r.owner, r.cut = referral, ns[0].Name, setOf(ns[0].Key(), ns)
	glue := map[record.Key][]record.Record{}
	var order []record.Key
	for _, rr := range m.Extra {
		if rr.Header().Rrtype != dns.TypeA && rr.Header().Rrtype != dns.TypeAAAA {
			continue
		}
		one, err := record.FromRR(rr)
		if err != nil || !one.Name.IsAtOrBelow(r.owner) { // other addresses of the zone are asked for by their names
			continue
		}
		if glue[one.Key()] == nil {
			order = append(order, one.Key())
		}
		glue[one.Key()] = append(glue[one.Key()], one)
	}
	for _, k := range order {
		r.glue = append(r.glue, setOf(k, glue[k]))
	}
}
