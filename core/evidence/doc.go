// Package evidence defines what servers answered, when, and with which remaining TTL: the facts that all judgement rests on.
//
// evidence.go is a sweep: what parents and nameservers answered to one round of questions; resolvers.go is what caching resolvers
// answered. sets.go compares answers and reads them; sight.go leaves out what a machine without IPv6 cannot see; websites.go says
// where the answers lead for a website. Nothing is judged here.
//
// A sweep is stored, and travels from one instance to another, so it carries a Version.
package evidence
