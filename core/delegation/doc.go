// Package delegation judges whether a domain is delegated as it should be and whether everybody can know it by now.
//
// It is pure: evidence (Sweep) and what earlier evidence established (History) go in, a Report and the next History
// come out. evidence.go says what was asked and answered; history.go remembers what has to be remembered between
// sweeps; bound.go computes when caches must have let go; judge.go puts the verdict together from the findings of
// registration.go, parents.go, glue.go, servers.go, zone.go, signatures.go, resolvers.go and places.go. sites.go hands what
// concerns the domain's sites to arrival.
//
// The rules of time are about caches that obey TTLs (RFC 1035, RFC 2181 section 8, RFC 2308). All times are simulated time.
package delegation
