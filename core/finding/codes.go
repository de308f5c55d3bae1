package finding

import "slices"

// Known is a code with what it means and what to do, for the documentation. Rules of zones describe themselves in core/rules;
// these are all the others.
type Known struct {
	Code     string `json:"code"`            // of the finding, in kebab-case
	About    string `json:"about"`           // what is judged: zones, delegations, websites, nameserver lists or providers
	Severity string `json:"severity"`        // "error", "warning" or "notice"; where it depends, both: "error or warning"
	Meaning  string `json:"meaning"`         // what was found, in one sentence
	Remedy   string `json:"remedy"`          // what to do now
	Guard    string `json:"guard,omitempty"` // what it blocks until a user allows it; empty for nothing
}

// What is looked at.
const (
	Zones       = "Zones"
	Delegations = "Delegation and propagation"
	Arrivals    = "Websites and certificates"
	Lists       = "Lists of nameservers"
	Providers   = "Providers and syncs"
)

// Codes lists the codes that are not of zones.
var Codes = known(delegations, arrivals, listsAndProviders)

// entry is a code as the tables below have it.
type entry struct{ code, about, severity, meaning, remedy string }

func known(tables ...[]entry) (list []Known) {
	for _, e := range slices.Concat(tables...) {
		list = append(list, Known{Code: e.code, About: e.about, Severity: e.severity, Meaning: e.meaning, Remedy: e.remedy, Guard: e.blocks()})
	}
	return list
}

var listsAndProviders = []entry{

	{"cds-published", Lists, "error", "A nameserver asks the parent for a DS (CDS or CDNSKEY), and the two sides are not signed with the same keys: a parent that scans would publish it during the move.", "Remove the CDS and CDNSKEY records from both zones, or have them ask for removal (CDS 0)."},
	{"csync-published", Lists, "error", "A nameserver asks the parent to copy NS and address records from the zone (CSYNC, RFC 7477): a parent that scans would change the delegation by itself during the move.", "Remove the CSYNC record from both zones."},
	{"challenge-moves", Lists, "notice", "Certificates of the domain are had over the DNS, and until a handover has settled an authority may ask either side.", "Write challenges here, so that both sides have them."},
	{"nameservers-used-by-others", Lists, "warning", "Other domains have nameservers whose names are below a domain that moves.", "Keep the addresses of these nameservers in the zone, and their glue at the registry."},
	{"ns-ttl-not-run-down", Lists, "notice", "The TTL of the old zone's NS records was lowered, and caches still hold it under the former one: waiting shortens the time in which either side is asked.", "Wait, or go on now: beacon handover next DOMAIN --pass ns-ttl-not-run-down."},
	{"old-provider-relays", Lists, "warning", "The provider that is left answers some names with addresses of its own; visitors reach the recorded addresses directly afterwards.", "Check that the hosts behind it answer visitors directly."},
	{"old-provider-services", Lists, "warning", "Records lead to hosts of the provider that is left: mail, forwarding or websites there may end with the zone.", "Ask the provider whether they go on without the zone, or replace them first."},
	{"serial-goes-back", Lists, "notice", "The new zone has a lower serial than the old one, and a nameserver is in both sets: it would keep the old zone (RFC 1982).", "Have it transfer the zone afresh, or raise the serial of the new zone."},
	{"target-cannot-hold", Lists, "error", "The new provider cannot keep some records of the zone.", "Remove these records first, or move to a provider that can keep them."},
	{"tlsa-without-dnssec", Lists, "notice", "The zone has TLSA records, which are not used while its domain has no DS (RFC 7671).", "Tell those who rely on them, or sign the new zone."},
	{"old-side-names-itself", Lists, "error", "The old nameservers still answer for the zone and name themselves in its NS records: resolvers that keep asking there would find answers that do not fit the new DS.", "Remove the zone at the old provider, or change its NS records there to the new nameservers."},
	{"differences-agreed", Lists, "notice", "The two sides answer some record sets differently, as the user agreed.", "Nothing to do."},
	{"ds-keep-signed", Lists, "notice", "Caches may hold a DS for a while after it is gone from the parent.", "Keep the zone signed until it has settled."},
	{"ds-keys-differ", Lists, "error", "The nameservers serve different keys, or one did not answer, so no DS fits all of them.", "Wait until all of them serve the same keys, or correct the one that differs."},
	{"ds-not-published", Lists, "error", "The registrar has a DS that not every nameserver of the parent serves yet: it would appear in the middle of the move.", "Wait until every nameserver of the parent serves it. Then remove it."},
	{"ds-not-asked", Lists, "error", "A nameserver of the parent did not answer about DS records, so whether there is one is not known.", "Try again when every nameserver of the parent answers."},
	{"ds-not-expired", Lists, "error", "A DS was removed, and caches may still hold it, or the old keys.", "Wait until the time that is named. Keep the old zone signed until then."},
	{"ds-parent-unfit", Lists, "error", "The zone in which the domain is delegated is placed at a provider that cannot keep DS records.", "Place that zone elsewhere first, or leave the domain without a DS."},
	{"ds-present", Lists, "error", "The parents publish a DS, and the new side is not signed with the same keys: validating resolvers would get no answer.", "Remove the DS at the registrar and wait until it has expired."},
	{"ds-signatures-invalid", Lists, "error", "A nameserver serves signatures that would not validate under the DS.", "Sign the zone again, then publish the DS."},
	{"ds-unsigned", Lists, "error or notice", "No nameserver serves keys: there is nothing that a DS could fit.", "Sign the zone first. Without a DS at the parent there is nothing to do."},
	{"family-unreachable", Lists, "error", "This machine has no IPv6, and neither has any vantage point: IPv6 addresses of new nameservers were not asked.", "Add a vantage point with IPv6, or set checks.without_ipv6."},
	{"first-delegation", Lists, "notice", "The parents do not delegate the domain yet: there is nothing to compare with.", "Nothing to do."},
	{"keys-shared", Lists, "notice", "A DS is published, and both sides serve the same keys and valid signatures.", "Nothing to do."},
	{"nameserver-malformed", Lists, "error", "A name in the list is no host name.", "Write a host name such as ns1.provider.example."},
	{"nameserver-misspelt", Lists, "error", "A name in the list differs in a character or two from one that the provider assigned.", "Write the assigned name."},
	{"nameserver-no-tcp", Lists, "error", "A new nameserver does not answer over TCP (RFC 7766).", "Ask its operator to open TCP port 53."},
	{"nameserver-not-assigned", Lists, "error", "A name in the list is none that the provider gave this zone.", "Use the names that the provider gave: beacon zone show."},
	{"nameserver-not-ready", Lists, "error", "A new nameserver does not answer for the zone yet.", "Write the zone first: beacon sync; then delegate."},
	{"nameserver-repeated", Lists, "error", "A name is in the list twice.", "Remove one of them."},
	{"nameserver-single", Lists, "warning", "One nameserver alone is a single point of failure.", "Give at least two."},
	{"nameserver-unheard", Lists, "error", "No address of a new nameserver could be asked.", "Check the network, or add a vantage point that reaches it."},
	{"nameserver-unresolvable", Lists, "error", "The name of a new nameserver resolves to no address.", "Correct the name."},
	{"nameservers-missing", Lists, "error", "The list is empty.", "Give at least two nameservers."},
	{"nameservers-too-many", Lists, "error", "The list has more names than fit.", "Leave some out."},
	{"old-side-silent", Lists, "notice", "None of the nameservers being left answers: the domain is down until it moves.", "Move it now."},
	{"parent-served-elsewhere", Lists, "warning", "The parent zone is managed here, and other nameservers serve it.", "Delegate the parent zone to its placements first."},
	{"registrar-locked", Lists, "error", "The registration is locked against changes (RFC 8056).", "Lift the lock: beacon registrar unlock DOMAIN, or at the registrar's site. One that begins with \"server\" is the registry's: ask the registrar."},
	{"sides-differ", Lists, "error", "The old and the new nameservers answer record sets differently.", "Correct the zone and sync it, or agree to just these differences."},
	{"ttls-differ", Lists, "notice", "Record sets have other TTLs on the new side; their data is the same.", "Nothing to do, if that is meant."},

	{"alias-differs", Providers, "warning", "The target of an ALIAS answers differently by place: every client gets one of the answers.", "Use a CNAME below the apex if that matters."},
	{"alias-unanswered", Providers, "warning", "The target of an ALIAS does not resolve; its last good addresses stay.", "Check the name; if it is right, its own nameservers have to answer."},
	{"alias-would-be-empty", Providers, "warning", "An ALIAS would replace addresses, and its target does not answer.", "Check the target. If the change is intended, allow it: --allow alias-would-be-empty."},
	{"changed-since", Providers, "error", "A set that a draft or an undoing is about is not what it was any more.", "Look at what is there now, and make the change again."},
	{"conflict", Providers, "error", "A set was changed here and at the provider.", "Make one like the other: correct the definition, or the record at the provider."},
	{"credential-read-only", Providers, "warning", "The credential of an account may only read.", "If zones are to be written there, give one that may: beacon provider rotate."},
	{"credential-too-strong", Providers, "warning", "The credential of an account may more than is ever needed here.", "Make one with fewer rights at the provider, then give it: beacon provider rotate."},
	{"drift-not-reverted", Providers, "notice", "A change made at the provider was not reverted.", "Revert it with beacon sync --revert, or adopt it: beacon drift ZONE --adopt."},
	{"names-would-stop", Providers, "warning", "With this change many names, or the apex, would stop answering.", "If this is intended: --allow names-would-stop."},
	{"not-served-yet", Providers, "warning", "Not every nameserver serves what was written.", "Look again in a minute; if it lasts, look at the provider's state of the zone."},
	{"apex-not-written", Providers, "warning", "The provider keeps SOA and NS of the apex for itself; those of the zone are not written there.", "Remove them; the desired nameservers are named by nameservers: or delegate_to:."},
	{"apex-would-change", Providers, "error", "What the zone says about its own nameservers would change: NS at the apex, or its SOA record would go.", "Leave these records to the provider; if it is intended, allow it: --allow apex-would-change."},
	{"extra-not-known", Providers, "notice", "An attribute is declared that this provider does not know.", "Look at what it knows: beacon provider show; remove it, if it is not meant for another placement."},
	{"brief-outage", Providers, "warning", "The provider cannot put one kind of record in place of another in one go: the name is without an answer for a moment.", "Choose a quiet hour, if a moment matters."},
	{"host-would-stop", Providers, "warning", "A machine reports its address under a name that would have none.", "Remove the host first; if it is intended, allow it: --allow host-would-stop."},
	{"mail-would-stop", Providers, "warning", "Mail hosts, or what receivers judge mail by (SPF, DKIM, DMARC), would go.", "If this is intended: --allow mail-would-stop."},
	{"protected-would-go", Providers, "error", "The zone's definition protects what would go.", "Restore the records, or remove the pattern from protect; or allow it: --allow protected-would-go."},
	{"read-not-confirmed", Providers, "error", "The provider's interface does not return what was last written there, and the nameservers do not agree with it.", "Wait until both agree, then sync again. If the interface is right: --allow read-not-confirmed."},
	{"write-not-shown", Providers, "error", "The provider confirmed a write that neither its interface nor the nameservers show.", "Look at the zone at the provider's own site, then sync again."},
	{"text-joined", Providers, "notice", "The provider keeps a TXT record as one text; strings are put together, which readers of SPF and DKIM do anyway.", "Nothing to do."},
	{"name-unsupported", Providers, "error", "The provider does not take names of this length, and they are not written there.", "Use shorter names, or place the zone elsewhere."},
	{"soa-not-taken", Providers, "warning", "The provider confirmed new fields of the SOA record, and still returns others.", "Set what the provider takes: beacon zone settings ZONE --soa FIELD=VALUE."},
	{"soa-unsupported", Providers, "notice", "The provider sets some of the desired fields of the SOA record itself; they are not written there.", "Nothing to do, or place the zone where they can be set."},
	{"text-unsupported", Providers, "error", "The provider cannot keep a TXT record of this length or with these octets; it is not written there.", "Shorten it, or place the zone elsewhere."},
	{"ttl-lowered", Providers, "notice", "The provider's longest TTL is less than what was asked for.", "Nothing to do."},
	{"ttl-raised", Providers, "notice", "The provider's least TTL is larger than what was asked for.", "Nothing to do, unless these names have to change quickly."},
	{"type-unsupported", Providers, "error", "The provider cannot keep records of this type; they are not written there.", "Remove them from the zone, or place it with a provider that can."},
	{"zone-still-asked", Providers, "warning", "Caches may still ask the nameservers of a zone that is to be removed from a provider, or deleted here.", "Wait until the time that is named; if it is intended all the same: --override zone-still-asked --reason TEXT."},
	{"zone-still-delegated", Providers, "error", "The parent delegates to the nameservers of a zone that is to be removed from a provider, or the domain of a zone that is to be deleted here.", "Delegate it elsewhere first; if it is intended all the same: --override zone-still-delegated --reason TEXT."},
}
