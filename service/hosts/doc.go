// Package hosts lets names follow addresses that change. hosts.go and locations.go keep the settings of dynamic hosts, locations and their uplinks. reports.go takes what
// uplinks report, place.go makes of it what the hosts of a location have, commit.go stores that, and spread.go has it written to the providers behind the answer.
// Addresses are a layer on top of a zone's revision, and are synced ahead of anything else. update.go takes dynamic updates as reports; keys.go says whose uplinks are.
// arrivals.go follows a reported address until every nameserver serves it; views.go shows hosts and their reports.
package hosts
