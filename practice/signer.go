package practice

import (
	"crypto"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"
)

// storedKey is a key of a signed zone, as it is kept between runs.
type storedKey struct {
	Public  string `json:"public"`  // a DNSKEY record
	Private string `json:"private"` // in the form of BIND's key files
	Retired bool   `json:"retired"` // still in the key set, and signs nothing
}

// signing is what a zone is signed with.
type signing struct {
	Keys   []storedKey `json:"keys"`
	Broken bool        `json:"broken"` // its signatures are wrong on purpose
}

// newKey makes a key that signs everything in a zone (RFC 6781 section 3.1.4.2 calls it a single-type signing scheme).
func newKey(zone string) (storedKey, error) {
	k := &dns.DNSKEY{Hdr: dns.RR_Header{Name: zone, Rrtype: dns.TypeDNSKEY, Class: dns.ClassINET, Ttl: 3600}, Flags: dns.ZONE | dns.SEP, Protocol: 3, Algorithm: dns.ECDSAP256SHA256}
	private, err := k.Generate(256)
	if err != nil {
		return storedKey{}, err
	}
	return storedKey{Public: k.String(), Private: k.PrivateKeyString(private)}, nil
}

// signer signs the answers of one zone.
type signer struct {
	zone    *zoneData
	keys    []*dns.DNSKEY
	private []crypto.Signer
	now     func() time.Time
	broken  bool

	mu    sync.Mutex
	made  map[string][]dns.RR // signatures by name, type and TTL
	chain []string            // names of the zone in canonical order, once they were needed
}

// sign has a zone signed with these keys: the key set is put into it, and signatures are made as they are asked for.
func (z *zoneData) sign(with *signing, now func() time.Time) error {
	s := &signer{zone: z, now: now, broken: with.Broken, made: map[string][]dns.RR{}}
	for _, stored := range with.Keys {
		rr, err := dns.NewRR(stored.Public)
		if err != nil {
			return err
		}
		k := rr.(*dns.DNSKEY)
		z.add(k)
		private, err := k.NewPrivateKey(stored.Private)
		if err != nil {
			return err
		}
		signs, ok := private.(crypto.Signer)
		if !ok {
			return fmt.Errorf("the key of %s cannot sign", z.name)
		}
		if !stored.Retired {
			s.keys, s.private = append(s.keys, k), append(s.private, signs)
		}
	}
	z.signer = s
	return nil
}

// span is how long before and after now signatures are valid: longer than the world's clock can run ahead of the wall's in a test.
const span = 30 * 24 * time.Hour

// over returns the signatures of a set.
func (s *signer) over(set []dns.RR) []dns.RR {
	h := set[0].Header()
	key := fmt.Sprintf("%s %d %d", strings.ToLower(h.Name), h.Rrtype, h.Ttl)
	s.mu.Lock()
	defer s.mu.Unlock()
	if made, ok := s.made[key]; ok {
		return made
	}
	var sigs []dns.RR
	from, until := s.now(), s.now()
	if wall := time.Now(); wall.Before(from) {
		from = wall
	} else {
		until = wall
	}
	for i, k := range s.keys {
		sig := &dns.RRSIG{Hdr: dns.RR_Header{Ttl: h.Ttl}, Algorithm: k.Algorithm, KeyTag: k.KeyTag(), SignerName: s.zone.name,
			Inception: uint32(from.Add(-24 * time.Hour).Unix()), Expiration: uint32(until.Add(span).Unix())}
		if err := sig.Sign(s.private[i], set); err != nil {
			continue // a set that cannot be signed goes without, which validators then say
		}
		if s.broken && h.Rrtype != dns.TypeDNSKEY {
			sig.Expiration++ // what was signed said otherwise
		}
		sigs = append(sigs, sig)
	}
	s.made[key] = sigs
	return sigs
}

// complete adds signatures, and proofs of what is not there (RFC 4035 section 3.1), to an answer about a name and type.
func (s *signer) complete(q dns.Question, m *dns.Msg) {
	name := dns.CanonicalName(q.Name)
	referral := len(m.Answer) == 0 && !m.Authoritative
	if referral {
		cut := dns.CanonicalName(m.Ns[0].Header().Name)
		if ds := s.zone.sets[cut][dns.TypeDS]; len(ds) > 0 {
			m.Ns = append(append(m.Ns, ds...), s.over(ds)...)
		} else {
			m.Ns = append(m.Ns, s.denied(cut)...)
		}
		return
	}
	last := name
	for _, set := range setsIn(m.Answer) {
		owner := dns.CanonicalName(set[0].Header().Name)
		sigs := s.of(owner, set)
		m.Answer = append(m.Answer, sigs...)
		if _, own := s.zone.sets[owner]; !own { // from a wildcard: the name itself is not there
			m.Ns = append(m.Ns, s.denied(owner)...)
		}
		if c, ok := set[0].(*dns.CNAME); ok && q.Qtype != dns.TypeCNAME {
			last = dns.CanonicalName(c.Target)
		}
	}
	for _, set := range setsIn(m.Ns) {
		if set[0].Header().Rrtype != dns.TypeNSEC {
			m.Ns = append(m.Ns, s.over(set)...)
		}
	}
	answered := slices.ContainsFunc(m.Answer, func(rr dns.RR) bool { return rr.Header().Rrtype == q.Qtype })
	if answered || !dns.IsSubDomain(s.zone.name, last) {
		return
	}
	m.Ns = append(m.Ns, s.denied(last)...)
	if _, exists := s.zone.lookup(last); !exists {
		m.Ns = append(m.Ns, s.denied("*."+s.encloser(last))...)
	}
	m.Ns = once(m.Ns)
}

// of signs a set as it is in the zone: one that a wildcard gave is signed under the wildcard's name.
func (s *signer) of(owner string, set []dns.RR) []dns.RR {
	if _, own := s.zone.sets[owner]; own {
		return s.over(set)
	}
	wild := renamed(set, "*."+s.encloser(owner))
	var sigs []dns.RR
	for _, sig := range s.over(wild) {
		with := dns.Copy(sig)
		with.Header().Name = owner
		sigs = append(sigs, with)
	}
	return sigs
}

// encloser is the closest name above one that is there (RFC 4592 section 3.3.1).
func (s *signer) encloser(name string) string {
	for at, end := dns.NextLabel(name, 0); !end; at, end = dns.NextLabel(name, at) {
		if _, exists := s.zone.lookup(name[at:]); exists || name[at:] == s.zone.name {
			return name[at:]
		}
	}
	return s.zone.name
}

// denied is the NSEC record that shows what is at a name, or that nothing is, with its signatures.
func (s *signer) denied(name string) []dns.RR {
	chain := s.names()
	i, there := slices.BinarySearchFunc(chain, name, compareNames)
	if !there {
		i = (i + len(chain) - 1) % len(chain)
	}
	owner := chain[i]
	n := &dns.NSEC{Hdr: dns.RR_Header{Name: owner, Rrtype: dns.TypeNSEC, Class: dns.ClassINET, Ttl: 300}, NextDomain: chain[(i+1)%len(chain)]}
	types := map[uint16]bool{dns.TypeNSEC: true, dns.TypeRRSIG: true}
	cut := s.zone.cut(owner, dns.TypeNS) == owner
	for t := range s.zone.sets[owner] {
		if !cut || t == dns.TypeNS || t == dns.TypeDS {
			types[t] = true
		}
	}
	for t := range types {
		n.TypeBitMap = append(n.TypeBitMap, t)
	}
	slices.Sort(n.TypeBitMap)
	return append([]dns.RR{n}, s.over([]dns.RR{n})...)
}

// names are the names of the zone that NSEC records stand at: what is below a delegation is none of them.
func (s *signer) names() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.chain == nil {
		for name := range s.zone.sets {
			if at := s.zone.cut(name, dns.TypeNS); at == "" || at == name {
				s.chain = append(s.chain, name)
			}
		}
		slices.SortFunc(s.chain, compareNames)
	}
	return s.chain
}

// compareNames orders names as RFC 4034 section 6.1 does.
func compareNames(a, b string) int {
	x, y := dns.SplitDomainName(strings.ToLower(a)), dns.SplitDomainName(strings.ToLower(b))
	slices.Reverse(x)
	slices.Reverse(y)
	return slices.Compare(x, y)
}

// setsIn returns the record sets of a section, without signatures.
func setsIn(section []dns.RR) (list [][]dns.RR) {
	at := map[string]int{}
	for _, rr := range section {
		h := rr.Header()
		if h.Rrtype == dns.TypeRRSIG {
			continue
		}
		key := fmt.Sprintf("%s %d", strings.ToLower(h.Name), h.Rrtype)
		i, known := at[key]
		if !known {
			i = len(list)
			at[key], list = i, append(list, nil)
		}
		list[i] = append(list[i], rr)
	}
	return list
}

// once leaves out what is there twice.
func once(section []dns.RR) []dns.RR {
	seen := map[string]bool{}
	return slices.DeleteFunc(section, func(rr dns.RR) bool {
		text := rr.String()
		again := seen[text]
		seen[text] = true
		return again
	})
}

// Sign has a zone of this world signed from now on, and returns its DS records; the root's are the anchor. Where at is a provider, only that one signs it, with keys of
// its own. roll adds another key, which signs from then on; the ones before stay in the key set until forget is asked for.
func (w *World) Sign(zone, at string, roll, forget, broken bool) (ds []string, err error) {
	zone = dns.CanonicalName(zone)
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.zones[zone] == nil {
		return nil, fmt.Errorf("there is no zone %s", zone)
	}
	if w.state.Signed == nil {
		w.state.Signed = map[string]*signing{}
	}
	key := zone
	if at != "" {
		key += "@" + at
	}
	with := w.state.Signed[key]
	if with == nil {
		with = &signing{}
		w.state.Signed[key] = with
	}
	with.Broken = broken
	if roll || len(with.Keys) == 0 {
		k, err := newKey(zone)
		if err != nil {
			return nil, err
		}
		for i := range with.Keys {
			with.Keys[i].Retired = true
		}
		with.Keys = append(with.Keys, k)
	}
	if forget {
		with.Keys = slices.DeleteFunc(with.Keys, func(k storedKey) bool { return k.Retired })
	}
	w.changed()
	return with.ds()
}

// ds are the DS records of the keys that sign.
func (s *signing) ds() (list []string, err error) {
	for _, k := range s.Keys {
		rr, err := dns.NewRR(k.Public)
		if err != nil {
			return nil, err
		}
		if d := rr.(*dns.DNSKEY).ToDS(dns.SHA256); d != nil && !k.Retired {
			list = append(list, strings.TrimPrefix(d.String(), d.Hdr.String()))
		}
	}
	return list, nil
}

// Anchor is the DS record of the root's key in master-file form; empty where the root is not signed.
func (w *World) Anchor() string {
	w.mu.RLock()
	defer w.mu.RUnlock()
	with := w.state.Signed["."]
	if with == nil {
		return ""
	}
	list, err := with.ds()
	if err != nil || len(list) == 0 {
		return ""
	}
	return ". IN DS " + list[0] + "\n"
}

// signAll signs the zones that are to be, and has parents in this world publish the DS of their signed top-level zones.
func (w *World) signAll(zones map[string][]*zoneData) {
	for _, top := range []string{"example.", "test."} {
		if with := w.state.Signed[top]; with != nil {
			list, err := with.ds()
			if err != nil {
				w.opt.Log.Error("a zone cannot be signed", "zone", top, "error", err)
			}
			for _, ds := range list {
				zones["."][0].line("%s 86400 IN DS %s", top, ds)
			}
		}
	}
	for key, with := range w.state.Signed {
		name, at, own := strings.Cut(key, "@")
		for _, z := range zones[name] {
			if own && z.at != at || !own && w.state.Signed[name+"@"+z.at] != nil {
				continue
			}
			if err := z.sign(with, w.clock.now); err != nil {
				w.opt.Log.Error("a zone cannot be signed", "zone", name, "error", err)
			}
		}
	}
}
