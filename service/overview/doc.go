// Package overview shows lists over rows of several rooms: zones with their placements (zones.go), domains with their state
// (domains.go), placements (placements.go) and accounts with what is placed there (accounts.go). It reads, and changes nothing.
package overview
