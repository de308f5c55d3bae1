// Package sync makes live what is desired: it holds the desired records of a zone against what was placed at a provider and what
// the provider has now, and writes the difference.
//
// start.go asks for a sync; run.go reads, decides and writes until live is as desired, one sync a placement at a time; send.go sends
// one request after the other, each stored before it is sent, and finds out what became of those that broke off; served.go asks the
// nameservers afterwards. compare.go makes the comparison, live.go reads the live state, index.go knows which zones an account
// holds. drift.go looks for changes made elsewhere by schedule and does what the zone settings say of them, adopt.go takes them as
// desired. hosts.go follows the addresses that hosts reported on their way; views.go shows syncs and their requests.
//
// What else follows from what was written is for an Observer to do.
package sync
