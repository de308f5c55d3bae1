// Package profile drives DNS providers over HTTP interfaces that are described in a file and need no code of their own.
//
// A profile is one YAML file: where requests go (URI Templates, RFC 6570), how the credential travels, how answers are
// turned into records and changes into bodies (jq), how lists go on, how errors and limits are told, and what the
// interface can do. Load reads one and reports every fault with its place (load.go, expect.go). New makes a driver of it
// for an account (driver.go). What expressions are given and what they give back is in shape.go.
//
// A profile reaches the account's address and nothing else: templates make paths, links to other hosts are refused, and
// the client follows no redirects.
package profile
