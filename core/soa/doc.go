// Package soa knows the parameters of a zone's SOA record (RFC 1035 section 3.3.13) that users decide about: its TTL, and all of its fields but the
// serial, which is the provider's. Parameters may be given in part: what is not given stays as it is at the provider.
//
// The fields have the names that RFC 9499 section 8 has for them. Nothing here reads or writes a zone.
package soa
