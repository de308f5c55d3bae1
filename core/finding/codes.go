package finding

// Known is a code with what it means and what to do, for the documentation. Rules of zones describe themselves in core/rules;
// these are all the others.
type Known struct {
	Code    string
	About   string // what is looked at
	Meaning string
	Remedy  string
}

// What is looked at.
const (
	Delegations = "Delegation and propagation"
	Arrivals    = "Sites and certificates"
	Lists       = "Lists of nameservers"
	Providers   = "Providers and syncs"
)

// Codes lists the codes that are not of zones.
var Codes = append(append(delegations, arrivals...), []Known{

	{"differences-agreed", Lists, "The two sides answer some record sets differently, as the user agreed.", "Nothing to do."},
	{"ds-not-asked", Lists, "A nameserver of the parent was not heard about DS records, so whether there is one is not known.", "Try again when every nameserver of the parent answers."},
	{"ds-not-expired", Lists, "A DS was removed, and caches may still hold it, or the old keys.", "Wait until the time that is named. Keep the old zone signed until then."},
	{"ds-present", Lists, "The parents publish a DS, and the new side is not signed with the same keys: validating resolvers would get no answer.", "Remove the DS at the registrar and wait until it has expired."},
	{"family-unreachable", Lists, "This machine has no IPv6, and neither has any vantage point: IPv6 addresses of new nameservers were not asked.", "Add a vantage point with IPv6, or set checks.without_ipv6."},
	{"first-delegation", Lists, "The parents do not delegate the domain yet: there is nothing to compare with.", "Nothing to do."},
	{"keys-shared", Lists, "A DS is published, and both sides serve the same keys and valid signatures.", "Nothing to do."},
	{"nameserver-malformed", Lists, "A name in the list is no host name.", "Write a host name such as ns1.provider.example."},
	{"nameserver-misspelt", Lists, "A name in the list differs in a character or two from one that the provider assigned.", "Write the assigned name."},
	{"nameserver-no-tcp", Lists, "A new nameserver does not answer over TCP (RFC 7766).", "Ask its operator to open TCP port 53."},
	{"nameserver-not-assigned", Lists, "A name in the list is none that the provider gave this zone.", "Use the names that the provider gave: beacon zone show."},
	{"nameserver-not-ready", Lists, "A new nameserver does not answer for the zone yet.", "Write the zone first: beacon sync; then delegate."},
	{"nameserver-repeated", Lists, "A name is in the list twice.", "Remove one of them."},
	{"nameserver-single", Lists, "One nameserver alone is a single point of failure.", "Give at least two."},
	{"nameserver-unheard", Lists, "No address of a new nameserver could be asked.", "Check the network, or add a vantage point that reaches it."},
	{"nameserver-unresolvable", Lists, "The name of a new nameserver resolves to no address.", "Correct the name."},
	{"nameservers-missing", Lists, "The list is empty.", "Give at least two nameservers."},
	{"nameservers-too-many", Lists, "The list has more names than fit.", "Leave some out."},
	{"old-side-silent", Lists, "None of the nameservers being left answers: the domain is down until it moves.", "Move it now."},
	{"registrar-locked", Lists, "The registration is locked against changes (RFC 8056).", "Unlock it at the registrar."},
	{"sides-differ", Lists, "The old and the new nameservers answer record sets differently.", "Correct the zone and sync it, or agree to just these differences."},
	{"ttls-differ", Lists, "Record sets have other TTLs on the new side; their data is the same.", "Nothing to do, if that is meant."},

	{"alias-differs", Providers, "The target of an ALIAS answers differently by place: every client gets one of the answers.", "Use a CNAME below the apex if that matters."},
	{"alias-unanswered", Providers, "The addresses of an ALIAS's target cannot be had; the last good ones stay.", "Check the name; if it is right, its own nameservers have to answer."},
	{"alias-would-be-empty", Providers, "An ALIAS would replace addresses, and its target does not answer.", "Check the target. If the change is intended, allow it: --allow alias-would-be-empty."},
	{"changed-meanwhile", Providers, "A set that a draft or an undoing is about is not what it was any more.", "Look at what is there now, and make the change again."},
	{"conflict", Providers, "A set was changed here and at the provider.", "Make one like the other: correct the definition, or the record at the provider."},
	{"credential-read-only", Providers, "The credential of an account may only read.", "If zones are to be written there, give one that may: beacon provider rotate."},
	{"credential-too-strong", Providers, "The credential of an account may more than is ever needed here.", "Make one with fewer rights at the provider, then give it: beacon provider rotate."},
	{"drift-not-reverted", Providers, "A change made at the provider was not reverted.", "Revert it with beacon sync --revert, or adopt it: beacon drift ZONE --adopt."},
	{"names-would-stop", Providers, "With this change many names, or the apex, would stop answering.", "If this is intended: --allow names-would-stop."},
	{"not-served-yet", Providers, "Not every nameserver serves what was written.", "Look again in a minute; if it lasts, look at the provider's state of the zone."},
	{"apex-not-written", Providers, "The provider keeps SOA and NS of the apex for itself; those of the zone are not written there.", "Remove them; where the domain is delegated to is said by nameservers: or delegate_to:."},
	{"apex-would-change", Providers, "What the zone says about its own nameservers would change: SOA or NS at the apex.", "Leave these records to the provider; if it is meant, say yes to it: --allow apex-would-change."},
	{"extra-not-known", Providers, "An attribute is declared that this provider does not know.", "Look at what it knows: beacon provider show; remove it, if it is not meant for another placement."},
	{"brief-outage", Providers, "The provider cannot put one kind of record in place of another in one go: the name is without an answer for a moment.", "Choose a quiet hour, if a moment matters."},
	{"host-would-stop", Providers, "A machine reports its address under a name that would have none.", "Remove the host first; if it is meant, say yes to it: --allow host-would-stop."},
	{"mail-would-stop", Providers, "Mail hosts, or what receivers judge mail by (SPF, DKIM, DMARC), would go.", "If this is intended: --allow mail-would-stop."},
	{"protected-would-go", Providers, "The zone's definition protects what would go.", "Restore the records, or remove the pattern from protect; or allow it: --allow protected-would-go."},
	{"read-not-confirmed", Providers, "The provider's interface does not return what was last written there, and the nameservers do not agree with it.", "Wait until both agree, then sync again. If the interface is right: --allow read-not-confirmed."},
	{"write-not-shown", Providers, "The provider confirmed a write that neither its interface nor the nameservers show.", "Look at the zone at the provider's own site, then sync again."},
	{"text-joined", Providers, "The provider keeps a TXT record as one text; strings are put together, which readers of SPF and DKIM do anyway.", "Nothing to do."},
	{"text-unsupported", Providers, "The provider cannot keep a TXT record of this length or with these octets; it is not written there.", "Shorten it, or place the zone elsewhere."},
	{"ttl-lowered", Providers, "The provider's longest TTL is less than what was asked for.", "Nothing to do."},
	{"ttl-raised", Providers, "The provider's least TTL is larger than what was asked for.", "Nothing to do, unless these names have to change quickly."},
	{"type-unsupported", Providers, "The provider cannot keep records of this type; they are not written there.", "Remove them from the zone, or place it with a provider that can."},
	{"zone-still-asked", Providers, "Caches may still ask the nameservers of a zone that is to be removed from a provider, or deleted here.", "Wait until the time that is named; if it is intended all the same: --override zone-still-asked --reason TEXT."},
	{"zone-still-delegated", Providers, "The parent delegates to the nameservers of a zone that is to be removed from a provider, or the domain of a zone that is to be deleted here.", "Delegate it elsewhere first; if it is intended all the same: --override zone-still-delegated --reason TEXT."},
}...)
