// Package zones knows what zones should contain. Every new revision goes through revise.go, whatever it comes from: a definition, an
// import (import.go), an earlier revision (revisions.go), a draft (drafts.go) or a bulk change (replace.go). A zone that definition
// files manage refuses all others there, until a user detaches it.
//
// layers.go puts on top of a revision what somebody else owns: addresses that hosts reported, and answers for ALIAS records.
// definitions.go writes a zone's definition back out, with the kits that fit,
// housekit.go one for a new zone. settings.go holds what a definition says of a zone besides its records. search.go finds records
// in all zones, by rows that rows.go keeps up with the revisions.
//
// Nothing here writes to a provider.
package zones
