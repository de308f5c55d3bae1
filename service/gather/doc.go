// Package gather finds out what a domain's zone contains where it is served now, before it moves: from the connected account, a transfer, the NSEC chain, a zone file, or by
// asking. It reads, and writes nothing outside.
//
// begin.go stores what is asked for; run.go reads all sources in the background, and keeps what they have; show.go is what users see of it; accept.go makes it desired
// records. holder.go returns who holds a domain, generate.go
// writes a definition of a zone as it is elsewhere.
package gather
