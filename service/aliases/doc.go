// Package aliases keeps the addresses of the targets of ALIAS records. aliases.go asks for them as often as their TTLs say and keeps what was heard; a new answer is a layer on
// top of the zone's revision, and is synced ahead of anything else.
package aliases
