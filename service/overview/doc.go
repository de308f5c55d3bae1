// Package overview shows lists over rows of several rooms: zones with their placements (zones.go), domains with their state
// (domains.go), placements (placements.go) and accounts with what is placed there (accounts.go). Its
// first page is today.go: what needs action, what is on its way, what ends soon, what was done. It reads; all it writes are samples of its own
// (samples.go), from which plots are drawn.
package overview
