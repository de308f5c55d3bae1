// Package soa knows the parameters of a zone's SOA record (RFC 1035 section 3.3.13) that people decide about: all of its fields but the serial,
// which belongs to whoever serves the zone, and its TTL. Parameters may be given in part: what is not given stays as it is at the provider.
//
// The fields have the names that RFC 9499 section 8 has for them. Nothing here reads or writes a zone.
package soa
