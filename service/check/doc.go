// Package check looks at domains and keeps what it established.
//
// check.go makes one check: a sweep, the judgement, and the report that is kept of it; registration.go asks the registrar or the registry,
// vantage.go asks other instances how a domain looks from there, websites.go says which websites a zone has. brief.go looks at all domains
// briefly, every so often, and has those checked whose state changed. reports.go returns the newest report and its raw responses;
// settings.go holds how often and how.
//
// Users and programs are told of changes by package notify.
package check
