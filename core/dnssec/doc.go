// Package dnssec validates signed answers from the root's trust anchors down (RFC 4033 to 4035, 5155, 6840), and says of
// what does not validate why. It is pure: records and the time are arguments.
//
// records.go holds records as they came; algorithms.go says what can be verified and how strong it is; verify.go proves
// one record set; denial.go proves an absence; chain.go follows the links from the anchors to a zone.
package dnssec
