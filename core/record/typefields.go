package record

import "github.com/miekg/dns"

func number(name, label, explain, example string, most uint64, choices ...Choice) Field {
	return Field{Name: name, Label: label, Explain: explain, Kind: Number, Most: most, Example: example, Choices: choices}
}

func field(kind FieldKind, name, label, explain, example string) Field {
	return Field{Name: name, Label: label, Explain: explain, Kind: kind, Example: example}
}

func maybe(f Field) Field { f.Maybe = true; return f }

const (
	octet = 1<<8 - 1
	short = 1<<16 - 1
	long  = 1<<32 - 1
)

// Fields that several types share.
var (
	algorithm = number("algorithm", "Algorithm", "The algorithm of the key.", "13", octet,
		Choice{"8", "RSA with SHA-256"}, Choice{"13", "ECDSA P-256 with SHA-256"}, Choice{"14", "ECDSA P-384 with SHA-384"}, Choice{"15", "Ed25519"}, Choice{"16", "Ed448"})
	dsDigest = number("digest-type", "Digest type", "How the digest was made.", "2", octet, Choice{"2", "SHA-256"}, Choice{"4", "SHA-384"}, Choice{"1", "SHA-1, not to be used any more"})
	keyTag   = number("key-tag", "Key tag", "The number that finds the key faster.", "31589", short)
	dsFields = []Field{keyTag, algorithm, dsDigest, field(Octets, "digest", "Digest", "Digest of the key, in hexadecimal.", "2bb183af5f22588179a53b0a98631fad1a2921182bb183af5f22588179a53b0a")}
	keyField = []Field{number("flags", "Flags", "What the key is for.", "257", short, Choice{"257", "signs the keys (KSK)"}, Choice{"256", "signs the zone (ZSK)"}),
		number("protocol", "Protocol", "Always 3.", "3", octet), algorithm, field(Octets, "key", "Key", "The public key in base64.", "mdsswUyr3DPW132mOi8V9xESWE8jTo0d")}
	usage = []Field{
		number("usage", "Usage", "What the certificate is held against.", "3", octet, Choice{"3", "this certificate itself"}, Choice{"2", "an authority of one's own"}, Choice{"1", "this certificate, from a public authority"}, Choice{"0", "this public authority"}),
		number("selector", "Selector", "Which part of the certificate counts.", "1", octet, Choice{"1", "its public key"}, Choice{"0", "the whole certificate"}),
		number("matching", "Matching", "How it is written here.", "1", octet, Choice{"1", "as SHA-256"}, Choice{"2", "as SHA-512"}, Choice{"0", "in full"}),
		field(Octets, "certificate", "Certificate data", "The digest, or the data themselves, in hexadecimal.", "d2abde240d7cd3ee6b4b28c54df034b9d2abde240d7cd3ee6b4b28c54df034b9"),
	}
	service = []Field{
		number("priority", "Priority", "0 makes it an alias of the target; else the least is tried first.", "1", short),
		field(Host, "target", "Target", `The host that offers the service; "." for this name itself.`, "."),
		maybe(field(Rest, "parameters", "Parameters", "What a client should know before it connects, as key=value.", `alpn="h2,h3" port="8443"`)),
	}
)

// forms is the table of types with named fields.
var forms = []Form{
	{A, "The IPv4 address of a host.", "RFC 1035 section 3.4.1", []Field{field(Address, "address", "IPv4 address", "Only the address: no scheme, no port.", "192.0.2.40")}},
	{AAAA, "The IPv6 address of a host.", "RFC 3596", []Field{field(Address, "address", "IPv6 address", "Only the address, without brackets.", "2001:db8::40")}},
	{ALIAS, "This name has the addresses of another one. Unlike a CNAME it is allowed at the apex and beside other records; the service keeps the addresses right.", "ours",
		[]Field{field(Host, "target", "Target", "The name whose addresses this one follows.", "web")}},
	{CAA, "Which authorities may issue certificates for the name and those below it.", "RFC 8659", []Field{
		number("flags", "Flags", "128 makes the tag one that authorities must understand.", "0", octet, Choice{"0", "an ordinary tag"}, Choice{"128", "must be understood"}),
		{Name: "tag", Label: "Tag", Explain: "The property.", Kind: Word, Example: "issue", Choices: []Choice{{"issue", "may issue certificates"}, {"issuewild", "may issue wildcard certificates"}, {"iodef", "where violations are reported to"}}},
		field(Text, "value", "Value", "The authority's domain, “;” for none, or where to report to.", "ca.example")}},
	{Type(dns.TypeCDNSKEY), "The key that the parent should copy.", "RFC 7344", keyField},
	{Type(dns.TypeCDS), "The DS record that the parent should copy.", "RFC 7344", dsFields},
	{CNAME, "This name is another name for a host; no other record may be beside it.", "RFC 1034 section 3.6.2", []Field{field(Host, "target", "Target", "The host's own name. Without a final dot it lies in this zone.", "web")}},
	{Type(dns.TypeCSYNC), "What the parent should copy from this zone.", "RFC 7477", []Field{
		number("serial", "Serial", "The SOA serial from which on this holds.", "0", long),
		number("flags", "Flags", "1: immediately; 2: only from that serial on.", "1", short),
		field(Rest, "types", "Types", "The types to copy.", "NS A AAAA")}},
	{DNAME, "All names below this one are found below another.", "RFC 6672", []Field{field(Host, "target", "Target", "The name below which they are found.", "harbour.example.")}},
	{Type(dns.TypeDNSKEY), "A public key that signs the zone.", "RFC 4034 section 2", keyField},
	{DS, "Says to resolvers which key signs the delegated zone.", "RFC 4034 section 5", dsFields},
	{Type(dns.TypeHINFO), "The kind of a host; used to refuse questions for everything.", "RFC 1035 section 3.3.2, RFC 8482", []Field{
		field(Text, "cpu", "Processor", "Any text.", "RFC8482"), field(Text, "os", "Operating system", "Any text.", "any")}},
	{Type(dns.TypeHTTPS), "How a web browser should connect to the name.", "RFC 9460", service},
	{Type(dns.TypeLOC), "The location of the name on earth.", "RFC 1876", []Field{field(Rest, "location", "Location", "Latitude, longitude, height, and how exact they are.", "53 12 30.000 N 6 5 12.000 E 2.00m 1m 10000m 10m")}},
	{MX, "Which server receives mail for the name.", "RFC 1035 section 3.3.9", []Field{
		number("preference", "Preference", "The least is tried first.", "10", short),
		field(Host, "host", "Mail server", `The server's host name, never an address; "." for no mail at all.`, "mx1.post.example.")}},
	{Type(dns.TypeNAPTR), "A rule that rewrites a name, for telephony and other services.", "RFC 3403", []Field{
		number("order", "Order", "The lowest is tried first.", "100", short), number("preference", "Preference", "Among the same order, the least first.", "10", short),
		field(Text, "flags", "Flags", "What the result is.", "u"), field(Text, "service", "Service", "Which service is meant.", "E2U+sip"),
		field(Text, "regexp", "Expression", "How the name is rewritten.", "!^.*$!sip:desk@harbour.example!"),
		field(Host, "replacement", "Replacement", `The next name; "." where the expression says it.`, ".")}},
	{NS, "A nameserver of a zone that is delegated at this name.", "RFC 1035 section 3.3.11", []Field{field(Host, "host", "Nameserver", "The server's host name, never an address.", "ns1.harbour.example.")}},
	{Type(dns.TypeOPENPGPKEY), "An OpenPGP key of a mail address.", "RFC 7929", []Field{field(Octets, "key", "Key", "The key in base64.", "mQINBFUzQ2kBEACx")}},
	{PTR, "The name of an address, in a zone for reverse look-ups.", "RFC 1035 section 3.3.12", []Field{field(Host, "host", "Host", "The host that has the address.", "web.harbour.example.")}},
	{Type(dns.TypeRP), "Who answers for the name.", "RFC 1183", []Field{
		field(Host, "mailbox", "Mailbox", "A mail address with a dot for the @.", "admin.harbour.example."), field(Host, "text", "More", `A name with a TXT record that says more; "." for none.`, ".")}},
	{Type(dns.TypeSMIMEA), "A certificate that mail of an address is signed with.", "RFC 8162", usage},
	{SOA, "How a zone is kept: who answers for it, and how long its copies hold.", "RFC 1035 section 3.3.13", []Field{
		field(Host, "primary", "Primary", "The nameserver that the zone is kept at.", "ns1.harbour.example."),
		field(Host, "mailbox", "Mailbox", "Who answers for it: a mail address with a dot for the @.", "admin.harbour.example."),
		number("serial", "Serial", "Rises with every change.", "2026010100", long), number("refresh", "Refresh", "How often secondaries ask, in seconds.", "7200", long),
		number("retry", "Retry", "How soon they ask again after a failure, in seconds.", "900", long), number("expire", "Expire", "How long they go on without an answer, in seconds.", "1209600", long),
		number("minimum", "Minimum", "How long caches keep that a name does not exist, in seconds.", "300", long)}},
	{SRV, "Where a service is offered.", "RFC 2782", []Field{
		number("priority", "Priority", "The least is tried first.", "10", short), number("weight", "Weight", "Among the same priority: how much each gets of it.", "5", short),
		number("port", "Port", "The port that the service listens on.", "443", short),
		field(Host, "target", "Target", `The host that offers it; "." for nobody.`, "web")}},
	{Type(dns.TypeSSHFP), "The fingerprint of a host's SSH key.", "RFC 4255", []Field{
		number("algorithm", "Algorithm", "The kind of key.", "4", octet, Choice{"4", "Ed25519"}, Choice{"3", "ECDSA"}, Choice{"1", "RSA"}),
		number("digest-type", "Digest type", "How the fingerprint was made.", "2", octet, Choice{"2", "SHA-256"}, Choice{"1", "SHA-1"}),
		field(Octets, "fingerprint", "Fingerprint", "In hexadecimal.", "123456789abcdef67890123456789abcdef67890123456789abcdef123456789")}},
	{Type(dns.TypeSVCB), "How to connect to a service.", "RFC 9460", service},
	{Type(dns.TypeTLSA), "The certificate of a service.", "RFC 6698", usage},
	{TXT, "Text: policies for mail, proofs of ownership, notes.", "RFC 1035 section 3.3.14", []Field{field(Texts, "text", "Text", "Without quotes, of any length: it is cut into strings of 255 octets.", "v=spf1 mx -all")}},
	{Type(dns.TypeURI), "The address of a service.", "RFC 7553", []Field{
		number("priority", "Priority", "The least is tried first.", "10", short), number("weight", "Weight", "Among the same priority: how much each gets of it.", "1", short),
		field(Text, "target", "Address", "The whole address, with its scheme.", "https://harbour.example/timetable")}},
}
