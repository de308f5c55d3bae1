// Package hosts lets names follow addresses that change. hosts.go adds and removes dynamic hosts, reports.go takes what they report with
// their tokens, aliases.go keeps the addresses of ALIAS targets. Both write layers on top of a zone's revision, and have them synced
// ahead of anything else. arrivals.go follows a reported address until every nameserver serves it; views.go shows hosts and their reports.
package hosts
