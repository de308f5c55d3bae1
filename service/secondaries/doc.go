// Package secondaries is ourselves as hidden primary: an account whose nameservers fetch their zones from here.
//
// kind.go is the kind of such accounts and how their address is written. publisher.go is the driver: it publishes versions into our own
// database, each under the next serial and kept before any secondary gets it, so that all instances serve the same. transfers.go
// serves them; notify.go tells the secondaries until all of them have the serial. A notification that reaches us from a nameserver
// that we write to has its zone looked at.
package secondaries
