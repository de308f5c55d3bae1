// Package accounts knows the connections to providers and registrars: their kinds, addresses and sealed credentials.
//
// kinds.go holds what accounts can be connected to: kinds that assembly registers, and kinds that a profile describes. drivers.go
// makes the driver of an account; pace.go keeps the requests of all its drivers within what the provider allows; use.go records each
// request in the logbook. accounts.go connects accounts and lists them, try.go makes the first requests with a credential, rotate.go
// gives an account another credential, renew.go seals all credentials with a new key, remote.go lists what an account holds, and
// conformance.go makes the conformance run. rows.go is how other rooms find accounts.
//
// What rests on an account belongs to rooms above: they tell through Parts which zones are placed there, and what to do when an
// account was added.
package accounts
