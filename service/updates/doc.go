// Package updates takes dynamic updates (RFC 2136) of names that follow an address, beside the reports over HTTP.
//
// keys.go adds, lists and removes the TSIG keys that sign them: each is of one uplink, and its updates are reports of that uplink. listen.go is what the listener of
// zones for secondaries asks here: whose a key is, which zones it has hosts in, and what an update is answered. What an update says is decided in core/update, and
// what becomes of it in the room of hosts.
package updates
