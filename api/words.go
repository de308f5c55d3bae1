package api

// everywhere is what fields mean that have no comment of their own, by name.
var everywhere = map[string]string{
	"name": "The name.", "items": "The entries of this page.", "next": "The cursor of the next page; empty at the end.", "zone": "The zone.",
	"problem": "What went wrong; empty where nothing did.", "reason": "The reason that the user gave, or why this is so.", "account": "The account at a provider or registrar.",
	"type": "The type.", "findings": "What was found, most severe first, each with its fix.", "id": "The number that names it.",
	"added": "What is added: records, or how many record sets.", "removed": "What is removed: records, or how many record sets.", "registrar": "The registrar account, or what the registrar has.",
	"description": "A description for people.", "after": "The state after the change.", "before": "The state before the change.", "kind": "The kind.",
	"address": "The address.", "created_at": "When it was created.", "state": "The state.", "key": "Owner name and type of the record set.", "text": "The text.",
	"wanted": "The desired nameservers or records.", "at": "The time.", "data": "Record data, as in a zone file.", "same": "How many records stay as they are.",
	"dry_run": "Show what would change, and change nothing.", "domain": "The domain.", "parents": "What the nameservers of the parent zone answered.",
	"resolvers": "What the resolvers answered.", "nameservers": "Nameservers.", "records": "Records, or how many.", "servers": "What the domain's nameservers answered.",
	"checked_at": "When it was checked last; null before the first check.", "settles_by": "By when the old answers expire from every cache; null where nothing settles.",
	"author": "The user who made it.", "answer": "The answer.", "revision": "The revision.", "changed": "Whether, or how much, was changed.", "rights": "The rights.", "grants": "What it may do.", "networks": "The networks that it may come from; none for all.", "first_used_at": "When it was first used; null for never.",
	"last_used_from": "The network address that it was last used from.",
	"finished_at":    "When it ended; null while it goes on.", "requested_by": "The user who asked for it.", "sent_at": "When it was sent.", "until": "Until when it holds.",
	"status": "The HTTP status.", "to": "The end of a range, or the receivers.", "serial": "The serial of the SOA record.", "ttl": "The TTL, in seconds.",
	"group": "The group that it belongs to.", "foreign": "Records at the provider that this service neither wrote nor desires.", "steps": "The steps, in their order.",
	"v4": "The IPv4 address; empty for none.", "v6": "The IPv6 address; empty for none.", "detail": "The details in words.", "authority": "The authority section.",
	"sets": "Record sets.", "left_out": "Records that are left out, and why.", "trouble": "Why it could not be read; empty where it could.", "record": "The record.",
	"placements": "The zone at its provider accounts.", "since": "Since when.", "fields": "The fields of the record data.", "secret": "The credential; it is sealed and never shown again.",
	"means": "What it means.", "value": "The value.", "password": "The password; it is shown this once.", "message": "What came of it, in words.",
	"providers": "The provider accounts.", "files": "The definition files.", "http": "What answers over HTTP.", "https": "What answers over HTTPS.", "addresses": "The addresses.",
	"who": "The resolver or server.", "from": "The beginning.", "certificate": "The certificate that was shown.", "failure": "Why no answer came; empty where one did.",
	"ready": "Whether a certificate could be issued.", "websites": "The websites, by name.", "written_at": "When it was written to the provider; null before.",
	"granularity": "What one write covers: a record, a set or a zone.", "world": "The simulated time; real time outside the demo.", "new": "The answer of the new side.",
	"new_ttl": "The TTL at the new side, in seconds.", "moments": "What settles, and by when.", "verdict": "The state of the domain.", "asked_at": "When it was asked.",
	"explained": "What the resolver says with its answer (RFC 8914).", "deleted": "Whether it was deleted.", "live": "What the provider has.", "placed": "What was last written to the provider.",
	"why": "Why it differs.", "conflicts": "Record sets that were changed here and at the provider.", "drift": "Record sets that were changed at the provider.",
	"guards": "Guards that block, unless they are allowed.", "in_sync": "How many record sets are in sync.", "notes": "Findings that block nothing.", "requests": "How many requests.",
	"domains": "How many domains.", "gravest": "The code of the most severe finding.", "counts": "The numbers, by state.", "total": "The total.",
	"passage": "The stages of the move, in their order.", "edits": "The edits.", "action": "What was done.", "actor": "Who did it.", "subject": "What it is about.",
	"caa": "The CAA records.", "additional": "The additional section.", "alias": "The target of a CNAME.", "glue": "The glue records.", "contact": "The mailbox of the SOA record.",
	"expire": "Expire of the SOA record, in seconds.", "primary": "The primary nameserver of the SOA record.", "retry": "Retry of the SOA record, in seconds.",
	"no_edns": "Whether the server does not understand EDNS.", "ns_ttl": "The TTL of the NS set, in seconds.", "soa": "The SOA record.", "ended": "When it ended.",
	"no_address": "Why the name has no address.", "released": "Whether, or how many, may be written to again.", "held": "Whether the service is held.", "all": "Everything.",
	"token": "The token; it is shown this once.", "created_by": "The user who created it.", "follows": "Which address families it follows.", "made_at": "When it was made.",
	"what": "What it changes.", "conflicting": "How many record sets were changed here and at the provider.", "drifted": "How many record sets were changed at the provider.",
	"looked_at": "When the provider was read last; null before.", "pending": "How many record sets a sync would write.", "faults": "Faults of files, with line and column.",
	"title": "The kind of problem in words.", "choices": "The values that it can have.", "example": "An example.", "explain": "What it is for.", "label": "The name for people.",
	"search": "Which records.", "digest": "Names what was shown, to be sent back as a condition.", "zones": "The zones.", "accepted_at": "When it was accepted; null where it was not.",
	"arrivals": "How far it has come at each provider account.", "outcome": "What became of it.", "peer": "The address that sent it.", "reported_at": "When it was reported.",
	"number": "The number.", "source": "Where it came from, such as a file.", "cursor": "The cursor of a page, from next.", "limit": "How many entries a page may have.",
	"tag": "The ETag.", "browser": "Whether the token comes as a cookie.", "expires": "When it expires.", "watched": "Record sets to ask for.", "check": "What was tested.",
	"last_sync": "The last sync; null for none.", "detached": "Whether a user detached it from its file.", "settings": "The zone settings.", "file": "The file.", "remedy": "What to do.",
}

// parameter is what a parameter of a path or query means, with an example.
type parameter struct {
	description string
	example     any
}

// parameters are those that routes have, by name.
var parameters = map[string]parameter{
	"Idempotency-Key": {"Names this request. Sent again within 24 hours with the same key and body, it returns the first answer and changes nothing.", "6f1c2f0e-1"},
	"If-Match":        {"The ETag of the state that was read. If the state has changed since then, nothing changes and the answer is 412.", `"3f9ac01be2d477a0"`},
	"name":            {"The zone, domain, account, dynamic host or channel; in a query, part of a name.", "saltmarsh-ferries.example"}, "id": {"The number that names it.", "7"},
	"owner": {"The owner name, relative to the zone; @ for the apex.", "www"}, "type": {"The record type.", "A"},
	"state": {"open (also where it is left out) or ended.", "open"},
	"limit": {"How many entries the page may have.", "100"}, "cursor": {"Where the page begins: next of the page before.", ""}, "role": {"provider or registrar.", "provider"},
	"subject": {"Only what is about this zone or account.", "saltmarsh-ferries.example."}, "requests": {"true: with each request to providers and registrars.", "true"},
	"host": {"The dynamic host; without it, the token names it.", "pier-cam.saltmarsh-ferries.example"}, "v4": {"The IPv4 address to report, or none.", "198.51.100.7"},
	"v6": {"The IPv6 address to report, or none.", "2001:db8::7"}, "prefix": {"IPv6 prefixes that are delegated to the uplink, the preferred one first.", "2001:db8:1::/56"},
	"location": {"The location.", "pier"}, "uplink": {"The uplink.", "main"}, "key": {"The TSIG key.", "cam.saltmarsh-ferries.example"}, "since": {"Only what happened after this time.", "2030-03-01T12:00:00Z"}, "verdict": {"Only domains in this state.", "needs-action"},
	"finding": {"Only domains with this most severe finding.", "nameserver-lame"}, "sort": {"name, settles_by (those that are settled first first) or checked_at (those whose last check is oldest first); name where it is left out.", "settles_by"}, "after": {"Only what comes after this event.", "512"},
	"text": {"An address or network; else a name, or record data.", "192.0.2.40"}, "zone": {"Only this zone.", "saltmarsh-ferries.example"}, "value": {"Record data; * matches anything at the beginning or end.", "web.*"},
	"address": {"An address, or a network.", "192.0.2.0/24"}, "ttl": {"A TTL in seconds, or one behind <, <=, > or >=.", "<300"}, "from": {"The first revision.", "1"}, "to": {"The second revision.", "2"},
	"revert": {"true: count drift as changes to revert.", "true"}, "of": {"The owner name.", "www.saltmarsh-ferries.example"}, "addresses": {"true: addresses in place of ALIAS records.", "true"},
	"file": {"With text/dns: the name of the file.", "saltmarsh-ferries.zone"}, "reason": {"With text/dns: the reason.", "moved from the old provider"},
	"dry_run": {"With text/dns: true changes nothing.", "true"}, "partial": {"With text/dns: true accepts a list of records.", "true"},
}
