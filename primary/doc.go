// Package primary answers nameservers that fetch their zones from us: SOA, whole transfers and transfers of differences
// (RFC 5936, RFC 1995), signed with a shared key (RFC 8945), to exactly those whom a zone is for. It also sends and takes
// notifications (RFC 1996). What is published, and under which serial, others decide: a Source.
package primary
