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
	Lists       = "Lists of nameservers"
	Providers   = "Providers and syncs"
)

// Codes lists the codes that are not of zones.
var Codes = []Known{
	{"answers-differ", Delegations, "The nameservers give different answers for a record set.", "If they have not converged in a few minutes, look at the provider's state of the zone."},
	{"check-failed", Delegations, "The check itself could not be made; this says nothing about the domain.", "Look at this machine's network and at the root hints, then check again."},
	{"child-set-differs", Delegations, "The zone names other nameservers than the parent does.", "Make the NS records at the apex and the list at the registrar the same."},
	{"nameserver-lame", Delegations, "A nameserver answers, but not for this zone.", "Make the zone at this provider, or take the nameserver out of the delegation."},
	{"nameserver-misspelt", Delegations, "The parent lists a nameserver that differs from a wanted one in a character or two.", "Correct the name at the registrar."},
	{"nameserver-silent", Delegations, "A nameserver gives no answer.", "See whether it is up and reachable; if it is retired, take it out of the delegation."},
	{"nameserver-unresolvable", Delegations, "A nameserver's name leads to no address.", "Correct the name at the registrar, or take it out there."},
	{"no-tcp", Delegations, "A nameserver does not answer over TCP; large answers will fail.", "Open TCP to port 53 of this server (RFC 7766)."},
	{"not-delegated", Delegations, "The zone above has no delegation for the name.", "Register the domain, or give it nameservers at the registrar."},
	{"old-servers-stopped", Delegations, "Old nameservers no longer answer for the zone, and caches may still ask them.", "Put the zone back at the old provider until the time that is named."},
	{"old-zone-names-old-set", Delegations, "The old nameservers still name themselves in the zone; a resolver that refreshes that set from them may never come over.", "Put the new NS records into the old zone, or remove the old zone after the time that is named."},
	{"parent-serves-other-set", Delegations, "The parent serves another set of nameservers than is wanted.", "Change the nameservers at the registrar: beacon delegate."},
	{"parent-set-incomplete", Delegations, "The parent lists some of the wanted nameservers only.", "Add the missing ones at the registrar."},
	{"parent-set-mixed", Delegations, "The parent also lists nameservers that are not wanted: part of all questions goes there.", "Take them out of the list at the registrar."},
	{"parent-silent", Delegations, "A nameserver of the parent could not be asked.", "Nothing to do at the domain; check again later."},
	{"parents-disagree", Delegations, "The parent's nameservers do not all say the same.", "Wait until they agree; if this lasts over an hour, ask the registrar."},
	{"registrar-not-asked", Delegations, "The registrar could not be asked.", "See whether its account is right: beacon registrar list."},
	{"registry-not-updated", Delegations, "The registrar has the new list in force, and the parent still serves the old one.", "Wait for the registry, usually minutes; if this lasts over an hour, ask the registrar."},
	{"resolver-elsewhere", Delegations, "A resolver gets its answers from other nameservers than the parent names.", "If the nameservers were changed within the last two days, wait; else ask who runs it."},
	{"resolver-overstays", Delegations, "A resolver still goes to the old nameservers, though it had to let go.", "Ask whoever runs it to clear its cache."},
	{"resolver-silent", Delegations, "A resolver could not be asked.", "Nothing to do at the domain; see whether this resolver works at all."},
	{"resolver-still-old", Delegations, "A resolver still goes to the old nameservers, which is normal until the time that is named.", "Nothing to do."},
	{"saved-not-active", Delegations, "The registrar has saved a new list that is not in force. Waiting will not help.", "Make it active: beacon delegate."},
	{"serials-differ", Delegations, "The nameservers hold different serials of the zone.", "If they have not converged in a few minutes, look at the provider's state of the zone."},

	{"answer-will-change", Lists, "The new nameservers give another answer for a record set than the old ones.", "If that is meant, go on; else correct what the zone should contain first."},
	{"nameserver-malformed", Lists, "A name in the list is no host name.", "Write a host name such as ns1.provider.example."},
	{"nameserver-not-assigned", Lists, "A name in the list is none that the provider gave this zone.", "Use the names that the provider gave: beacon zone show."},
	{"nameserver-not-ready", Lists, "A new nameserver does not answer for the zone yet.", "Write the zone first: beacon sync; then delegate."},
	{"nameserver-repeated", Lists, "A name stands in the list twice.", "Take one of them out."},
	{"nameserver-single", Lists, "One nameserver alone is a single point of failure.", "Give at least two."},
	{"nameservers-missing", Lists, "The list is empty.", "Give at least two nameservers."},
	{"nameservers-too-many", Lists, "The list has more names than fit.", "Leave some out."},

	{"alias-differs", Providers, "The target of an ALIAS answers differently by place: whoever asks here gets one of the answers.", "Use a CNAME below the apex if that matters."},
	{"alias-unanswered", Providers, "The addresses of an ALIAS's target cannot be had; the last good ones stay.", "Check the name; if it is right, its own nameservers have to answer."},
	{"changed-meanwhile", Providers, "A set that a draft or an undoing is about is not what it was any more.", "Look at what is there now, and make the change anew."},
	{"conflict", Providers, "A set was changed here and at the provider.", "Make one like the other: correct the definition, or the record at the provider."},
	{"credential-read-only", Providers, "The credential of an account may only read.", "If zones are to be written there, give one that may: beacon provider rotate."},
	{"credential-too-strong", Providers, "The credential of an account may more than is ever needed here.", "Make one with fewer rights at the provider, then give it: beacon provider rotate."},
	{"drift-left", Providers, "What somebody changed at the provider was left as it is.", "Put it back with beacon sync --put-back, or take it into the definition."},
	{"names-would-stop", Providers, "With this change names would stop answering.", "If that is meant, say yes to it: --allow names-would-stop."},
	{"not-served-yet", Providers, "Not every nameserver serves what was written.", "Look again in a minute; if it lasts, look at the provider's state of the zone."},
	{"apex-would-change", Providers, "What the zone says about its own nameservers would change: SOA or NS at the apex.", "Leave these records to the provider; if it is meant, say yes to it: --allow apex-would-change."},
	{"extra-not-known", Providers, "An attribute is declared that this provider does not know.", "Look at what it knows: beacon provider show; take it out, if it is not meant for another placement."},
	{"gap-forced", Providers, "The provider cannot put one kind of record in place of another in one go: the name is without an answer for a moment.", "Choose a quiet hour, if a moment matters."},
	{"host-would-stop", Providers, "A machine reports its address under a name that would have none.", "Remove the host first; if it is meant, say yes to it: --allow host-would-stop."},
	{"mail-would-stop", Providers, "Mail hosts, or what receivers judge mail by (SPF, DKIM, DMARC), would go.", "If that is meant, say yes to it: --allow mail-would-stop."},
	{"protected-would-go", Providers, "The zone's definition protects what would go.", "Put it back, or take the pattern out of protect; or say yes to it: --allow protected-would-go."},
	{"text-joined", Providers, "The provider keeps a TXT record as one text; strings are put together, which readers of SPF and DKIM do anyway.", "Nothing to do."},
	{"text-not-held", Providers, "The provider cannot keep a TXT record of this length or with these octets; it is not written there.", "Shorten it, or place the zone elsewhere."},
	{"ttl-lowered", Providers, "The provider's longest TTL is less than what was asked for.", "Nothing to do."},
	{"ttl-raised", Providers, "The provider's least TTL is larger than what was asked for.", "Nothing to do, unless these names have to change quickly."},
	{"type-not-held", Providers, "The provider cannot keep records of this type; they are not written there.", "Take them out of the zone, or place it with a provider that can."},
	{"zone-still-asked", Providers, "Caches may still lead to the nameservers of a zone that is to be taken from a provider.", "Wait until the time that is named; if it is meant all the same, say yes to it: --allow zone-still-asked."},
	{"zone-still-delegated", Providers, "The parent leads to the nameservers of a zone that is to be taken from a provider.", "Delegate it elsewhere first; if it is meant all the same, say yes to it: --allow zone-still-delegated."},
}
