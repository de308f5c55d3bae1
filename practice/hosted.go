package practice

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// poolOptions describe a provider's nameservers: how many there are, and how many each zone gets.
type poolOptions struct {
	prefix        string
	size, perZone int
	octet         int
}

// providerState is what a DNS provider keeps.
type providerState struct {
	name  string
	pool  poolOptions
	Made  int                    `json:"made"` // zones ever made
	Zones map[string]*hostedZone `json:"zones"`
}

// hostedZone is a zone at a provider. Its SOA and apex NS are the provider's own.
type hostedZone struct {
	ID      string   `json:"id"`
	Name    string   `json:"name"`
	Servers []int    `json:"servers"` // which of the pool
	Serial  uint32   `json:"serial"`
	NSTTL   uint32   `json:"ns_ttl"`
	Records []string `json:"records"` // in master-file form, sorted, without SOA and apex NS
	// Journal notes every record set that was ever put or dropped, so that doing something twice can be seen.
	Journal []string `json:"journal"`

	Start    *startOfZone      `json:"start,omitempty"` // fields of the SOA record that the customer set; nil for the provider's own
	Relay    map[string]bool   `json:"relay,omitempty"` // Heron: sets by name and type
	Refs     map[string]string `json:"refs,omitempty"`  // Curlew: identifiers of records
	Memos    map[string]string `json:"memos,omitempty"` // Curlew: notes on records
	Numbered int               `json:"numbered,omitempty"`

	before    *hostedZone // the version before the last change
	history   []version   // earlier versions, oldest first
	changedAt time.Time

	built   *zoneData // what it was served as last, and
	builtOf string    // what that was made of
}

// madeOf says all that a zone is served from.
func (h *hostedZone) madeOf(p *providerState) string {
	return fmt.Sprint(p.name, p.soaLine(h), h.NSTTL, h.Servers, h.Relay, h.Records)
}

const defaultNSTTL = 600

// startOfZone is what a customer decides about an SOA record.
type startOfZone struct {
	Contact  string `json:"contact"` // a mail address
	Refresh  uint32 `json:"refresh"` // seconds, as are the others
	Retry    uint32 `json:"retry"`
	Expire   uint32 `json:"expire"`
	Negative uint32 `json:"negative"` // how long caches keep that a name does not exist
}

// startOf returns what the SOA record of a zone says.
func (p *providerState) startOf(z *hostedZone) startOfZone {
	if z.Start != nil {
		return *z.Start
	}
	return startOfZone{"hostmaster@" + p.name + ".test", 3600, 600, 86400, 300}
}

// soaLine returns the SOA record of a zone.
func (p *providerState) soaLine(z *hostedZone) string {
	s := p.startOf(z)
	local, domain, _ := strings.Cut(s.Contact, "@")
	return fmt.Sprintf("%s 3600 IN SOA %s %s.%s. %d %d %d %d %d", z.Name, p.serverName(z.Servers[0]), strings.ReplaceAll(local, ".", `\.`), domain,
		z.Serial, s.Refresh, s.Retry, s.Expire, s.Negative)
}

// create makes a zone and gives it nameservers; consecutive zones get sets that differ in a character.
func (p *providerState) create(name string) *hostedZone {
	z := &hostedZone{ID: fmt.Sprintf("%s-%04x", p.name[:1], 0x2a1+7*p.Made), Name: name, Serial: 1, NSTTL: defaultNSTTL}
	for i := range p.pool.perZone {
		z.Servers = append(z.Servers, (p.Made+i*p.pool.size/p.pool.perZone)%p.pool.size)
	}
	slices.Sort(z.Servers)
	p.Made++
	p.Zones[name] = z
	return z
}

// createAnother makes one more zone of a name. Its nameservers are none of the others'.
func (p *providerState) createAnother(name string) *hostedZone {
	others, taken := p.Zones[name], map[int]bool{}
	for _, z := range p.Zones {
		if z.Name == name {
			for _, i := range z.Servers {
				taken[i] = true
			}
		}
	}
	z := p.create(name)
	for slices.ContainsFunc(z.Servers, func(i int) bool { return taken[i] }) {
		p.Zones[name] = others
		if z = p.create(name); p.Made > 1000 {
			break // there are no more of them
		}
	}
	p.Zones[name] = others
	p.Zones[fmt.Sprintf("%s another %s", name, z.ID)] = z
	return z
}

func (p *providerState) serverName(i int) string {
	return fmt.Sprintf("%s%d.%s.test.", p.pool.prefix, 11+i, p.name)
}

func (p *providerState) nameservers(z *hostedZone) []string {
	var out []string
	for _, i := range z.Servers {
		out = append(out, p.serverName(i))
	}
	return out
}

func (p *providerState) byID(id string) *hostedZone {
	for _, z := range p.Zones {
		if z.ID == id {
			return z
		}
	}
	return nil
}

// changesTo returns which sets differ between the zone's records and new ones, as the journal has it.
func (z *hostedZone) changesTo(records []string) (changes []string) {
	before, after := setsOf(z.Records), setsOf(records)
	for key, data := range after {
		if before[key] != data {
			changes = append(changes, "put "+key)
		}
	}
	for key := range before {
		if _, stays := after[key]; !stays {
			changes = append(changes, "drop "+key)
		}
	}
	return changes
}

// replace puts new records in place of all, and notes what was asked for.
func (z *hostedZone) replace(records, changes []string) {
	was := *z
	was.before = nil
	z.before, z.changedAt = &was, time.Now()
	z.remember(z.changedAt)
	z.Journal = append(z.Journal, changes...)
	slices.Sort(records)
	z.Records = records
	z.Serial++
}

func setsOf(records []string) map[string]string {
	sets := map[string]string{}
	sorted := slices.Clone(records)
	slices.Sort(sorted)
	for _, line := range sorted {
		if f := strings.Fields(line); f[3] == "FOLLOW" {
			sets[f[0]+" FOLLOW"] += line + "\n"
		} else if rr, err := dns.NewRR(line); err == nil && rr != nil {
			h := rr.Header()
			sets[dns.CanonicalName(h.Name)+" "+dns.TypeToString[h.Rrtype]] += line + "\n"
		}
	}
	return sets
}

// rebuild makes what the nameservers answer from what registrar and providers keep; the caller holds the lock, or is
// the only one yet.
func (w *World) rebuild() {
	w.follows = false
	zones := map[string][]*zoneData{}
	add := func(z *zoneData) *zoneData { zones[z.name] = append(zones[z.name], z); return z }

	root := add(newZoneData(".", rootNorth, rootSouth))
	root.line(". 86400 IN SOA north.lights.test. hostmaster.lights.test. 1 3600 600 86400 300")
	for name, site := range map[string]string{"north": rootNorth, "south": rootSouth} {
		root.line(". 86400 IN NS %s.lights.test.", name)
		root.line("%s.lights.test. 86400 IN A %s", name, w.IP(site))
	}
	top := map[string]*zoneData{}
	for name, sites := range map[string][2]string{"example": {exampleEast, exampleWest}, "test": {testEast, testWest}} {
		z := add(newZoneData(name+".", sites[0], sites[1]))
		z.line("%s. 3600 IN SOA east.nic.%s. hostmaster.nic.%s. 1 3600 600 86400 300", name, name, name)
		for i, side := range []string{"east", "west"} {
			for _, zone := range []*zoneData{root, z} {
				zone.line("%s. 86400 IN NS %s.nic.%s.", name, side, name)
				zone.line("%s.nic.%s. 86400 IN A %s", side, name, w.IP(sites[i]))
			}
		}
		top[name] = z
	}
	for _, p := range w.state.Providers {
		w.buildProvider(p, top["test"], add)
	}
	var next time.Time
	for name, d := range w.state.Domains {
		if at := d.settle(name, w.clock.now()); next.IsZero() || !at.IsZero() && at.Before(next) {
			next = at
		}
		served := d.served()
		labels := dns.SplitDomainName(name)
		z := top[labels[len(labels)-1]]
		for _, ns := range served {
			z.line("%s %d IN NS %s", name, d.TTL, ns)
		}
		for _, ds := range d.DS {
			if len(served) == 0 {
				break
			}
			z.line("%s %d IN DS %s", name, d.TTL, ds)
		}
		for host, addresses := range d.Glue {
			if !slices.Contains(served, host) {
				continue
			}
			for _, address := range addresses {
				kind := "A"
				if strings.Contains(address, ":") {
					kind = "AAAA"
				}
				z.line("%s %d IN %s %s", host, d.TTL, kind, address)
			}
		}
	}
	w.arrivesAt.Store(0)
	if !next.IsZero() {
		w.arrivesAt.Store(next.UnixNano())
	}
	w.signAll(zones)
	w.zones = zones
}

// buildProvider adds the provider's own zone, with its nameservers' addresses, and the zones that it hosts.
func (w *World) buildProvider(p *providerState, parent *zoneData, add func(*zoneData) *zoneData) {
	all := p.sites()
	own := add(newZoneData(p.name+".test.", all[:2]...))
	own.line("%s.test. 3600 IN SOA %s hostmaster.%s.test. 1 3600 600 86400 300", p.name, p.serverName(0), p.name)
	for i, site := range all {
		own.line("%s 3600 IN A %s", p.serverName(i), w.IP(site))
		if i < 2 {
			own.line("%s.test. 3600 IN NS %s", p.name, p.serverName(i))
			parent.line("%s.test. 3600 IN NS %s", p.name, p.serverName(i))
			parent.line("%s 3600 IN A %s", p.serverName(i), w.IP(site))
		}
	}
	for _, hosted := range p.Zones {
		madeOf := hosted.madeOf(p)
		signed := w.state.Signed[hosted.Name] != nil || w.state.Signed[hosted.Name+"@"+p.name] != nil
		if hosted.built != nil && hosted.builtOf == madeOf && !signed {
			add(hosted.built)
			continue
		}
		z := w.buildZone(p, hosted, all)
		add(z)
		w.follows = w.follows || z.follows > 0
		if hosted.built = nil; z.follows == 0 && !signed { // what follows other zones, or is signed, is made each time
			hosted.built, hosted.builtOf = z, madeOf
		}
	}
}

// buildZone makes what the nameservers of a provider answer from one of its zones. all are the sites of its nameservers.
func (w *World) buildZone(p *providerState, hosted *hostedZone, all []string) *zoneData {
	z := newZoneData(hosted.Name)
	z.at = p.name
	for _, i := range hosted.Servers {
		z.servers = append(z.servers, all[i])
		if !hosted.ownNS() {
			z.line("%s %d IN NS %s", hosted.Name, hosted.NSTTL, p.serverName(i))
		}
	}
	z.line("%s", p.soaLine(hosted))
	for _, line := range hosted.Records {
		if f := strings.Fields(line); f[3] == "FOLLOW" {
			if ttl, err := strconv.ParseUint(f[1], 10, 32); err == nil {
				z.follows = uint32(ttl)
			}
			for _, address := range w.addressesOf(f[4], 8) {
				z.line("%s %s IN %s", f[0], f[1], address)
			}
			continue
		}
		if f := strings.Fields(line); hosted.Relay[f[0]+" "+f[3]] {
			if f[3] == "A" || f[3] == "CNAME" {
				z.relayed(f[0], w.IP(fmt.Sprintf("%d.200", p.pool.octet)))
			}
			continue
		}
		z.line("%s", line)
	}
	return z
}

// recordsChanged is changed for records of one zone: only that is made again, where no other zone is made of its records.
func (w *World) recordsChanged(p *providerState, hosted *hostedZone) {
	name := hosted.Name
	at := slices.IndexFunc(w.zones[name], func(z *zoneData) bool { return z.at == p.name })
	if w.follows || at < 0 || w.state.Signed[name] != nil || w.state.Signed[name+"@"+p.name] != nil {
		w.changed()
		return
	}
	list := slices.Clone(w.zones[name])
	list[at] = w.buildZone(p, hosted, p.sites())
	hosted.built, hosted.builtOf = list[at], hosted.madeOf(p)
	w.zones[name] = list
	if list[at].follows > 0 {
		w.changed()
		return
	}
	w.save()
}

// sites are the sites of a provider's nameservers.
func (p *providerState) sites() (all []string) {
	for i := range p.pool.size {
		all = append(all, fmt.Sprintf("%d.%d", p.pool.octet, 11+i))
	}
	return all
}

// ownNS reports whether the records of a zone have an apex NS set, which then is in the place of the provider's own.
func (h *hostedZone) ownNS() bool {
	return slices.ContainsFunc(h.Records, func(line string) bool {
		f := strings.Fields(line)
		return f[0] == h.Name && f[3] == "NS"
	})
}

// relayTTL is the TTL of a relay's addresses, in seconds.
const relayTTL = 45

// relayed returns a name the relay's address, once.
func (z *zoneData) relayed(name, address string) {
	if len(z.sets[name][dns.TypeA]) == 0 {
		z.line("%s %d IN A %s", name, relayTTL, address)
	}
}

// addressesOf returns the type and data of the addresses of a name that is hosted anywhere in this world, along CNAME records.
func (w *World) addressesOf(name string, depth int) (list []string) {
	for _, p := range w.state.Providers {
		for _, z := range p.Zones {
			for _, line := range z.Records {
				f := strings.Fields(line)
				switch {
				case f[0] != name:
				case f[3] == "A", f[3] == "AAAA":
					list = append(list, f[3]+" "+f[4])
				case f[3] == "CNAME" && depth > 0:
					list = append(list, w.addressesOf(f[4], depth-1)...)
				}
			}
		}
	}
	slices.Sort(list)
	return slices.Compact(list)
}

// normalRecord returns a record in the one form that records are kept in here.
func normalRecord(rr dns.RR) string {
	return strings.Join(strings.Fields(rr.Header().String()), " ") + " " + strings.TrimPrefix(rr.String(), rr.Header().String())
}
