// Package gather learns what a zone contains from what its nameservers, accounts and files have, before the domain moves. It is pure: it says what to ask
// next, and judges what came; asking is left to others.
//
// asking.go asks for names, and grows by those that it finds; names.go knows which names and types are worth a question, reply.go what an answer means, wildcard.go
// which names a wildcard stands behind. walk.go follows an NSEC chain, hashed.go counts an NSEC3 chain. source.go is what one way of looking found, and
// how complete it is; merge.go makes one zone of all sources, and lists what a user has to decide.
package gather
