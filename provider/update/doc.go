// Package update drives standard nameservers: dynamic update with prerequisites (RFC 2136), zone transfer in full and in
// differences (RFC 5936, RFC 1995), all signed with a shared key (RFC 8945), over TCP.
//
// The server owns the serial, the SOA and the apex NS set, and what it signs the zone with. A server may answer NOERROR and
// ignore a change (RFC 2136 section 3.4.2.2: a CNAME beside data, the last apex NS); so what was written is asked for
// afterwards on the same connection. Zones are made and removed in the server's own configuration.
package update
