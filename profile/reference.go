package profile

import (
	"fmt"
	"slices"
	"strings"
)

// Key is a key of a profile, as the reference lists it.
type Key struct {
	Section string // where it is allowed
	Name    string
	Type    string
	Default string // what holds where it is left out; "required" where it must be there
	Means   string
}

// Reference lists every key of a profile, section by section.
var Reference = slices.Concat(
	keys("profile", "The file itself. One with domains describes a registrar, any other a provider.",
		"profile|name|required|the name, which accounts have as their kind: lower-case letters, digits, hyphens",
		"description|text||what it is, for the list of kinds",
		"hosts|names with descriptions||further addresses that an account names, such as where tokens are issued",
		"credential|section|required|what the credential is made of and how it travels",
		"session|section||how a token is had with the credential, which requests then carry",
		"limits|section||how many requests are allowed",
		"errors|section||how failures are told apart beyond their status",
		"can|section|required at a provider|what the interface can do",
		"zones|list|required|provider: the zones of the account",
		"find|list||provider: one zone by its name; else the list is read",
		"create|one||provider: make a zone; with remove",
		"remove|request||provider: remove a zone; with create",
		"look|request||provider: a small read that returns the change mark alone",
		"read|list|required|provider: the records of a zone",
		"read_name|list||provider: the records at one name, for reported addresses: {label}, {name} and {host}, as in write; else the zone is read",
		"write|request|required|provider: write a batch; or create, update and delete, a request for each change",
		"soa|section||provider: how fields of the SOA record are read and set, where it lets them be",
		"rights|list||provider: what the credential may do: read records, write records, make and remove zones, manage credentials",
		"poll|request||ask what became of something that was only accepted; with receipt",
		"domains|list|required|registrar: the domains of the account",
		"domain|one|required|registrar: one domain",
		"nameservers|request|required|registrar: store a list of nameservers",
		"activate|request||registrar: make the stored list active; where it is there, a stored list is not active before",
		"host|request||registrar: make a host object, or replace its addresses; with remove_host",
		"remove_host|request||registrar: remove a host object",
		"ds|request||registrar: replace the DS set",
		"lock|request||registrar: set a status; with unlock",
		"unlock|request||registrar: lift a status"),
	keys("credential", "One way, with its keys beside send, or several ways in a list.",
		"parts|names with descriptions|one text|the parts that a user gives by name",
		"send|way, or list of ways|required|how it travels: header, basic, query, form, body, signature, tls"),
	keys("credential.send", "In a list, each way says in: in place of send:. The same keys stand beside send: where there is one way.",
		"in|way|required in a list|header, basic, query, form, body, signature or tls",
		"part|part|the whole credential|which part travels so",
		"user|part||basic: the user, where the credential has parts; else it is USER:PASSWORD",
		"password|part||basic: the password",
		"name|text|required but for basic and tls|of the header, parameter or field; in a body, dots lead into objects",
		"prefix|text||in front of the part",
		"hash|sha1, sha256, sha512|required for signature|of the signature",
		"over|jq|required for signature|what is signed",
		"value|jq|required for signature|what the header or parameter then says",
		"date|text||header with the time of the request",
		"date_form|iso, basic, day, http, unix|iso|how that time is written",
		"id|part|before the colon of ID:KEY|names the key",
		"derive|list of jq||texts of which each is signed with the outcome of the one before; the last is the key",
		"key_prefix|text||in front of the key, before the first of derive",
		"query|true, false|false|the signature is a parameter, not a header",
		"certificate|part||tls: the client certificate, in PEM",
		"key|part||tls: its key, in PEM",
		"authority|part||tls: the authority of the interface's own certificate, in PEM"),
	keys("session", "",
		"open|request|required without oauth2|returns the token; carries the credential",
		"token|jq||the token in the answer of open",
		"cookie|text||the token is this cookie of the answer",
		"expires|jq||seconds for which it lasts, or the moment of its end",
		"lasts|time span|until it is refused|for how long it lasts where the answer does not say",
		"uses|number|any|after so many requests another token is asked for",
		"single|true, false|false|one request at a time, of each instance of the service",
		"close|request||gives the token back at the end",
		"send|way, or list of ways|Authorization: Bearer|how the token travels: part: token; other parts may travel with it",
		"oauth2|section||client credentials (RFC 6749), in place of open",
		"assertion|section||a signed statement (RFC 7523), as $assertion in open"),
	keys("session.oauth2", "",
		"host|host|the account's address|where tokens are issued",
		"path|text|required|the path there",
		"id|part|required|the client identifier",
		"secret|part|required|the client secret",
		"scopes|list|none|what is asked for",
		"authenticate|header, body|body|how the client authenticates"),
	keys("session.assertion", "",
		"alg|RS256, ES256|required|how it is signed",
		"key|part|required|the private key, in PEM",
		"key_id|part||names the key in the header (kid)",
		"claims|jq|required|of .now, .expires (seconds), .parts (all but the key) and .address",
		"lasts|time span|5m|from now to expires"),
	keys("limits", "",
		"rate|N per second, minute or hour|unlimited|requests that are allowed",
		"margin|number|0|per cent of the rate that stay unused",
		"parallel|number|2|changes that may be under way at the same time, in different zones",
		"wait|jq|Retry-After|seconds to wait after too many requests",
		"remaining|jq||how many requests are left, from an answer; with reset",
		"reset|jq||seconds until there are more"),
	keys("errors", "",
		"when|jq|never|true for an answer that looks well and is a failure",
		"code|jq||the word to look up in kinds",
		"message|jq|the answer|what the failure says",
		"kinds|words with kinds||refused, unauthorised, not found, conflict, limited or unavailable"),
	keys("can", "Of a provider.",
		"write|sets, records, zone|required|what one write is about",
		"batch|number|any|most sets or records in one write",
		"atomic|true, false|false|a write is done wholly or not at all",
		"page|number|all|records or sets in one page",
		"ttl|section|any|which TTLs it takes",
		"types|list|all|record types it takes",
		"texts|strings, joined, single|strings|how TXT records are kept",
		"text_max|number|any|octets that one TXT record may have",
		"name_max|number|any|characters that an owner name may have",
		"targets|absolute, zone, record|absolute, with a question|how a name in record data is meant that has no final dot",
		"owns_apex|true, false|false|SOA and apex NS are the provider's own",
		"apex_ns|true, false|false|with owns_apex: the apex NS set can be written all the same, as a set; a handover then has the old zone name the new nameservers",
		"apex_alias|true, false|false|the apex can have an ALIAS, which the provider follows",
		"overwrites|true, false|false|the whole zone is replaced without a condition; it is read and compared first",
		"delayed|true, false|with poll|writes are accepted first and done later",
		"read_lag|time span|0s|how much reads may be behind writes",
		"create_lag|time span|0s|how long a new zone cannot be read yet",
		"another|true, false|false|a zone of a name that is there already can be made again, with nameservers of its own: .another is true then",
		"prefills|true, false|false|new zones have records in them",
		"attributes|names with sections||what is kept with a set besides its records"),
	keys("can.ttl", "", "min|number|0|seconds; smaller ones are raised", "max|number|any|seconds; greater ones are lowered", "steps|list|any|seconds, rising; others are raised to the next"),
	keys("can.attributes", "", "description|text||what it is", "values|list|any|which it can have", "relay|text||with this value nameservers answer with something of the provider's own"),
	keys("can of a registrar", "",
		"names|section|any|how many nameservers a list has: min, max",
		"final_dot|required, refused|both|in names; say it in the expressions too: .name has it, .host has not",
		"again|true, false|false|each change repeats a part of the credential",
		"ds|digests, keys|digests|whether DS records or DNSKEY records are taken"),
	keys("can.names", "", "min|number|0|fewest", "max|number|any|most"),
	keys("request", "Keys of every request.",
		"request|METHOD /path|required|a URI Template (RFC 6570)",
		"host|host|the account's address|which of the further addresses",
		"body|jq|none|of the body",
		"type|json, form, xml, or a content type|json|how the body is written; with a content type it is a text",
		"answer|json, form, xml, text|by its content type|how the answer is read",
		"headers|names with jq|none|a header whose expression returns an empty text is left out",
		"let|names with jq|none|values for the address and the expressions, computed first: {name} and $name",
		"when|jq|always|the request is left out where it returns false or null",
		"for|jq|once|made once for each result: {item} and $item",
		"pages|true, false|true in a step with for and next|the pages of the answer are followed within the step",
		"repeat|true, false|false|safe to repeat where its answer was lost"),
	keys("list", "Of sections that return several things.",
		"each|jq|required|the things in an answer",
		"next|jq, or link|one page|where the list goes on; link: as the Link header says",
		"start|text|none|the first cursor",
		"mark|jq|none|read only: the change mark of the zone"),
	keys("one", "Of sections that return one thing.", "one|jq|required|the thing in the answer"),
	keys("write and changes", "", "receipt|jq|done at once|what to poll with; nothing where the change is done"),
	keys("write", "", "create|request||a request for each kind of change, in place of one for a batch", "update|request||", "delete|request||"),
	keys("soa", "Where zones are made, the body of create has .soa, too: the desired fields, those that are not given as null.",
		"fields|list|required|which can be set: mname, rname, refresh, retry, expire, minimum, ttl",
		"read|one|required|the fields as they are, by these names; rname as a mail address or as a name",
		"write|request|required|sets them: .soa has all fields as desired, and contact, which is rname as a mail address"),
	keys("poll", "", "done|jq|required|true at the end", "failed|jq|never|why it went wrong"),
	keys("look", "", "mark|jq|required|the change mark"),
	keys("steps", "In place of request: a list of requests; the last returns what the section is about.",
		"steps|list of requests||made one after the other",
		"take|names with jq|none|values of the answer that later steps use: {name}, {name.field} and $name",
		"undo|request|none|undoes the step where a later one fails",
		"commits|true, false|false|from here on what was begun counts, and is not undone"),
)

// keys reads rows of the reference: name, type, default and meaning with bars between them.
func keys(section, about string, rows ...string) (list []Key) {
	if about != "" {
		list = append(list, Key{Section: section, Means: about})
	}
	for _, row := range rows {
		f := strings.SplitN(row, "|", 4)
		list = append(list, Key{section, f[0], f[1], f[2], f[3]})
	}
	return list
}

// ReferenceText returns the reference as a page in Markdown.
func ReferenceText() string {
	var b strings.Builder
	b.WriteString("# Profile reference\n\nEvery key of a profile, made from the code. How to write one: [A provider of your own](write-a-profile.md).\n\n" +
		"In the tables, *jq* is an expression, *part* the name of a part of the credential, *host* that of a further address, *time span* is written like 2s.\n")
	section := ""
	for _, k := range Reference {
		if k.Section != section {
			section = k.Section
			fmt.Fprintf(&b, "\n## %s\n\n", section)
			if k.Name == "" {
				b.WriteString(k.Means + "\n\n")
			}
			b.WriteString("| key | is | default | means |\n|---|---|---|---|\n")
		}
		if k.Name != "" {
			fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", k.Name, k.Type, k.Default, k.Means)
		}
	}
	b.WriteString("\n## Variables\n\n" +
		"Every expression can use `$status` and `$headers` (lower-case names) of the answer, `$zone` (`id`, `name`, `fqdn`), of a list `$cursor` and\n" +
		"`$offset` (items of the pages before), `$request` (`method`, `path`, `body`), and what `let`, `take` and `for` named.\n")
	return b.String()
}
