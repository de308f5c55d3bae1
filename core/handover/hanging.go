package handover

import (
	"fmt"
	"slices"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/core/record"
	"beacon/core/wording"
)

// The codes of what hangs on the nameservers that are left, or on how they serve the zone. None of them is a gate: the move itself loses no answer by them.
const (
	HangsServices  = "old-provider-services"
	HangsRelays    = "old-provider-relays"
	HangsOthers    = "nameservers-used-by-others"
	HangsSerial    = "serial-goes-back"
	HangsTLSA      = "tlsa-without-dnssec"
	HangsChallenge = "challenge-moves"
)

// Around is what is known around a domain that moves.
type Around struct {
	Domain   dnsname.Name
	Old, New []dnsname.Name
	Desired  record.Contents
	Relays   []record.Key   // sets that the old side answers with something of its own
	Others   []dnsname.Name // other domains that use nameservers below this one
	Sweep    evidence.Sweep
	DS       bool // a parent has a DS now
	Sign     bool // the new zone gets one
}

// Hanging returns what else hangs on the old side, and is to be seen to before the domain moves.
func Hanging(a Around) (list []finding.Finding) {
	add := func(code string, severity finding.Severity, message, remedy string, seen ...string) {
		list = append(list, finding.Finding{Code: code, Severity: severity, Subject: a.Domain.Unicode(), Message: message, Remedy: remedy, Seen: seen})
	}
	if hosts := a.providersHosts(); len(hosts) > 0 {
		add(HangsServices, finding.Warning, fmt.Sprintf("Records lead to hosts below the names of the old nameservers (%s). Mail, forwarding or a website there may be a service of the old provider, and may end with the zone.", some(hosts)),
			"Ask the old provider whether these services go on without the zone. Replace them before the old zone is removed.", hosts...)
	}
	if len(a.Relays) > 0 {
		texts := setTexts(a.Relays)
		add(HangsRelays, finding.Warning, fmt.Sprintf("The old provider answers with addresses of its own (%s). Visitors reach the recorded addresses directly once the domain has moved.", some(texts)),
			"Check that the hosts behind it answer visitors directly, with a certificate of their own.", texts...)
	}
	if len(a.Others) > 0 {
		texts := unicodes(a.Others)
		add(HangsOthers, finding.Warning, fmt.Sprintf("%s: their nameservers have names below this one. They are reached only while these names resolve.", wording.Counted(len(texts), "other domain")+" ("+some(texts)+")"),
			"Keep the addresses of these nameservers in the zone, and their glue at the registry.", texts...)
	}
	if before, after, ok := a.serials(); ok && int32(after-before) < 0 {
		add(HangsSerial, finding.Notice, fmt.Sprintf("The new zone has the serial %d, the old one %d. A nameserver is in both sets: it would keep the old zone (RFC 1982).", after, before),
			"Have that nameserver transfer the zone afresh, or raise the serial of the new zone.")
	}
	if names := a.named(func(k record.Key) bool { return k.Type == 52 }); a.DS && len(names) > 0 { // TLSA
		text := "While the domain has no DS, TLSA records are not used (RFC 7671): connections are protected as without them."
		if !a.Sign {
			text = "The new zone gets no DS: TLSA records are not used from then on (RFC 7671)."
		}
		add(HangsTLSA, finding.Notice, text+" They are at "+some(names)+".", "Tell those who rely on them, or have the new zone signed (--sign).", names...)
	}
	if names := a.named(func(k record.Key) bool { return k.Name.Labels()[0] == "_acme-challenge" }); len(names) > 0 {
		add(HangsChallenge, finding.Notice, fmt.Sprintf("Certificates are had over the DNS (%s). Until the move has settled, an authority may ask either side.", some(names)),
			"Write challenges here, so that both sides have them; or make the name a CNAME into a zone that does not move.", names...)
	}
	return list
}

// providersHosts returns the targets of records that lie below the zones of the old nameservers.
func (a Around) providersHosts() (list []string) {
	zones := map[dnsname.Name]bool{}
	for _, n := range a.Old {
		if zone := n.Parent(); !slices.Contains(a.New, n) && zone.NumLabels() > 1 && !a.Domain.IsAtOrBelow(zone) && !zone.IsAtOrBelow(a.Domain) {
			zones[zone] = true
		}
	}
	for set := range a.Desired.Sets() {
		if set.Type == record.NS || set.Type == record.SOA || set.Type == record.TXT {
			continue
		}
		for _, d := range set.Data {
			for _, field := range strings.Fields(string(d)) {
				target, err := dnsname.Parse(field)
				if err != nil || !strings.HasSuffix(field, ".") {
					continue
				}
				for zone := range zones {
					if target.IsAtOrBelow(zone) {
						list = append(list, set.Name.Relative(a.Domain)+" "+set.Type.String()+" "+target.Unicode())
					}
				}
			}
		}
	}
	return list
}

// serials returns the serials of both sides; ok is false where one is not known, or where no nameserver stays, which would take the zone from the new side.
func (a Around) serials() (before, after uint32, ok bool) {
	stays := false
	serial := func(set, other []dnsname.Name) (uint32, bool) {
		for _, s := range evidence.ServersOf(a.Sweep, set) {
			if slices.Contains(other, s.Name) {
				stays = true
			} else if s.Answer == evidence.Positive {
				return s.SOA.Serial, true
			}
		}
		return 0, false
	}
	before, heard := serial(a.Old, a.New)
	after, ok = serial(a.New, a.Old)
	return before, after, ok && heard && stays
}

// named returns the names of the sets that are meant, relative to the domain.
func (a Around) named(is func(record.Key) bool) (list []string) {
	for set := range a.Desired.Sets() {
		if is(set.Key()) {
			list = append(list, set.Name.Relative(a.Domain))
		}
	}
	return slices.Compact(list)
}

func setTexts(keys []record.Key) (list []string) {
	for _, k := range keys {
		list = append(list, k.Name.Unicode()+" "+k.Type.String())
	}
	return list
}

func unicodes(names []dnsname.Name) (list []string) {
	for _, n := range names {
		list = append(list, n.Unicode())
	}
	return list
}

// some returns the first few of a list, and how many more there are.
func some(list []string) string {
	const most = 3
	if len(list) <= most {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(list[:most], ", "), len(list)-most)
}
